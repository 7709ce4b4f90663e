package relational

import (
	"strings"
	"testing"

	"osprey/core/store"
)

// TestDatabases holds that every kind of database has all that statements need: a
// new one that forgets a part is told here, and not by its first request.
func TestDatabases(t *testing.T) {
	for kind, d := range databases {
		if d.dialect == nil || d.open == nil || d.ready == nil || d.catalogue == nil || d.fail == nil {
			t.Errorf("%s lacks a part: %+v", kind, d)
		}
		if (d.union == nil) == (d.windowed == nil) {
			t.Errorf("%s is asked neither in one statement nor in stages, or both", kind)
		}
		if d.windowed != nil && (d.dead == nil || d.transaction.begin == "" || d.transaction.end == "") {
			t.Errorf("%s does not say how the state of several statements is one", kind)
		}
	}
}

// TestExpressions reads definitions of indexes and generated columns as the databases
// write them: which value inside JSON they are of, and as what.
func TestExpressions(t *testing.T) {
	set := &store.Set{Fields: []store.Field{{Name: "papers", Kind: store.JSON, Opens: insideKinds}, {Name: "name", Kind: store.Text},
		{Name: "flag", Kind: store.Text, Type: "varchar(20)"}, {Name: "no", Kind: store.Int, Type: "int"}, {Name: "t", Kind: store.Decimal, Type: "decimal(9,2)"}, {Name: "c", Kind: store.Text, Type: "char(2)"}}}
	told := func(list ...store.Expression) string {
		var all []string
		for _, e := range list {
			all = append(all, e.Field+" as "+e.Kind.String()+": "+strings.ReplaceAll(e.Form, store.RowMark, "t"))
		}
		return strings.Join(all, "; ")
	}
	known := func(e store.Expression, ok bool) string {
		if !ok {
			return ""
		}
		return told(e)
	}
	for definition, want := range map[string]string{
		`(papers ->> 'flag'::text)`:                                 `papers.flag as text: (t."papers" ->> 'flag')`,
		`((papers -> 'reg'::text) ->> 'it''s'::text)`:               `papers.reg.it's as text: (t."papers" -> 'reg' ->> 'it''s')`,
		`((papers #>> '{reg,owner}'::text[]))::integer`:             `papers.reg.owner as int: (t."papers" #>> '{reg,owner}')::integer`,
		`(((papers -> 'a'::text) ->> 'b'::text))::double precision`: `papers.a.b as float: (t."papers" -> 'a' ->> 'b')::double precision`,
		`lower((papers ->> 'flag'::text))`:                          ``,
		`((papers ->> 'flag'::text))::character varying(5)`:         ``,
		`(name ->> 'flag'::text)`:                                   ``,
		`(papers -> 'flag'::text)`:                                  ``,
	} {
		if got := known(postgresExpression(definition, set)); got != want {
			t.Errorf("%s is %q, want %q", definition, got, want)
		}
	}
	for made, want := range map[string]string{
		"flag json_value(`papers`,'$.reg.flag')":                                     "papers.reg.flag as text: t.`flag`",
		"no json_unquote(json_extract(`papers`,'$.no'))":                             "papers.no as int: t.`no`",
		"flag json_unquote(json_extract(`papers`,_utf8mb4\\'$.\"flag\"\\'))":         "papers.flag as text: t.`flag`",
		"no cast(json_unquote(json_extract(`papers`,_utf8mb4\\'$.no\\')) as signed)": "papers.no as int: t.`no`",
		"t json_value(`papers`,'$.t')":                                               "",
		"c json_value(`papers`,'$.c')":                                               "",
		"flag lcase(json_value(`papers`,'$.flag'))":                                  "",
		"flag json_value(`papers`,'$.list[0]')":                                      "",
	} {
		name, made, _ := strings.Cut(made, " ")
		if got := known(mysqlExpression(set.Field(name), made, set)); got != want {
			t.Errorf("%s is %q, want %q", made, got, want)
		}
	}
	for definition, want := range map[string]string{
		`CREATE INDEX i ON craft (json_extract(papers, '$.reg.flag'))`:      `papers.reg.flag as text: (json_extract(t."papers", '$.reg.flag'))`,
		"CREATE INDEX `i` ON craft (\"papers\" -> 'reg' ->> '$.flag' DESC)": `papers.reg.flag as text: (t."papers" -> 'reg' ->> '$.flag')`,
		`CREATE INDEX i ON craft ((papers ->> 'flag'), name)`:               `papers.flag as text: (t."papers" ->> 'flag')`,
		`CREATE INDEX i ON craft (lower(papers ->> 'flag'))`:                ``,
		`CREATE INDEX i ON craft (papers ->> 'flag' COLLATE NOCASE)`:        ``,
		`CREATE INDEX i ON craft (name ->> 'flag')`:                         ``,
	} {
		list := sqliteExpression(definition, set)
		if len(list) > 0 {
			list = list[:1] // the same as int
		}
		if got := told(list...); got != want {
			t.Errorf("%s is %q, want %q", definition, got, want)
		}
	}
}
