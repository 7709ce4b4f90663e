package demo

import (
	"context"
	_ "embed"
	"encoding/binary"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"go.mongodb.org/mongo-driver/v2/bson"
	"go.mongodb.org/mongo-driver/v2/mongo"
	"go.mongodb.org/mongo-driver/v2/mongo/options"

	watching "osprey/core/tables"
)

//go:embed tables.sql
var tables string

// loadRegistry fills the relational database, unless it holds the harbour of
// this version and scale already. Data of an older version is replaced where
// the database is the demo's own.
func loadRegistry(ctx context.Context, address string, scale int, own bool, data func() *port) error {
	conn, err := pgx.Connect(ctx, address)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	var version, has int
	err = conn.QueryRow(ctx, `SELECT version, scale FROM harbour_seed`).Scan(&version, &has)
	if err == nil && (version == seedVersion && has == scale || !own) {
		return nil
	}
	if own {
		if _, err := conn.Exec(ctx, `DROP SCHEMA public CASCADE; CREATE SCHEMA public; DROP SCHEMA IF EXISTS osprey_events CASCADE`); err != nil {
			return err
		}
	}
	tx, err := conn.Begin(ctx)
	if err != nil {
		return err
	}
	defer tx.Rollback(ctx)
	if _, err := tx.Exec(ctx, tables); err != nil {
		return fmt.Errorf("the tables cannot be created: %w", err)
	}
	if err := copyPort(ctx, tx, data()); err != nil {
		return err
	}
	// As osprey tables watch registry PortCall Due does it.
	for _, step := range watching.Watching([]watching.WatchedSet{{Table: "port_calls", Key: []string{"id"}}, {Table: "dues", Key: []string{"id"}}}, false).Steps {
		for _, statement := range step.Up {
			if _, err := tx.Exec(ctx, statement); err != nil {
				return fmt.Errorf("%s: %w", step.What, err)
			}
		}
	}
	if _, err := tx.Exec(ctx, `INSERT INTO harbour_seed VALUES ($1, $2)`, seedVersion, scale); err != nil {
		return err
	}
	if err := tx.Commit(ctx); err != nil {
		return err
	}
	_, err = conn.Exec(ctx, `ANALYZE`)
	return err
}

func copyPort(ctx context.Context, tx pgx.Tx, p *port) error {
	for _, t := range []struct {
		table   string
		columns string
		n       int
		row     func(i int) []any
	}{
		{"operators", "id name country parent_id billing_token", len(p.operators), func(i int) []any {
			o := &p.operators[i]
			return []any{o.id, o.name, o.country, o.parent, o.token}
		}},
		{"craft", "imo craft_type name length_m draught_dm built_on operator_id tow_imo deadweight_t containers double_hull passengers cars bollard_pull_t fittings", len(p.craft), func(i int) []any {
			c := &p.craft[i]
			return []any{c.imo, c.kind, c.name, c.length, c.draught, c.built, c.operator, c.tow, c.deadweight, c.containers, c.doubleHull, c.passengers, c.cars, c.pull, c.fittings}
		}},
		{"quays", "code name station_code", len(p.quays), func(i int) []any {
			q := &p.quays[i]
			return []any{q.code, q.name, q.station}
		}},
		{"berths", "quay_code number name length_m max_draught_dm", len(p.berths), func(i int) []any {
			b := &p.berths[i]
			return []any{b.quay, b.number, b.name, b.length, b.draught}
		}},
		{"port_calls", "id craft_imo quay_code berth_number arrived_at departed_at purpose cargo_t", len(p.calls), func(i int) []any {
			c := &p.calls[i]
			return []any{c.id, c.craft, c.quay, c.berth, c.arrived, c.left, c.purpose, c.cargo}
		}},
		{"pilots", "id name licence", len(p.pilots), func(i int) []any {
			x := &p.pilots[i]
			return []any{x.id, x.name, x.licence}
		}},
		{"pilotage", "id call_id pilot_id role boarded_at", len(p.pilotage), func(i int) []any {
			x := &p.pilotage[i]
			return []any{x.id, x.call, x.pilot, x.role, x.boarded}
		}},
		{"people", "login name email operator_id pilot_id", len(p.people), func(i int) []any {
			x := &p.people[i]
			return []any{x.login, x.name, x.email, x.operator, x.pilot}
		}},
		{"dues", "id operator_id call_id amount paid_on", len(p.dues), func(i int) []any {
			x := &p.dues[i]
			return []any{x.id, x.operator, x.call, x.amount, x.paid}
		}},
	} {
		rows := pgx.CopyFromSlice(t.n, func(i int) ([]any, error) { return t.row(i), nil })
		if _, err := tx.CopyFrom(ctx, pgx.Identifier{t.table}, strings.Fields(t.columns), rows); err != nil {
			return fmt.Errorf("table %s: %w", t.table, err)
		}
	}
	for _, table := range []string{"port_calls", "pilots", "pilotage"} { // whose new records go on from there
		if _, err := tx.Exec(ctx, `SELECT setval(pg_get_serial_sequence($1, 'id'), (SELECT max(id) FROM `+pgx.Identifier{table}.Sanitize()+`))`, table); err != nil {
			return fmt.Errorf("table %s: %w", table, err)
		}
	}
	return nil
}

// loadInspections fills the document database, as [loadRegistry] does.
func loadInspections(ctx context.Context, address string, scale int, own bool, data func() *port) error {
	u, err := url.Parse(address)
	if err != nil {
		return err
	}
	client, err := mongo.Connect(options.Client().ApplyURI(address).SetServerSelectionTimeout(10 * time.Second))
	if err != nil {
		return err
	}
	defer client.Disconnect(ctx)
	db := client.Database(strings.Trim(u.Path, "/"))
	var seed struct{ Version, Scale int }
	err = db.Collection("seed").FindOne(ctx, bson.D{}).Decode(&seed)
	switch {
	case err == nil && (seed.Version == seedVersion && seed.Scale == scale || !own):
		return nil
	case err != nil && !errors.Is(err, mongo.ErrNoDocuments):
		return err
	}
	if own {
		if err := db.Drop(ctx); err != nil {
			return err
		}
	}
	p := data()
	for name, docs := range map[string][]any{"inspections": inspectionDocs(p), "incidents": incidentDocs(p), "manifests": manifestDocs(p)} {
		for len(docs) > 0 {
			n := min(len(docs), 500)
			if _, err := db.Collection(name).InsertMany(ctx, docs[:n]); err != nil {
				return fmt.Errorf("collection %s: %w", name, err)
			}
			docs = docs[n:]
		}
	}
	for name, fields := range map[string][]string{"inspections": {"craft.imo", "callId"}, "incidents": {"callId", "subjectId"}, "manifests": {"callId"}} {
		for _, path := range fields {
			if _, err := db.Collection(name).Indexes().CreateOne(ctx, mongo.IndexModel{Keys: bson.D{{Key: path, Value: 1}}}); err != nil {
				return fmt.Errorf("index of %s: %w", name, err)
			}
		}
	}
	_, err = db.Collection("seed").InsertOne(ctx, bson.D{{Key: "version", Value: seedVersion}, {Key: "scale", Value: scale}})
	return err
}

// objectID makes the same id for the same document every time.
func objectID(kind byte, n int) bson.ObjectID {
	id := bson.ObjectID{0x69, 0xa3, 0x5c, 0x00, kind}
	binary.BigEndian.PutUint32(id[8:], uint32(n))
	return id
}

func inspectionDocs(p *port) []any {
	var docs []any
	for i, x := range p.inspections {
		list := bson.A{}
		for _, f := range x.findings {
			list = append(list, bson.D{{Key: "code", Value: f.code}, {Key: "severity", Value: f.severity}, {Key: "text", Value: f.text}})
		}
		doc := bson.D{
			{Key: "_id", Value: objectID(1, i)},
			// The registry keeps the number as a number; inspectors write it down.
			{Key: "craft", Value: bson.D{{Key: "imo", Value: fmt.Sprint(x.craft.imo)}, {Key: "name", Value: x.craft.name}}},
			{Key: "heldOn", Value: bson.NewDateTimeFromTime(x.day)},
			{Key: "outcome", Value: x.outcome},
			{Key: "inspector", Value: bson.D{{Key: "name", Value: x.inspector}, {Key: "badge", Value: x.badge}}},
			{Key: "findings", Value: list},
		}
		if x.call != nil {
			doc = append(doc, bson.E{Key: "callId", Value: *x.call})
		}
		docs = append(docs, append(doc, bson.E{Key: "evidence", Value: evidenceDocs(x)}))
	}
	return docs
}

func evidenceDocs(x inspection) bson.A {
	list := bson.A{}
	for _, e := range x.evidence {
		if e.kind == "photo" {
			list = append(list, bson.D{{Key: "type", Value: e.kind}, {Key: "caption", Value: e.about}})
		} else {
			list = append(list, bson.D{{Key: "type", Value: e.kind}, {Key: "of", Value: e.about}, {Key: "value", Value: e.value}, {Key: "unit", Value: "mm"}})
		}
	}
	return list
}

func incidentDocs(p *port) []any {
	var docs []any
	for i, x := range p.incidents {
		doc := bson.D{
			{Key: "_id", Value: objectID(2, i)}, {Key: "callId", Value: x.call}, {Key: "at", Value: bson.NewDateTimeFromTime(x.at)},
			{Key: "kind", Value: x.kind}, {Key: "summary", Value: x.summary},
		}
		if x.subject != "" {
			doc = append(doc, bson.E{Key: "subjectKind", Value: x.subject}, bson.E{Key: "subjectId", Value: x.subjectID})
		}
		docs = append(docs, doc)
	}
	return docs
}

func manifestDocs(p *port) []any {
	var docs []any
	for i, x := range p.manifests {
		list := bson.A{}
		for _, l := range x.lines {
			list = append(list, bson.D{{Key: "goods", Value: l.goods}, {Key: "tonnes", Value: l.tonnes}, {Key: "hazardous", Value: l.hazardous}})
		}
		docs = append(docs, bson.D{{Key: "_id", Value: objectID(3, i)}, {Key: "callId", Value: x.call}, {Key: "lines", Value: list}})
	}
	return docs
}
