package expression

import (
	"testing"
	"time"
)

// FuzzExpression holds that no text makes the compiler panic, that what an
// expression needs are fields that there are, and that it looks at no others:
// go test ./core/expression -fuzz FuzzExpression
func FuzzExpression(f *testing.F) {
	for _, text := range []string{
		`record.name`, `record.tow.tow.name + "x"`, `record.pilots.filter(p, p.licence != null).map(p, p.name)`, `has(record.tow.draughtDm) ? 1 : 2`,
		`record.pilots.exists_one(p, record.pilots.all(q, q.name == p.name))`, `[record, record.tow][0].name`, `{"a": record.name}["a"]`, `record.?tow.?name.orValue("none")`,
		`record.tags.map(t, record.tags.map(u, t + u))`, `record == record.tow`, `args.days / 0`, `"\xff".size()`, `record.fittings["a"].b[1]`, `timestamp(0) + duration("1h")`,
	} {
		f.Add(text)
	}
	pilot := fake{"name": "Aila", "licence": nil}
	record := fake{"name": "Amber", "lengthM": 12.5, "draughtDm": int64(3), "builtOn": time.Unix(0, 0), "pilots": []any{pilot}, "tow": nil, "fittings": map[string]any{"a": 1.0}, "tags": []any{"x", "y"}}
	f.Fuzz(func(t *testing.T, text string) {
		if len(text) > 200 {
			return // long ones are slow, and no worse
		}
		types := craftTypes()
		p, err := Compile(text, types, &Type{Kind: Any, Nullable: true})
		if err != nil {
			return
		}
		for input, needs := range p.Needs {
			checkNeeds(t, text, types[input], needs)
		}
		looked := map[string]bool{}
		_, _ = p.Run(map[string]any{"record": watched{record, looked}, "args": fake{"days": int64(3)}})
		for name := range looked {
			found := false
			for _, n := range p.Needs["record"] {
				found = found || n.Name == name
			}
			if !found {
				t.Errorf("%q looks at %s, and needs %s", text, name, show(p.Needs["record"]))
			}
		}
	})
}

// watched notes which fields are looked at.
type watched struct {
	fake
	looked map[string]bool
}

func (w watched) Field(name string) (any, error) {
	w.looked[name] = true
	return w.fake.Field(name)
}

func checkNeeds(t *testing.T, text string, of *Type, needs []*Need) {
	for of != nil && of.Kind == List {
		of = of.Elem
	}
	for _, n := range needs {
		if of == nil || of.Kind != Record {
			return // inside of JSON
		}
		field := of.Field(n.Name)
		if field == nil {
			t.Errorf("%q needs %s of %s, which has no such field", text, n.Name, of.Name)
			return
		}
		checkNeeds(t, text, field, n.Needs)
	}
}
