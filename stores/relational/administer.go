package relational

import (
	"cmp"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"time"

	"github.com/go-sql-driver/mysql"
)

// administration is how long a statement may take that changes tables: an index is made of all
// records.
const administration = time.Hour

// Administered opens a database so that its tables can be changed. A file of SQLite that is not
// there is made.
func Administered(c Config) (*sql.DB, error) {
	kind := databases[cmp.Or(c.Kind, Postgres)]
	if kind == nil {
		return nil, fmt.Errorf("there is no relational database of the kind %q", c.Kind)
	}
	c.Timeout = administration
	switch c.Kind {
	case MySQL:
		cfg, err := mysqlConfig(c.URL)
		if err != nil {
			return nil, err
		}
		cfg.ParseTime = true
		connector, err := mysql.NewConnector(cfg)
		if err != nil {
			return nil, errors.New("the address cannot be used")
		}
		return sql.OpenDB(connector), nil
	case SQLite:
		return sqliteAt(sqliteFile(&c), url.Values{"_pragma": {"busy_timeout(5000)", "foreign_keys(1)"}, "mode": {"rwc"}}).DB, nil
	}
	db, err := kind.open(&c)
	if err != nil {
		return nil, err
	}
	return db.DB, nil
}
