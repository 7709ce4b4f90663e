package relational

import (
	"context"
	"strings"

	"github.com/jmoiron/sqlx"

	"osprey/core/store"
)

// columnsQuery lists the columns of the tables and views on the search path.
// Lists come joined by the unit separator, which no name holds.
const columnsQuery = `
SELECT c.relname AS set, c.relkind::text AS what, a.attname AS name,
       format_type(a.atttypid, NULL) AS type, base.typname AS base,
       COALESCE(elem.typname, '') AS elem,
       NOT (a.attnotnull OR t.typnotnull) AS nullable,
       a.attgenerated <> '' OR a.attidentity = 'a' AS generated, a.atthasdef AND a.attgenerated = '' OR a.attidentity = 'd' AS filled,
       CASE WHEN base.typname IN ('varchar', 'bpchar') AND a.atttypmod > 4 THEN a.atttypmod - 4 ELSE 0 END AS maxlength,
       CASE WHEN base.typname = 'numeric' AND a.atttypmod >= 4 THEN (((a.atttypmod - 4) & 2047) # 1024) - 1024
            WHEN base.typname IN ('timestamp', 'timestamptz', 'time') AND a.atttypmod >= 0 THEN a.atttypmod END AS scale,
       base.typname = 'citext' OR EXISTS (SELECT FROM pg_collation WHERE oid = a.attcollation AND NOT collisdeterministic) AS loose,
       GREATEST(c.reltuples, 0)::int8 AS rows, c.relispartition AS part,
       COALESCE(col_description(c.oid, a.attnum), '') AS about, COALESCE(obj_description(c.oid, 'pg_class'), '') AS allabout,
       COALESCE((SELECT string_agg(enumlabel, chr(31) ORDER BY enumsortorder) FROM pg_enum WHERE enumtypid = base.oid), '') AS labels
  FROM pg_class c
  JOIN pg_namespace n ON n.oid = c.relnamespace
  JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped
  JOIN pg_type t ON t.oid = a.atttypid
  JOIN pg_type base ON base.oid = CASE WHEN t.typtype = 'd' THEN t.typbasetype ELSE t.oid END
  LEFT JOIN pg_type elem ON elem.oid = base.typelem AND base.typcategory = 'A'
 WHERE n.nspname = ANY (current_schemas(false)) AND c.relkind IN ('r', 'p', 'v', 'm', 'f')
 ORDER BY c.relname, a.attnum`

// indexesQuery lists the indexes over plain columns, the primary key first.
const indexesQuery = `
SELECT c.relname AS set, i.indisunique AND i.indpred IS NULL AS is_unique,
       (SELECT relname FROM pg_class WHERE oid = i.indexrelid) AS name,
       (SELECT string_agg(a.attname, chr(31) ORDER BY k.n)
          FROM unnest(i.indkey) WITH ORDINALITY AS k(num, n)
          JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.num
         WHERE k.n <= i.indnkeyatts) AS columns
  FROM pg_index i
  JOIN pg_class c ON c.oid = i.indrelid
  JOIN pg_namespace n ON n.oid = c.relnamespace
 WHERE n.nspname = ANY (current_schemas(false)) AND i.indisvalid AND 0 <> ALL (i.indkey::int2[])
 ORDER BY c.relname, i.indisprimary DESC, i.indexrelid`

// foreignQuery lists the foreign keys, field by field.
const foreignQuery = `
SELECT c.relname AS set, f.conname AS name, t.relname AS other,
       (SELECT attname FROM pg_attribute WHERE attrelid = f.conrelid AND attnum = k.here) AS field,
       (SELECT attname FROM pg_attribute WHERE attrelid = f.confrelid AND attnum = k.there) AS there
  FROM pg_constraint f
  JOIN pg_class c ON c.oid = f.conrelid
  JOIN pg_class t ON t.oid = f.confrelid
  JOIN pg_namespace n ON n.oid = c.relnamespace,
       unnest(f.conkey, f.confkey) WITH ORDINALITY AS k(here, there, n)
 WHERE f.contype = 'f' AND n.nspname = ANY (current_schemas(false))
 ORDER BY c.relname, f.conname, k.n`

// postgresCatalogue reads the tables and views on the search path.
func postgresCatalogue(ctx context.Context, db *sqlx.DB) (*store.Catalogue, error) {
	var columns []struct {
		Set, What, Name, Type, Base, Elem, Labels string
		About, AllAbout                           string
		Nullable, Generated, Filled, Loose, Part  bool
		MaxLength                                 int
		Scale                                     *int
		Rows                                      int64
	}
	if err := db.SelectContext(ctx, &columns, columnsQuery); err != nil {
		return nil, err
	}
	var indexes []struct {
		Set     string
		Unique  bool `db:"is_unique"`
		Name    string
		Columns string
	}
	if err := db.SelectContext(ctx, &indexes, indexesQuery); err != nil {
		return nil, err
	}
	var expressions []struct{ Set, Definition string }
	if err := db.SelectContext(ctx, &expressions, expressionsQuery); err != nil {
		return nil, err
	}
	var foreign []foreignField
	if err := db.SelectContext(ctx, &foreign, foreignQuery); err != nil {
		return nil, err
	}
	b := newCatalogue()
	for _, col := range columns {
		what := "table"
		if col.What == "v" || col.What == "m" {
			what = "view"
		}
		f := store.Field{Name: col.Name, Type: col.Type, About: col.About, Generated: col.Generated, Filled: col.Filled, MaxLength: col.MaxLength, Scale: col.Scale, Loose: col.Loose,
			// A view does not tell what may be NULL, so nothing is said of it.
			Nullable: col.Nullable && what == "table"}
		f.Kind = kindOf(col.Base)
		f.Wide = col.Base == "int8"
		f.AsText = kinds[col.Base] == store.Unknown && col.Labels == "" && col.Elem == ""
		if col.Elem != "" {
			f.Kind, f.Elem = store.List, kindOf(col.Elem)
		}
		if col.Labels != "" {
			f.Values = strings.Split(col.Labels, "\x1f")
		}
		set := b.field(col.Set, what, col.Rows, f)
		set.About, set.Part = col.AllAbout, col.Part
	}
	for _, e := range expressions {
		if expression, ok := postgresExpression(e.Definition, b.catalogue.Sets[e.Set]); ok {
			b.catalogue.Sets[e.Set].Expressions = append(b.catalogue.Sets[e.Set].Expressions, expression)
		}
	}
	for _, i := range indexes {
		for _, field := range strings.Split(i.Columns, "\x1f") {
			b.index(i.Set, i.Name, i.Unique, field)
		}
	}
	b.foreign(foreign)
	return b.finish(), nil
}

// A foreignField is one field of a foreign key; those of one key come behind each other.
type foreignField struct{ Set, Name, Field, Other, There string }

// foreign adds the foreign keys to their sets.
func (b *catalogueBuilder) foreign(fields []foreignField) {
	for _, f := range fields {
		set := b.catalogue.Sets[f.Set]
		if set == nil {
			continue
		}
		n := len(set.Constraints)
		if n == 0 || set.Constraints[n-1].Name != f.Name || !set.Constraints[n-1].Foreign() {
			set.Constraints = append(set.Constraints, store.Constraint{Name: f.Name, Set: f.Other})
			n++
		}
		c := &set.Constraints[n-1]
		c.Fields, c.There = append(c.Fields, f.Field), append(c.There, f.There)
	}
}

// A catalogueBuilder gathers a catalogue from the rows of its queries.
type catalogueBuilder struct {
	catalogue *store.Catalogue
	indexes   []index
}

type index struct {
	set, name string
	unique    bool
	fields    []string
}

func newCatalogue() *catalogueBuilder {
	return &catalogueBuilder{catalogue: &store.Catalogue{Sets: map[string]*store.Set{}}}
}

// field adds a field to a set, which is new if it is the first.
func (b *catalogueBuilder) field(set, what string, rows int64, f store.Field) *store.Set {
	s := b.catalogue.Sets[set]
	if s == nil {
		s = &store.Set{Name: set, What: what, Rows: rows}
		b.catalogue.Sets[set] = s
	}
	if f.Kind == store.JSON {
		f.Opens = insideKinds
	}
	s.Fields = append(s.Fields, f)
	return s
}

// index adds a field to an index; those of one index come behind each other.
func (b *catalogueBuilder) index(set, name string, unique bool, field string) {
	if n := len(b.indexes); n > 0 && b.indexes[n-1].set == set && b.indexes[n-1].name == name {
		b.indexes[n-1].fields = append(b.indexes[n-1].fields, field)
		return
	}
	b.indexes = append(b.indexes, index{set, name, unique, []string{field}})
}

func (b *catalogueBuilder) finish() *store.Catalogue {
	for _, set := range b.catalogue.Sets {
		if set.What == "view" {
			set.ReadOnly = "it is a view"
		}
	}
	for _, i := range b.indexes {
		set := b.catalogue.Sets[i.set]
		if set == nil {
			continue
		}
		set.Index = append(set.Index, i.fields)
		if i.unique {
			set.Keys = append(set.Keys, i.fields)
			set.Constraints = append(set.Constraints, store.Constraint{Name: i.name, Fields: i.fields})
		}
	}
	return b.catalogue
}

// kinds has the kind of each type of PostgreSQL that Osprey reads in its own
// form; every other type is read as text.
var kinds = map[string]store.Kind{
	"bool": store.Bool, "int2": store.Int, "int4": store.Int, "int8": store.Int, "oid": store.Int,
	"float4": store.Float, "float8": store.Float, "numeric": store.Decimal,
	"text": store.Text, "varchar": store.Text, "bpchar": store.Text, "name": store.Text, "citext": store.Text,
	"timestamptz": store.Time, "timestamp": store.Time, "date": store.Date, "time": store.Clock,
	"uuid": store.UUID, "json": store.JSON, "jsonb": store.JSON, "bytea": store.Binary,
}

func kindOf(base string) store.Kind {
	if k, ok := kinds[base]; ok {
		return k
	}
	return store.Text
}
