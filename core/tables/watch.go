package tables

import (
	"fmt"
	"strings"
)

// This file writes what makes a database of PostgreSQL tell which of its records change, whoever changes them: a
// publication for logical replication, which stores/relational/logical reads; or triggers that note each statement's rows in
// a table, of which stores/relational/outbox.go reads.

// A WatchedSet is a table whose changes are to be noted.
type WatchedSet struct {
	Table string
	Key   []string // by which records are read again
}

// Watching returns the steps that have the changes of tables noted; begun says that there are others whose changes are
// noted already.
func Watching(list []WatchedSet, begun bool) *Plan {
	p := &Plan{}
	if !begun {
		p.Steps = append(p.Steps, Step{What: "where changes are noted, for an hour", Up: []string{outboxTable, outboxKey, outboxNote}, Down: []string{"DROP SCHEMA osprey_events CASCADE"}})
	}
	d := Dialects["postgres"]
	for _, set := range list {
		args := []string{literal(set.Table)}
		for _, column := range set.Key {
			args = append(args, literal(column))
		}
		step := Step{What: "the changes of " + set.Table}
		for _, t := range []struct{ name, when, rows string }{
			{"osprey_events_added", "INSERT", "REFERENCING NEW TABLE AS now_rows "},
			{"osprey_events_changed", "UPDATE", "REFERENCING OLD TABLE AS before_rows NEW TABLE AS now_rows "},
			{"osprey_events_removed", "DELETE", "REFERENCING OLD TABLE AS before_rows "},
			{"osprey_events_emptied", "TRUNCATE", ""},
		} {
			step.Up = append(step.Up, fmt.Sprintf("CREATE TRIGGER %s AFTER %s ON %s\n  %sFOR EACH STATEMENT EXECUTE FUNCTION osprey_events.note(%s)", t.name, t.when, d.quote(set.Table), t.rows, strings.Join(args, ", ")))
			step.Down = append(step.Down, fmt.Sprintf("DROP TRIGGER %s ON %s", t.name, d.quote(set.Table)))
		}
		p.Steps = append(p.Steps, step)
	}
	return p
}

// Publishing returns the steps that have the changes of tables told by logical replication; begun says that those of others are
// already. What stands behind a table's changed rows, all columns as they were, holds for its partitions, too.
func Publishing(list []WatchedSet, begun bool) *Plan {
	p := &Plan{}
	if !begun {
		p.Steps = append(p.Steps, Step{What: "what is told by logical replication", Up: []string{publication}, Down: []string{"DROP PUBLICATION osprey_events", slotDropped}})
	}
	d := Dialects["postgres"]
	for _, set := range list {
		table := d.quote(set.Table)
		p.Steps = append(p.Steps, Step{What: "the changes of " + set.Table,
			Up:   []string{"ALTER PUBLICATION osprey_events ADD TABLE " + table, identity(table, "FULL")},
			Down: []string{identity(table, "DEFAULT"), "ALTER PUBLICATION osprey_events DROP TABLE " + table}})
	}
	return p
}

const publication = `CREATE PUBLICATION osprey_events WITH (publish = 'insert, update, delete, truncate', publish_via_partition_root = true)`

// The service makes the slot when somebody listens.
const slotDropped = `SELECT pg_drop_replication_slot(slot_name) FROM pg_replication_slots
  WHERE slot_name = (SELECT 'osprey_events_' || oid FROM pg_database WHERE datname = current_database())`

// identity says what the log holds of a row as it was, of a table and its partitions.
func identity(table, what string) string {
	return `DO $$
DECLARE t regclass;
BEGIN
  FOR t IN SELECT ` + literal(table) + `::regclass UNION SELECT relid FROM pg_partition_tree(` + literal(table) + `) LOOP
    EXECUTE format('ALTER TABLE %s REPLICA IDENTITY ` + what + `', t);
  END LOOP;
END $$`
}

// The table has a row for each record that has changed, with the transaction that did it; who reads it knows by that
// what is new.
const outboxTable = `CREATE SCHEMA osprey_events;
CREATE TABLE osprey_events.events (
  seq bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  xid xid8 NOT NULL DEFAULT pg_current_xact_id(),
  at timestamptz NOT NULL DEFAULT clock_timestamp(),
  of_set text NOT NULL,
  what text NOT NULL,
  key jsonb,
  before jsonb,
  fields text[]
);
CREATE INDEX events_xid ON osprey_events.events (xid);
CREATE INDEX events_at ON osprey_events.events (at)`

const outboxKey = `CREATE FUNCTION osprey_events.key_of(record jsonb, columns text[]) RETURNS jsonb LANGUAGE sql IMMUTABLE
  SET search_path = pg_catalog
  AS $$ SELECT jsonb_object_agg(c, record -> c) FROM unnest(columns) c $$`

// It runs once for each statement, as the owner, so that who writes needs no right of its own.
const outboxNote = `CREATE FUNCTION osprey_events.note() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER
  SET search_path = pg_catalog
  AS $$
DECLARE
  columns text[] := TG_ARGV[1:];
BEGIN
  IF TG_OP = 'INSERT' THEN
    INSERT INTO osprey_events.events (of_set, what, key)
      SELECT TG_ARGV[0], 'ADDED', osprey_events.key_of(to_jsonb(n), columns) FROM now_rows n;
  ELSIF TG_OP = 'DELETE' THEN
    INSERT INTO osprey_events.events (of_set, what, key, before)
      SELECT TG_ARGV[0], 'REMOVED', osprey_events.key_of(to_jsonb(b), columns), to_jsonb(b) FROM before_rows b;
  ELSIF TG_OP = 'UPDATE' THEN
    -- A record whose key has changed is one that is removed, and one that is added.
    INSERT INTO osprey_events.events (of_set, what, key, before, fields)
      SELECT TG_ARGV[0], CASE WHEN b.record IS NULL THEN 'ADDED' WHEN n.record IS NULL THEN 'REMOVED' ELSE 'CHANGED' END,
        coalesce(n.key, b.key), b.record,
        CASE WHEN b.record IS NOT NULL AND n.record IS NOT NULL THEN
          ARRAY(SELECT f FROM jsonb_object_keys(n.record) f WHERE n.record -> f IS DISTINCT FROM b.record -> f) END
      FROM (SELECT to_jsonb(x) record, osprey_events.key_of(to_jsonb(x), columns) key FROM before_rows x) b
      FULL JOIN (SELECT to_jsonb(x) record, osprey_events.key_of(to_jsonb(x), columns) key FROM now_rows x) n ON n.key = b.key
      WHERE n.record IS DISTINCT FROM b.record;
  ELSE
    INSERT INTO osprey_events.events (of_set, what) VALUES (TG_ARGV[0], 'EMPTIED');
  END IF;
  IF FOUND THEN
    PERFORM pg_notify('osprey_events', '');
    IF random() < 0.01 THEN
      DELETE FROM osprey_events.events WHERE seq IN (
        SELECT seq FROM osprey_events.events WHERE at < clock_timestamp() - interval '1 hour' ORDER BY seq LIMIT 5000 FOR UPDATE SKIP LOCKED);
    END IF;
  END IF;
  RETURN NULL;
END $$`
