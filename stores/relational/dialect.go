package relational

import (
	"context"

	"github.com/jmoiron/sqlx"

	"osprey/core/store"
)

// A database is all that is a kind of database's own. What differs between them
// stands here, and in one file for each.
type database struct {
	dialect
	// union is the SQL of a database that knows LATERAL, and whose rows come in the order
	// of the SELECT that they are of, also out of a UNION ALL and a join: the reads of a
	// request are one statement, on the driver's own connection, and values come in a
	// binary form. windowed is that of one of which each branch is a statement, and
	// values come from database/sql as text. Each is nil of the others.
	union    unionDialect
	windowed windowDialect
	// writing is how it is written to.
	writing writeDialect
	// transaction is how one begins and ends in which all statements see one state, and
	// dead reports whether an error says that a connection was.
	transaction transactionWords
	dead        func(err error) bool

	// open makes the pool, without connecting.
	open func(c *Config) (*sqlx.DB, error)
	// ready says why the database cannot be asked at all; nil if there is nothing
	// that could be.
	ready func(c *Config) error
	// catalogue asks the database for its tables and views.
	catalogue func(ctx context.Context, db *sqlx.DB) (*store.Catalogue, error)
	// quiet reports whether the server does not say what it adds and removes; nil if all do.
	quiet func(ctx context.Context, db *sqlx.DB) (bool, error)
	// signals reports whether the database is set up to tell when its tables change, and listen hears
	// it, as [store.Signaller] does; nil of one that cannot.
	signals func(ctx context.Context, db *sqlx.DB) (bool, error)
	listen  func(ctx context.Context, c *Config, heard func()) error
	// fail turns an error of the database's own into one of the port; nil if it is
	// none.
	fail func(err error) *store.Error
}

// databases are the kinds that there are.
var databases = map[string]*database{Postgres: postgres, MySQL: mysqlDatabase, SQLite: sqliteDatabase}

// lateral reports whether the reads of a request are one statement.
func (d *database) lateral() bool { return d.union != nil }

// A dialect is the SQL of a kind of database.
type dialect interface {
	quote(name string) string
	// typed completes what a value inside a column of JSON is when it is used as of its
	// kind, and inside writes it, of the row that is called alias.
	typed(f, column *store.Field)
	inside(alias string, f *store.Field) string
	// equalForm writes that an indexed expression has a value, or one of many, that are
	// given, or of another row.
	equalForm(form, value string, many bool) string
	sent(expr string, o *out) string
	aggregate(t store.Aggregate, expr string, f *store.Field) string
	// param writes the n-th parameter.
	param(n int, p *param) string
	// equals writes that a field's value is one that is given, and anyOf that it is one
	// of many, which are one parameter.
	equals(own, value string, f *store.Field, kind store.Kind) string
	anyOf(own, values string, f *store.Field, kind store.Kind) string
	// holds writes that a list, or a list in JSON, holds one of many keys, which are a
	// parameter that add writes.
	holds(own string, f *store.Field, keys param, add func(param) string) string
	// meet writes that a field's value, which is looked for, is that of another.
	meet(there string, f *store.Field, here string, other *store.Field) string
	// ordered writes a field's value so that it can be put in order and compared, and
	// orderedBy a value that is given to be compared with that.
	ordered(own string, f *store.Field, kind store.Kind) string
	orderedBy(value string, f *store.Field) string
	// bytes writes a text so that it is put in order by its bytes.
	bytes(own string) string
	// same is the operator that takes NULL for equal to NULL.
	same() string
	// within writes what a text has in it, letter by letter.
	within(op store.Op, own string, value func() string) string
	order(expr string, o store.Order, nullable bool) string
	decoder(f *store.Field, w *store.Wanted) decoder
}

// A unionDialect is the SQL of a database of which all reads are one statement.
type unionDialect interface {
	// intType and typeOf name the types in which values are sent; values of one
	// type share their place in the rows of a UNION ALL.
	intType() string
	typeOf(t store.Aggregate, f *store.Field) string
	null(typ string) string
	readInt(v []byte) (int64, error)
}

// A windowDialect is the SQL by which a database does without LATERAL.
type windowDialect interface {
	// weigh returns how the values of two texts, the second of which is looked for, are
	// written so that their bytes are equal just if the database takes the texts for
	// equal; nil if they are so as they are.
	weigh(here, there *store.Field) (weighHere, weighThere func(expr string) string)
	// anyOfKeys writes that values are one of many combinations.
	anyOfKeys(fields []keyField, values string) string
	// given writes a value that is given to be compared with a field, and value returns
	// it in the form in which the database takes it for equal.
	given(value string, f *store.Field, kind store.Kind) string
	// text writes a parameter, once or several times, for a text to be compared with a
	// field.
	text(given string, f *store.Field) string
	value(v any, f *store.Field) any
	// inline reports whether many values are parameters of their own; else they are
	// one, a JSON array.
	inline() bool
}
