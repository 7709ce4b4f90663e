package peers

import (
	"context"
	"database/sql"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	_ "github.com/go-sql-driver/mysql" // the drivers of what is opened
	_ "modernc.org/sqlite"
)

// This file has the handlers for databases that are asked over database/sql: MariaDB
// and SQLite, with the same tables. As there is no form in which raw values come, the
// ways to write such a handler are fewer.

// A PlainPeer is one way to write the handlers of the board, and of nested lists.
type PlainPeer struct {
	Name, Title string
	// Board writes the arrivals board; Nested, lists in lists: calls, their craft, the
	// craft's latest call, its craft and so on.
	Board  func(ctx context.Context, db *sql.DB, w http.ResponseWriter, limit int) error
	Nested func(ctx context.Context, db *sql.DB, w http.ResponseWriter, limit, levels int) error
}

// Plain are the peers of databases over database/sql.
var Plain = []PlainPeer{
	{Name: "plain-levels", Title: "a query per level, structs, encoding/json", Board: plainLevels, Nested: plainNested},
	{Name: "plain-joined", Title: "what is one joined, a query per list, append writer", Board: plainJoined, Nested: plainNestedJoined},
}

// Handler serves the peer as [Peer.Handler] does.
func (p *PlainPeer) Handler(db *sql.DB) http.Handler {
	return serve(func(r *http.Request, w http.ResponseWriter, limit int) error {
		if text := r.URL.Query().Get("levels"); text != "" {
			levels, err := strconv.Atoi(text)
			if err != nil {
				return err
			}
			return p.Nested(r.Context(), db, w, limit, levels)
		}
		return p.Board(r.Context(), db, w, limit)
	})
}

const plainCalls = `SELECT id, arrived_at, departed_at, purpose, cargo_t, craft_imo, quay_code, berth_number FROM port_calls ORDER BY arrived_at DESC, id LIMIT ?`

// moment reads a moment as the drivers give it.
func moment(v any) (time.Time, error) {
	switch v := v.(type) {
	case time.Time:
		return v.UTC(), nil
	case []byte:
		return time.Parse("2006-01-02 15:04:05", string(v))
	case string:
		return time.Parse("2006-01-02 15:04:05", v)
	}
	return time.Time{}, fmt.Errorf("%v is no moment", v)
}

func plainCall(scan func(...any) error, more ...any) (*portCall, error) {
	c := &portCall{}
	var arrived, departed any
	if err := scan(append([]any{&c.ID, &arrived, &departed, &c.Purpose, &c.CargoT, &c.craftIMO, &c.quayCode, &c.berthNumber}, more...)...); err != nil {
		return nil, err
	}
	var err error
	if c.ArrivedAt, err = moment(arrived); err != nil {
		return nil, err
	}
	if departed != nil {
		at, err := moment(departed)
		if err != nil {
			return nil, err
		}
		c.DepartedAt = &at
	}
	c.finish()
	return c, nil
}

// each runs a query and has every row read.
func each(ctx context.Context, db *sql.DB, text string, args []any, read func(scan func(...any) error) error) error {
	rows, err := db.QueryContext(ctx, text, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		if err := read(rows.Scan); err != nil {
			return err
		}
	}
	return rows.Err()
}

// among writes so many parameters.
func among(n int) string {
	if n == 0 {
		return "(NULL)"
	}
	return "(?" + strings.Repeat(",?", n-1) + ")"
}

// distinct returns the distinct ones of some keys, as arguments.
func distinct[T any, K comparable](list []T, key func(T) (K, bool)) (args []any) {
	seen := map[K]bool{}
	for _, item := range list {
		if k, ok := key(item); ok && !seen[k] {
			seen[k] = true
			args = append(args, k)
		}
	}
	return args
}

func plainLevels(ctx context.Context, db *sql.DB, w http.ResponseWriter, limit int) error {
	var calls []*portCall
	byID := map[int64]*portCall{}
	if err := each(ctx, db, plainCalls, []any{limit}, func(scan func(...any) error) error {
		c, err := plainCall(scan)
		if err == nil {
			calls, byID[c.ID] = append(calls, c), c
		}
		return err
	}); err != nil {
		return err
	}
	fleet, owners := map[int32]*craft{}, map[int32]*operator{}
	imos := distinct(calls, func(c *portCall) (int32, bool) { return c.craftIMO, true })
	var list []*craft
	if err := each(ctx, db, "SELECT imo, craft_type, name, length_m, operator_id FROM craft WHERE imo IN "+among(len(imos)), imos, func(scan func(...any) error) error {
		c := &craft{}
		err := scan(c.scanned()...)
		c.Type = craftTypes[c.Type]
		fleet[c.IMO], list = c, append(list, c)
		return err
	}); err != nil {
		return err
	}
	ids := distinct(list, func(c *craft) (int32, bool) { return c.operatorID, true })
	if err := each(ctx, db, "SELECT id, name, country FROM operators WHERE id IN "+among(len(ids)), ids, func(scan func(...any) error) error {
		o := &operator{}
		err := scan(o.scanned()...)
		owners[o.ID] = o
		return err
	}); err != nil {
		return err
	}
	quays := distinct(calls, func(c *portCall) (string, bool) {
		if c.quayCode == nil {
			return "", false
		}
		return *c.quayCode, true
	})
	berths := map[berthKey]*berth{}
	if err := each(ctx, db, "SELECT quay_code, number, name, length_m FROM berths WHERE quay_code IN "+among(len(quays)), quays, func(scan func(...any) error) error {
		b := &berth{}
		var quay string
		err := scan(&quay, &b.Number, &b.Name, &b.LengthM)
		berths[berthKey{quay, b.Number}] = b
		return err
	}); err != nil {
		return err
	}
	if err := plainPilots(ctx, db, calls, func(call int64, p *pilot) { byID[call].Pilots = append(byID[call].Pilots, p) }); err != nil {
		return err
	}
	for _, c := range calls {
		c.Craft = fleet[c.craftIMO]
		c.Craft.Operator = owners[c.Craft.operatorID]
		if c.quayCode != nil {
			c.Berth = berths[berthKey{*c.quayCode, *c.berthNumber}]
		}
	}
	return write(w, calls)
}

func plainPilots(ctx context.Context, db *sql.DB, calls []*portCall, add func(call int64, p *pilot)) error {
	ids := distinct(calls, func(c *portCall) (int64, bool) { return c.ID, true })
	return each(ctx, db, "SELECT DISTINCT m.call_id, p.id, p.name, p.licence FROM pilotage m JOIN pilots p ON p.id = m.pilot_id WHERE m.call_id IN "+among(len(ids))+" ORDER BY p.name, p.id", ids,
		func(scan func(...any) error) error {
			p := &pilot{}
			var call int64
			err := scan(&call, &p.ID, &p.Name, &p.Licence)
			add(call, p)
			return err
		})
}

// plainJoined joins what is one for each call, and writes without encoding/json.
func plainJoined(ctx context.Context, db *sql.DB, w http.ResponseWriter, limit int) error {
	var calls []*portCall
	byID := map[int64]*portCall{}
	const text = `SELECT p.id, p.arrived_at, p.departed_at, p.purpose, p.cargo_t, p.craft_imo, p.quay_code, p.berth_number,
  c.craft_type, c.name, c.length_m, o.id, o.name, o.country, b.number, b.name, b.length_m
FROM (SELECT * FROM port_calls ORDER BY arrived_at DESC, id LIMIT ?) p JOIN craft c ON c.imo = p.craft_imo JOIN operators o ON o.id = c.operator_id
  LEFT JOIN berths b ON b.quay_code = p.quay_code AND b.number = p.berth_number ORDER BY p.arrived_at DESC, p.id`
	if err := each(ctx, db, text, []any{limit}, func(scan func(...any) error) error {
		own := &craft{Operator: &operator{}}
		var number *int32
		var name *string
		var length *float64
		c, err := plainCall(scan, &own.Type, &own.Name, &own.LengthM, &own.Operator.ID, &own.Operator.Name, &own.Operator.Country, &number, &name, &length)
		if err != nil {
			return err
		}
		own.IMO, own.Type = c.craftIMO, craftTypes[own.Type]
		c.Craft = own
		if number != nil {
			c.Berth = &berth{*number, *name, *length}
		}
		calls, byID[c.ID] = append(calls, c), c
		return nil
	}); err != nil {
		return err
	}
	if err := plainPilots(ctx, db, calls, func(call int64, p *pilot) { byID[call].Pilots = append(byID[call].Pilots, p) }); err != nil {
		return err
	}
	b := append(make([]byte, 0, 64+400*len(calls)), `{"data":{"portCalls":[`...)
	for i, c := range calls {
		if i > 0 {
			b = append(b, ',')
		}
		b = appendPlainCall(b, c)
	}
	_, err := w.Write(append(b, "]}}"...))
	return err
}

func appendPlainCall(b []byte, c *portCall) []byte {
	b = append(b, `{"id":"`...)
	b = strconv.AppendInt(b, c.ID, 10)
	b = append(b, `","arrivedAt":"`...)
	b = c.ArrivedAt.AppendFormat(b, time.RFC3339Nano)
	b = append(b, `","departedAt":`...)
	if c.DepartedAt == nil {
		b = append(b, "null"...)
	} else {
		b = append(c.DepartedAt.AppendFormat(append(b, '"'), time.RFC3339Nano), '"')
	}
	b = append(append(append(b, `,"purpose":"`...), c.Purpose...), `","cargoT":`...)
	if c.CargoT == nil {
		b = append(b, "null"...)
	} else {
		b = append(append(append(b, '"'), *c.CargoT...), '"')
	}
	o := c.Craft.Operator
	b = append(append(append(b, `,"craft":{"__typename":"`...), c.Craft.Type...), `","imo":"`...)
	b = strconv.AppendInt(b, int64(c.Craft.IMO), 10)
	b = strconv.AppendQuote(append(b, `","name":`...), c.Craft.Name)
	b = strconv.AppendFloat(append(b, `,"lengthM":`...), c.Craft.LengthM, 'f', -1, 64)
	b = strconv.AppendInt(append(b, `,"operator":{"id":"`...), int64(o.ID), 10)
	b = strconv.AppendQuote(append(b, `","name":`...), o.Name)
	b = strconv.AppendQuote(append(b, `,"country":`...), o.Country)
	b = append(b, `}},"berth":`...)
	if c.Berth == nil {
		b = append(b, "null"...)
	} else {
		b = strconv.AppendInt(append(b, `{"number":`...), int64(c.Berth.Number), 10)
		b = strconv.AppendQuote(append(b, `,"name":`...), c.Berth.Name)
		b = append(strconv.AppendFloat(append(b, `,"lengthM":`...), c.Berth.LengthM, 'f', -1, 64), '}')
	}
	b = append(b, `,"pilots":[`...)
	for i, p := range c.Pilots {
		if i > 0 {
			b = append(b, ',')
		}
		b = strconv.AppendInt(append(b, `{"id":"`...), int64(p.ID), 10)
		b = strconv.AppendQuote(append(b, `","name":`...), p.Name)
		b = append(strconv.AppendQuote(append(b, `,"licence":`...), p.Licence), '}')
	}
	return append(b, "]}"...)
}
