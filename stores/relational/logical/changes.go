package logical

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"reflect"
	"strings"

	"github.com/jackc/pglogrepl"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgtype"

	"osprey/core/store"
)

// This file makes events of the messages of pgoutput (section 53.9 of PostgreSQL's documentation), whose values are
// text as the types write it. The database itself makes JSON of them: what is told is what its triggers would note.

// A table is one of the publication, as it was when the changes were made.
type table struct {
	name    string
	quoted  string
	columns []*pglogrepl.RelationMessageColumn
	json    []bool // of the columns
}

// A change is a changed row.
type change struct {
	table       *table
	of          uint32 // the lower half of the number of its transaction
	what        store.What
	emptied     bool
	before, now *pglogrepl.TupleData
	whole       bool // before has all columns, and not those of the key alone
	logged      logged
	was, is     map[string]any
}

// note notes a message of the log.
func (r *reader) note(ctx context.Context, m pglogrepl.Message) error {
	switch m := m.(type) {
	case *pglogrepl.BeginMessage:
		r.commit, r.when, r.count, r.of = m.FinalLSN, m.CommitTime, 0, m.Xid
	case *pglogrepl.CommitMessage:
		r.commit = 0
		if end := (position{system: r.system, lsn: m.TransactionEndLSN}); len(r.rows) > 0 {
			r.rows[len(r.rows)-1].logged.behind = end
		} else {
			r.keep(nil, end)
		}
	case *pglogrepl.RelationMessage:
		return r.know(ctx, m)
	case *pglogrepl.InsertMessage:
		r.add(m.RelationID, change{what: store.WasAdded, now: m.Tuple})
	case *pglogrepl.UpdateMessage:
		r.add(m.RelationID, change{what: store.WasChanged, before: m.OldTuple, now: m.NewTuple, whole: m.OldTupleType == pglogrepl.UpdateMessageTupleTypeOld})
	case *pglogrepl.DeleteMessage:
		r.add(m.RelationID, change{what: store.WasRemoved, before: m.OldTuple, whole: m.OldTupleType == pglogrepl.DeleteMessageTupleTypeOld})
	case *pglogrepl.TruncateMessage:
		for _, id := range m.RelationIDs {
			r.add(id, change{emptied: true})
		}
	}
	return nil
}

// know notes what a table is called, and which columns it has.
func (r *reader) know(ctx context.Context, m *pglogrepl.RelationMessage) error {
	t := &table{name: m.RelationName, quoted: pgx.Identifier{m.Namespace, m.RelationName}.Sanitize(), columns: m.Columns, json: make([]bool, len(m.Columns))}
	r.tables[m.RelationID] = t
	asking, cancel := context.WithTimeout(ctx, r.log.timeout)
	defer cancel()
	var types []uint32
	err := r.log.db.SelectContext(asking, &types, "SELECT oid FROM pg_type WHERE oid = $1 OR oid = $2 OR typbasetype IN ($1, $2)", pgtype.JSONOID, pgtype.JSONBOID)
	for i, c := range m.Columns {
		for _, of := range types {
			t.json[i] = t.json[i] || of == c.DataType
		}
	}
	return err
}

// add adds a change to those that wait to be told.
func (r *reader) add(id uint32, c change) {
	if c.table = r.tables[id]; c.table == nil {
		return // which the database has told of before any change of it
	}
	c.of = r.of
	c.logged = logged{at: position{system: r.system, lsn: r.commit, n: r.count}, when: r.when}
	c.logged.behind = position{system: r.system, lsn: r.commit, n: r.count + 1}
	r.count++
	r.rows = append(r.rows, &c)
}

// tell tells the changes that wait.
func (r *reader) tell(ctx context.Context, tell func(store.Batch) error) error {
	rows := r.rows
	r.rows = nil
	known, err := r.convert(ctx, rows)
	if err == nil {
		err = r.seen(ctx, rows, known)
	}
	if err != nil {
		return err
	}
	var list []logged
	for _, c := range rows {
		if c.emptied {
			c.logged.emptied = c.table.name
		} else if !c.event() {
			continue
		}
		list = append(list, c.logged)
	}
	from, to := r.at, rows[len(rows)-1].logged.behind
	r.keep(list, to)
	if to.before(from) {
		return nil // who hears knows of it
	}
	r.at = to
	return tell(batchOf(list, from, to))
}

// convert has the database make JSON of changed rows, and returns what can be seen meanwhile.
func (r *reader) convert(ctx context.Context, rows []*change) (known snapshot, err error) {
	of := map[*table][]*change{}
	for _, c := range rows {
		if !c.emptied {
			of[c.table] = append(of[c.table], c)
		}
	}
	for t, list := range of {
		var texts bytes.Buffer
		texts.WriteByte('[')
		var into []*map[string]any
		add := func(row map[string]json.RawMessage, target *map[string]any) error {
			text, err := json.Marshal(row)
			if err != nil {
				return err
			}
			if len(into) > 0 {
				texts.WriteByte(',')
			}
			texts.Write(text)
			into = append(into, target)
			return nil
		}
		for _, c := range list {
			if c.before != nil {
				if err := add(c.row(c.before, c.whole), &c.was); err != nil {
					return known, err
				}
			}
			if c.now != nil {
				if err := add(c.row(c.now, true), &c.is); err != nil {
					return known, err
				}
			}
		}
		texts.WriteByte(']')
		now, err := r.convertTexts(ctx, t, texts.String(), into)
		if err == nil {
			known = now
			continue
		}
		if own := new(pgconn.PgError); !errors.As(err, &own) || own.Code[:2] != "42" && own.Code[:2] != "22" {
			return known, err
		}
		for _, c := range list { // the table is another one now
			c.emptied = true
		}
	}
	return known, nil
}

// convertTexts has the database make JSON of rows of a table, which are an array of objects of texts, and returns what
// can be seen meanwhile.
func (r *reader) convertTexts(ctx context.Context, t *table, texts string, into []*map[string]any) (known snapshot, err error) {
	asking, cancel := context.WithTimeout(ctx, r.log.timeout)
	defer cancel()
	var now, made string
	err = r.log.db.QueryRowContext(asking,
		// Columns that were not sent, since they are computed, or of the key alone is told, are left out again.
		"SELECT pg_current_snapshot()::text, coalesce(json_agg((SELECT coalesce(jsonb_object_agg(key, value), '{}') FROM jsonb_each(to_jsonb(jsonb_populate_record(NULL::"+t.quoted+", e))) WHERE e ? key) ORDER BY n), '[]')::text FROM jsonb_array_elements($1::jsonb) WITH ORDINALITY x(e, n)", texts).Scan(&now, &made)
	if err != nil {
		return known, err
	}
	var rows []map[string]any
	d := json.NewDecoder(strings.NewReader(made))
	d.UseNumber()
	if err := d.Decode(&rows); err != nil {
		return known, err
	}
	for i, row := range rows {
		*into[i] = row
	}
	return snapshotOf(now), nil
}

// row returns the values of a row as JSON: those that are JSON, and texts. Of one that has the key alone, whole is false. What
// is stored apart and has not changed is not sent; it is what it was.
func (c *change) row(tuple *pglogrepl.TupleData, whole bool) map[string]json.RawMessage {
	row := map[string]json.RawMessage{}
	for i, column := range c.table.columns {
		if i >= len(tuple.Columns) || !whole && column.Flags&1 == 0 {
			continue
		}
		value := tuple.Columns[i]
		if value.DataType == pglogrepl.TupleDataTypeToast && c.whole && i < len(c.before.Columns) {
			value = c.before.Columns[i]
		}
		switch {
		case value.DataType == pglogrepl.TupleDataTypeToast:
		case value.DataType == pglogrepl.TupleDataTypeNull:
			row[column.Name] = json.RawMessage("null")
		case c.table.json[i]:
			row[column.Name] = value.Data
		default:
			text, _ := json.Marshal(string(value.Data)) // a text has a form in JSON
			row[column.Name] = text
		}
	}
	return row
}

// event makes the event of a change; false if nothing has changed.
func (c *change) event() bool {
	e := &c.logged.event
	*e = store.Event{ID: c.logged.at.id(), Set: c.table.name, What: c.what, Key: c.is}
	if c.whole {
		e.Before = c.was
	}
	switch {
	case c.what == store.WasRemoved:
		e.Key = c.was
	case c.what == store.WasChanged && c.whole:
		e.Fields = []string{}
		for name, now := range c.is {
			if !reflect.DeepEqual(now, c.was[name]) {
				e.Fields = append(e.Fields, name)
			}
		}
		return len(e.Fields) > 0
	}
	return true
}
