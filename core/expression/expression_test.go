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
			"pilots": {Kind: List, Elem: pilot}, "tow": craft, "fleet": {Kind: List, Elem: craft}, "fittings": scalar(Any, true), "tags": {Kind: List, Elem: scalar(Text, false)},
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
		{`record.pilots[7].name`, text, "the index 7 is beyond its list", "pilots{name}"},
		{`record.builtOn.getFullYear()`, &Type{Kind: Int}, "2001", "builtOn"},
		{`record.builtOn + duration("24h")`, &Type{Kind: Moment}, "2001-03-02 00:00:00 +0000 UTC", "builtOn"},
		{`timestamp("2001-03-02T12:30:00Z") - record.builtOn`, text, "PT36H30M", "builtOn"},
		{`duration("36h") - duration("72h")`, text, "-PT36H", ""},
		{`record.fittings.cranes`, number, "2", "fittings{cranes}"},
		{`record.tags.filter(t, t != "a")`, &Type{Kind: List, Elem: &Type{Kind: Text}}, "[b]", "tags"},
		{`1 / (args.days - 3)`, number, "it divides by zero", ""},
		{`has(record.tow) && has(record.tow.draughtDm)`, &Type{Kind: Bool}, "false", "tow{draughtDm}"},
		{`[1,2,3].map(a, [1,2,3].map(b, [1,2,3].map(c, a*b*c))).size()`, number, "3", ""},
		{`["x"].map(record, record + "y")[0]`, text, "xy", ""},
		{`duration("0.1s")`, text, "PT0.1S", ""},
		{`duration("-90061.000000001s")`, text, "-PT25H1M1.000000001S", ""},
		{`duration("0s")`, text, "PT0S", ""},
		{`duration("60m")`, text, "PT1H", ""},
		{`18446744073709551615u`, number, "18446744073709551615 is beyond the whole numbers of 64 bits", ""},
		{`9223372036854775807u`, number, "9223372036854775807", ""},
		// Null on one side of a choice, without a wrapper.
		{`args.days > 2 ? record.lengthM : null`, number, "12.5", "lengthM"},
		{`args.days > 5 ? record.name : null`, text, "<nil>", "name"},
		{`args.days > 5 ? null : args.days > 4 ? null : record.name`, text, "Amber", "name"},
		{`record.tags.map(t, t == "a" ? null : t)`, &Type{Kind: List, Elem: text}, "[<nil> b]", "tags"},
		// Objects made of values, and records.
		{`{"name": record.name, "long": record.lengthM > 10.0}`, &Type{Kind: Record, Name: "Made", Nullable: true}, "map[long:true name:Amber]", "name lengthM"},
		{`record.pilots.map(p, {"name": p.name})`, &Type{Kind: List, Elem: &Type{Kind: Record, Name: "Made"}}, "[map[name:Aila] map[name:Bram]]", "pilots{name}"},
		{`record.pilots.filter(p, p.licence != null)`, &Type{Kind: List, Elem: &Type{Kind: Record, Name: "Pilot"}}, "[map[licence:SK-1 name:Aila]]", "pilots{licence}"},
		{`record.pilots[1]`, &Type{Kind: Record, Name: "Pilot"}, "map[licence:<nil> name:Bram]", "pilots"},
		{`args.days > 1 ? record.tow : null`, &Type{Kind: Record, Name: "Craft", Nullable: true}, "map[draughtDm:<nil> lengthM:the store is down name:Barge tow:<nil>]", "tow"},
	} {
		p, err := Compile(test.text, craftTypes(), test.want)
		if err != nil {
			t.Errorf("%s: %v", test.text, err)
			continue
		}
		if got := show(p.Needs["record"]); got != test.needs {
			t.Errorf("%s needs %q, want %q", test.text, got, test.needs)
		}
		out, err := p.Run(map[string]any{"record": record, "args": fake{"days": int64(3)}})
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
		{`record.nmae`, &Type{Kind: Text}, "there is no field nmae (at character 7)"},
		{`record.name * 2`, &Type{Kind: Text}, "* is not for (string, int) (at character 13) → write string(…) around the number"},
		{`record.lengthM * 2`, &Type{Kind: Float}, "* is not for (double, int) (at character 16) → int and double do not mix: write 2.0 for 2, or double(…)"},
		{`record.builtOn * 2`, &Type{Kind: Float}, "* is not for (timestamp, int)"},
		{`record.builtOn - record.builtOn`, &Type{Kind: Float}, "it gives duration, and double is wanted"},
		{`record.draughtDm`, &Type{Kind: Bool}, "it gives int or null, and bool is wanted"},
		{`record.name +`, &Type{Kind: Text}, "it ends too early (at character 14) → write what is missing at its end"},
		{`record.name)`, &Type{Kind: Text}, ") cannot stand there"},
		{`record.name + $x`, &Type{Kind: Text}, "$ has no meaning there"},
		{`record.name.x`, &Type{Kind: Text}, "string has no fields"},
		{`record.lengthM > 5.0 && record.name`, &Type{Kind: Bool}, "bool is wanted, and string is there"},
		{`record.name.all(x, true)`, &Type{Kind: Bool}, "string is no list to go through"},
		{`size(record.name, 3)`, &Type{Kind: Int}, "size is not for (string, int)"},
		{`record.lengthM`, &Type{Kind: Int}, "it gives double, and int is wanted → write int(…) around it"},
		{`record.name`, &Type{Kind: Int}, "it gives string, and int is wanted"},
		{`null`, &Type{Kind: Int}, "it gives null, and int is wanted"},
		{`[1]`, &Type{Kind: Int}, "it gives list(int), and int is wanted"},
		{`record`, &Type{Kind: Text}, "it gives Craft, and string is wanted"},
		{`(args.days > 1 ? record : record.tow).name`, &Type{Kind: Text}, "it takes name of a record that comes out of a choice"},
		{`craft.name`, &Type{Kind: Text}, "there is no craft (at character 1) → an expression has args and record, and the functions of CEL"},
		{`args.days > 1 ? record.name : null`, &Type{Kind: Text}, "it gives null, and string is wanted"},
		{`args.days > 1 ? record.name : null`, &Type{Kind: Int, Nullable: true}, "it gives string, and int or null is wanted"},
		{`record.pilots`, &Type{Kind: List, Elem: &Type{Kind: Record, Name: "Craft"}}, "it gives list(Pilot), and list(Craft) is wanted"},
		{`record.pilots + record.pilots`, &Type{Kind: List, Elem: &Type{Kind: Record, Name: "Pilot"}}, "must be some of one list of the record"},
		{`record.tags`, &Type{Kind: List, Elem: &Type{Kind: Record, Name: "Pilot"}}, "it gives list(string)"},
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
	if _, err := p.Run(nil); err == nil || !strings.Contains(err.Error(), "it takes too many steps") {
		t.Errorf("it ran to its end: %v", err)
	}
}

// TestGives finds whose records an expression gives, and the expressions of an object
// that is written out.
func TestGives(t *testing.T) {
	pilots := &Type{Kind: List, Elem: &Type{Kind: Record, Name: "Pilot"}, Nullable: true}
	for text, want := range map[string]string{
		`record.pilots`: "[pilots]",
		`record.tow.pilots.filter(p, p.name != record.name)`:                 "[tow pilots]",
		`args.days > 1 ? record.pilots : []`:                                 "[pilots]",
		`record.tow.pilots.map(p, p)`:                                        "[tow pilots]",
		`record.pilots.filter(p, p.licence != null).filter(p, p.name != "")`: "[pilots]",
		`args.days > 1 ? null : record.tow.tow.pilots`:                       "[tow tow pilots]",
	} {
		p, err := Compile(text, craftTypes(), pilots)
		if err != nil || fmt.Sprint(p.Gives) != want {
			t.Errorf("%s: %v, %+v, want %s", text, err, p, want)
		}
	}
	craft := &Type{Kind: List, Elem: &Type{Kind: Record, Name: "Craft"}, Nullable: true}
	for text, want := range map[string]string{
		`record.fleet.map(c, c.tow)`:                            "[fleet tow]",
		`record.fleet.map(c, c.name != "", c.tow.tow)`:          "[fleet tow tow]",
		`record.fleet.filter(c, c.tow != null).map(c, c.tow)`:   "[fleet tow]",
		`record.tow.fleet.filter(c, c.fleet.exists(d, d == c))`: "[tow fleet]",
	} {
		p, err := Compile(text, craftTypes(), craft)
		if err != nil || fmt.Sprint(p.Gives) != want {
			t.Errorf("%s: %v, %+v, want %s", text, err, p, want)
		}
	}
	got := Entries(`{"both": record.pilots.filter(p, p.name in record.tags), 'one': {"a": 1}, "n": args.days > 1 ? 1 : null}`)
	if len(got) != 3 || got["both"] != `record.pilots.filter(p, p.name in record.tags)` || got["one"] != `{"a": 1}` || got["n"] != `(args.days > 1) ? 1 : null` {
		t.Errorf("Entries returns %q", got)
	}
	for _, text := range []string{`record`, `[{"a": 1}]`, `{1: 2}`, `{`} {
		if got := Entries(text); got != nil {
			t.Errorf("%s has the entries %q", text, got)
		}
	}
}

// TestKept compiles the same expression again, over types that are the same where it looks, and over
// others that are not: what is kept must not be taken for those.
func TestKept(t *testing.T) {
	of := func(quay *Type, more *Type) map[string]*Type {
		berth := &Type{Kind: Record, Name: "KeptBerth", Field: func(name string) *Type { return map[string]*Type{"quay": quay, "more": more}[name] }}
		return map[string]*Type{"record": {Kind: Record, Name: "KeptCraft", Field: func(name string) *Type { return map[string]*Type{"berths": {Kind: List, Elem: berth}}[name] }}}
	}
	const text = `record.berths.map(b, b.quay).size() + record.berths[0].quay`
	number, words := &Type{Kind: Int}, &Type{Kind: Text}
	first, err := Compile(text, of(number, nil), number)
	if err != nil {
		t.Fatal(err)
	}
	if again, err := Compile(text, of(number, words), number); err != nil || again != first {
		t.Errorf("what is not looked at makes another program: %v", err)
	}
	for name, inputs := range map[string]map[string]*Type{"another kind": of(words, nil), "one that may be null": of(&Type{Kind: List, Elem: number}, nil), "none": of(nil, nil)} {
		if again, err := Compile(text, inputs, number); err == nil || again != nil {
			t.Errorf("%s: it is compiled as before", name)
		}
	}
	if again, err := Compile(text, of(number, nil), &Type{Kind: Float}); err != nil || again == first {
		t.Errorf("one that is to give something else: %v", err)
	}
	if _, err := Compile(text, of(number, nil), words, UUID); err != nil {
		t.Error(err)
	}
	if again, err := Compile(text, of(number, nil), number); err != nil || again == nil || show(again.Needs["record"]) != show(first.Needs["record"]) {
		t.Errorf("it is compiled otherwise: %v", err)
	}
}
