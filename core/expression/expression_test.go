package expression

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"
)

type fake map[string]any

func (f fake) Field(name string) (any, error) {
	if err, ok := f[name].(error); ok {
		return nil, err
	}
	return f[name], nil
}

func craftTypes() map[string]*Type {
	scalar := func(k Kind, nullable bool) *Type { return &Type{Kind: k, Nullable: nullable} }
	pilot := &Type{Kind: Record, Name: "Pilot", Field: func(name string) *Type {
		return map[string]*Type{"name": scalar(Text, false), "licence": scalar(Text, true)}[name]
	}}
	var craft *Type
	craft = &Type{Kind: Record, Name: "Craft", Field: func(name string) *Type {
		return map[string]*Type{
			"name": scalar(Text, false), "lengthM": scalar(Float, false), "draughtDm": scalar(Int, true), "builtOn": scalar(Moment, true),
			"pilots": {Kind: List, Elem: pilot}, "tow": craft, "fittings": scalar(Any, true), "tags": {Kind: List, Elem: scalar(Text, false)},
		}[name]
	}}
	args := &Type{Kind: Record, Name: "arguments of Craft.x", Field: func(name string) *Type { return map[string]*Type{"days": scalar(Int, false)}[name] }}
	return map[string]*Type{"record": craft, "args": args}
}

func show(list []*Need) string {
	var b strings.Builder
	for i, n := range list {
		if i > 0 {
			b.WriteByte(' ')
		}
		b.WriteString(n.Name)
		if len(n.Needs) > 0 {
			b.WriteString("{" + show(n.Needs) + "}")
		}
	}
	return b.String()
}

func TestExpressions(t *testing.T) {
	down := errors.New("the store is down")
	record := fake{
		"name": "Amber", "lengthM": 12.5, "draughtDm": int64(30), "builtOn": time.Date(2001, 3, 1, 0, 0, 0, 0, time.UTC), "tags": []any{"a", "b"},
		"pilots": []any{fake{"name": "Aila", "licence": "SK-1"}, fake{"name": "Bram", "licence": nil}}, "fittings": map[string]any{"cranes": 2.0},
		"tow": fake{"name": "Barge", "lengthM": down, "draughtDm": nil, "tow": nil},
	}
	text, number := &Type{Kind: Text, Nullable: true}, &Type{Kind: Float, Nullable: true}
	for _, test := range []struct {
		text  string
		want  *Type
		out   string
		needs string
	}{
		{`record.name + "!"`, text, "Amber!", "name"},
		{`record.lengthM * 3.28`, number, "41", "lengthM"},
		{`record.lengthM / double(record.draughtDm) * 10.0`, number, "4.166666666666667", "lengthM draughtDm"},
		{`record.tow.name + " of " + record.name`, text, "Barge of Amber", "tow{name} name"},
		{`record.tow.draughtDm + 1`, number, "<nil>", "tow{draughtDm}"},
		{`record.tow.tow.name`, text, "<nil>", "tow{tow{name}}"},
		{`record.tow.tow == null ? "free" : "tows"`, text, "free", "tow{tow}"},
		{`record.tow.lengthM`, number, "the store is down", "tow{lengthM}"},
		{`record.pilots.size() * args.days`, number, "6", "pilots"},
		{`record.pilots.map(p, p.name).join(", ")`, text, "Aila, Bram", "pilots{name}"},
		{`record.pilots.filter(p, p.licence == null).map(p, p.name)[0]`, text, "Bram", "pilots{licence name}"},
		{`record.pilots.exists(p, p.licence == "SK-1")`, &Type{Kind: Bool}, "true", "pilots{licence}"},
		{`record.pilots[0].name`, text, "Aila", "pilots{name}"},
		{`record.pilots[7].name`, text, "index out of bounds: 7", "pilots{name}"},
		{`record.builtOn.getFullYear()`, &Type{Kind: Int}, "2001", "builtOn"},
		{`record.builtOn + duration("24h")`, &Type{Kind: Moment}, "2001-03-02 00:00:00 +0000 UTC", "builtOn"},
		{`timestamp("2001-03-02T12:30:00Z") - record.builtOn`, text, "PT36H30M", "builtOn"},
		{`duration("36h") - duration("72h")`, text, "-PT36H", ""},
		{`record.fittings.cranes`, number, "2", "fittings{cranes}"},
		{`record.tags.filter(t, t != "a")`, &Type{Kind: List, Elem: &Type{Kind: Text}}, "[b]", "tags"},
		{`1 / (args.days - 3)`, number, "division by zero", ""},
		{`has(record.tow) && has(record.tow.draughtDm)`, &Type{Kind: Bool}, "false", "tow{draughtDm}"},
		{`[1,2,3].map(a, [1,2,3].map(b, [1,2,3].map(c, a*b*c))).size()`, number, "3", ""},
		{`["x"].map(record, record + "y")[0]`, text, "xy", ""},
	} {
		p, err := Compile(test.text, craftTypes(), test.want)
		if err != nil {
			t.Errorf("%s: %v", test.text, err)
			continue
		}
		if got := show(p.Needs["record"]); got != test.needs {
			t.Errorf("%s needs %q, want %q", test.text, got, test.needs)
		}
		out, err := p.Run(map[string]Object{"record": record, "args": fake{"days": int64(3)}})
		got := fmt.Sprint(out)
		if err != nil {
			got = err.Error()
		}
		if got != test.out {
			t.Errorf("%s gives %s, want %s", test.text, got, test.out)
		}
	}
}

func TestRefused(t *testing.T) {
	for _, test := range []struct {
		text string
		want *Type
		says string
	}{
		{`record.nmae`, &Type{Kind: Text}, "undefined field 'nmae' (at character 7)"},
		{`record.name * 2`, &Type{Kind: Text}, "no matching overload"},
		{`record.lengthM * 2`, &Type{Kind: Float}, "found no matching overload for '_*_' applied to '(double, int)' (at character 16); int and double do not mix: write 2.0 for 2, or double(…)"},
		{`record.builtOn * 2`, &Type{Kind: Float}, "applied to '(timestamp, int)'"},
		{`record.builtOn - record.builtOn`, &Type{Kind: Float}, "it gives duration, and double is wanted"},
		{`record.draughtDm`, &Type{Kind: Bool}, "it gives int or null, and bool is wanted"},
		{`record.name +`, &Type{Kind: Text}, "Syntax error"},
		{`record.name`, &Type{Kind: Int}, "it gives string, and int is wanted"},
		{`null`, &Type{Kind: Int}, "it gives null, and int is wanted"},
		{`[1]`, &Type{Kind: Int}, "it gives list(int), and int is wanted"},
		{`record`, &Type{Kind: Text}, "it gives Craft, and string is wanted"},
		{`(args.days > 1 ? record : record.tow).name`, &Type{Kind: Text}, "it takes name of a record that comes out of a choice"},
		{`craft.name`, &Type{Kind: Text}, "undeclared reference to 'craft'"},
	} {
		if _, err := Compile(test.text, craftTypes(), test.want); err == nil || !strings.Contains(err.Error(), test.says) {
			t.Errorf("%s: %v, want %q", test.text, err, test.says)
		}
	}
}

// TestLong holds that an expression cannot hold up the service.
func TestLong(t *testing.T) {
	list := "[" + strings.Repeat("1,", 200) + "1]"
	p, err := Compile(list+".map(a, "+list+".map(b, "+list+".map(c, a*b*c).size()).size()).size()", craftTypes(), &Type{Kind: Int})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := p.Run(nil); err == nil || !strings.Contains(err.Error(), "cost") {
		t.Errorf("it ran to its end: %v", err)
	}
}
