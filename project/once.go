package project

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strings"

	"osprey/core/binding"
	"osprey/core/execute"
	"osprey/core/language"
	"osprey/core/store"
)

// This file does mutations once that are sent with a key: the IETF's draft
// "The Idempotency-Key HTTP Header Field".

// Idempotency is where the keys of mutations are kept that are done once.
type Idempotency struct {
	// The source that has the table: a relational database, which the mutations write to.
	Source string `yaml:"source" form:"name of a source"`
	// The table of the keys and what was answered: id, fingerprint, answer, made_at.
	Table string `yaml:"table" form:"name of a table"`
}

// onceTable is the statement that makes the table, of each kind.
var onceTable = map[string]string{
	"postgres": "CREATE TABLE %s (id varchar(255) PRIMARY KEY, fingerprint char(64) NOT NULL, answer text, made_at timestamptz NOT NULL DEFAULT now())",
	"mysql":    "CREATE TABLE %s (id varchar(255) CHARACTER SET ascii COLLATE ascii_bin PRIMARY KEY, fingerprint char(64) NOT NULL, answer longtext, made_at datetime NOT NULL DEFAULT now())",
	"sqlite":   "CREATE TABLE %s (id text PRIMARY KEY, fingerprint text NOT NULL, answer text, made_at text NOT NULL DEFAULT (datetime('now')))",
}

// onceFields are the fields of the table that are written.
var onceFields = []string{"id", "fingerprint", "answer"}

// checkOnce tells what is wrong with where keys are kept.
func (p *Project) checkOnce(bound *binding.Bound) Findings {
	c := p.Config.Idempotency
	if c == nil {
		return nil
	}
	at := func(msg, fix string) Findings {
		problem := &language.Problem{Severity: language.Error, Rule: ruleConfig, Pos: findText(p.config, "idempotency:"), Msg: msg, Fix: fix}
		return placed(language.Problems{problem}, inOne(p.config))
	}
	source := bound.Sources[c.Source]
	switch {
	case source == nil:
		return at(fmt.Sprintf("idempotency names the source %q, which is not declared", c.Source), "name a relational database of sources")
	case source.Capabilities.Write == nil || source.Capabilities.Write.Apart || onceTable[source.Kind] == "":
		return at(fmt.Sprintf("idempotency names %s, which is of the kind %s, and keys are kept in a relational database", c.Source, source.Kind), "name a relational database")
	case source.Catalogue == nil:
		return nil // which is told
	}
	set := source.Catalogue.Sets[c.Table]
	made := fmt.Sprintf(onceTable[source.Kind], c.Table)
	if set == nil {
		return at(fmt.Sprintf("idempotency names the table %q, which %s does not have", c.Table, c.Source), made)
	}
	for _, name := range onceFields {
		if set.Field(name) == nil {
			return at(fmt.Sprintf("idempotency names the table %q in %s, which has no column %s", c.Table, c.Source, name), made)
		}
	}
	if !set.Unique([]string{"id"}) {
		return at(fmt.Sprintf("idempotency names the table %q in %s, whose id is not unique", c.Table, c.Source), made)
	}
	return nil
}

// once returns how a mutation is done once; nil if it is not.
func (r *Revision) once(q *Request, from *language.Source) (*execute.Once, error) {
	c := r.Config.Idempotency
	source := r.Bound.Sources[c.Source]
	if source.Catalogue == nil {
		return nil, store.NotReady(nil)
	}
	text := func(names ...string) (list []store.Given) {
		for _, n := range names {
			list = append(list, store.Given{Field: n, Kind: store.Text})
		}
		return list
	}
	once := &execute.Once{Source: c.Source, Key: q.Once, Fingerprint: fingerprint(q), Whole: func(result *execute.Result) []byte {
		a := Answer{Data: result.Data, Faults: r.faults(result.Errors, from)}
		return a.AppendJSON(nil, false)
	}}
	var err error
	if once.Note, err = source.Capabilities.Write.Prepare(source.Catalogue, &store.Write{Action: store.Add, Set: c.Table, Columns: text("id", "fingerprint")}); err != nil {
		return nil, err
	}
	if once.Keep, err = source.Capabilities.Write.Prepare(source.Catalogue, &store.Write{Action: store.Change, Set: c.Table, Columns: text("answer"), Keys: text("id")}); err != nil {
		return nil, err
	}
	look := &store.Read{Set: c.Table, Parent: -1, Keys: []int{0}}
	for _, name := range onceFields {
		look.Columns = append(look.Columns, store.Wanted{Path: name, Kind: store.Text})
	}
	once.Look, err = r.prepare(c.Source, []*store.Read{look})
	return once, err
}

// fingerprint tells requests apart: whatever else than their text, operation and variables
// they differ in, they are the same.
func fingerprint(q *Request) string {
	parts := []any{strings.TrimSpace(q.Query), q.OperationName, q.Variables}
	if q.Caller != nil && q.Caller.Who != nil { // another caller's key is another key
		parts = append(parts, q.Caller.Who.ID)
	}
	text, _ := json.Marshal(parts)
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}
