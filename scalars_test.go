package osprey_test

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"osprey"
	"osprey/demo/demotest"
)

// TestSameValue holds that whatever the type of a value is, an expression and a
// function that give it back as it is give the same as the store.
func TestSameValue(t *testing.T) {
	values := map[string][]string{
		"Int": {"0", "-5", "2147483647"}, "Int64": {`"9007199254740993"`, `"-1"`}, "Float": {"0.1", "-1e21", "5"}, "Decimal": {`"12.5"`, `"-3"`},
		"String": {`""`, `"a \"quoted\" line\nand ö ⚓"`}, "ID": {`"x1"`, `"7"`}, "Boolean": {"true", "false"},
		"DateTime": {`"2026-03-01T08:30:00Z"`, `"1969-12-31T23:59:59.123456Z"`}, "Date": {`"2026-03-01"`, `"1600-02-29"`},
		"Duration": {`"PT36H"`}, "UUID": {`"0196f2a1-7c3e-7b7e-9d0c-5a8b1c2d3e4f"`}, "URL": {`"https://example.org/a?b=c"`},
		"JSON": {`{"a":[1,null,"x"]}`, `[true]`, `"text"`, "7"}, "Colour": {`"RED"`, `"GREEN"`},
		"[Int!]": {"[1,2]", "[]"}, "[[String]]": {`[["a",null],[]]`}, "[Colour!]": {`["RED","RED"]`},
	}
	var fields, asked strings.Builder
	record := map[string]any{"id": 0}
	var records []map[string]any
	names := map[string]string{}
	n := 0
	for typ, list := range values {
		n++
		name := fmt.Sprintf("v%d", n)
		names[name] = typ
		fmt.Fprintf(&fields, "%s: %s %sExpr: %s @computed(expr: \"record.%s\") %sCall: %s @computed(by: \"own.same\", needs: \"v: %s\")\n", name, typ, name, typ, name, name, typ, name)
		fmt.Fprintf(&asked, "%s %sExpr %sCall ", name, name, name)
		for i, text := range list {
			for len(records) <= i {
				records = append(records, map[string]any{"id": len(records) + 1})
			}
			switch typ { // as it is stored
			case "Colour", "[Colour!]":
				text = strings.ToLower(text)
			case "Int64":
				text = strings.Trim(text, `"`)
			}
			records[i][name] = json.RawMessage(text)
		}
	}
	records = append(records, record) // of no value at all
	data, err := json.Marshal(records)
	if err != nil {
		t.Fatal(err)
	}
	dir := demotest.Folder(t, map[string]string{
		"osprey.yaml":      "sources:\n  s: { kind: files, folder: data }\n",
		"data/things.json": string(data),
		"schema/a.graphql": "type Query { things: [Thing!]! @read(sort: \"id\") } enum Colour { RED @at(path: \"red\") GREEN @at(path: \"green\") }\n" +
			"type Thing @stored(in: \"s\", as: \"things\", key: \"id\") { id: ID!\n" + fields.String() + "}",
	})
	service, err := osprey.Open(context.Background(), dir, osprey.WithFunctions(osprey.Func("own.same",
		func(_ context.Context, calls []osprey.Call[map[string]json.RawMessage, osprey.None]) ([]json.RawMessage, error) {
			var list []json.RawMessage
			for _, c := range calls {
				list = append(list, c.Record["v"])
			}
			return list, nil
		})))
	if err != nil {
		t.Fatal(err)
	}
	defer service.Close()
	a, err := service.Ask(context.Background(), osprey.Operation{Text: "{ things { id " + asked.String() + "} }"})
	if err != nil || len(a.Errors) > 0 {
		t.Fatal(err, a.Errors)
	}
	var got struct{ Things []map[string]json.RawMessage }
	if err := json.Unmarshal(a.Data, &got); err != nil {
		t.Fatal(err)
	}
	checked := 0
	for i, thing := range got.Things {
		for name, typ := range names {
			stored, expr, call := string(thing[name]), string(thing[name+"Expr"]), string(thing[name+"Call"])
			if i > 0 && i-1 < len(values[typ]) && stored != values[typ][i-1] && typ != "Float" {
				t.Errorf("%s: %s is answered as %s", typ, values[typ][i-1], stored)
			}
			if expr != stored || call != stored {
				t.Errorf("%s: the store has %s, the expression %s, the function %s", typ, stored, expr, call)
			}
			checked++
		}
	}
	if checked < 60 {
		t.Errorf("only %d values were compared", checked)
	}
}
