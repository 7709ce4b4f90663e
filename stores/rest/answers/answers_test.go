package answers_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"osprey/stores/rest/answers"
)

// TestRead reads what services answer, which are given by their addresses.
func TestRead(t *testing.T) {
	const base = "https://port.example/v1"
	boats := func(data ...string) string { return `{"data": [` + strings.Join(data, ",") + `]}` }
	const ebb = `{"type": "boats", "id": "1", "attributes": {"name": "Ebb", "length": 12, "built": "2001-02-03", "seen": "2026-03-01T08:30:00Z", "tags": ["a"], "spec": {"x": 1}, "any": 1, "sail": true, "gone": null},
		"relationships": {"home": {"data": {"type": "ports", "id": "p"}}, "crew": {"data": [{"type": "hands", "id": "h"}]}, "near": {"data": [{"type": "boats", "id": "2"}, {"type": "ports", "id": "p"}]}, "void": {"data": null}}}`
	const flow = `{"type": "boats", "id": "2", "attributes": {"name": "Flow", "length": 12.5, "built": "2001-02-03T00:00:00Z", "seen": "2026-03-01T08:30:00Z", "tags": [], "spec": {"x": 2}, "any": "x", "sail": false, "gone": null}}`
	const port = `{"type": "ports", "id": "p", "attributes": {"name": "Skerrow"}}`
	for name, test := range map[string]struct {
		answers map[string]string // by what is behind the base
		want    string
	}{
		"all kinds": {map[string]string{"/boats": boats(ebb, flow), "/boats?include=crew,home,near": `{"data": [], "included": [` + port + `]}`, "/boats?filter%5Bid%5D=1,2": boats(ebb, flow)},
			"boats: any json, built text, gone json?, length float, name text, sail bool, seen time, spec json, tags [text]; home → ports; /boats, /boats?filter[id]={id} many id\nports: name text; ; \n" +
				"left boats.crew: no resource that it leads to was given; boats.near: it leads to resources of several types; hands: no resource of this type was given"},
		"by one": {map[string]string{"/boats": boats(flow, ebb), "/boats?filter%5Bid%5D=2,1": boats(flow, ebb, port), "/boats/2": `{"data": ` + flow + `}`, "/ports": boats(port), "/ports/p": `{"data": ` + port + `}`},
			"boats: any json, built text, gone json?, length float, name text, sail bool, seen time, spec json, tags [text]; home → ports; /boats, /boats/{id}\nports: name text; ; /ports, /ports/{id}\n" +
				"left boats.crew: no resource that it leads to was given; boats.near: it leads to resources of several types; hands: no resource of this type was given"},
	} {
		s, err := answers.Read(base+"/boats?page=1", func(address string) ([]byte, error) {
			text, ok := test.answers[strings.ReplaceAll(strings.TrimPrefix(address, base), "%2C", ",")]
			if !ok {
				return nil, errors.New("not found")
			}
			return []byte(text), nil
		})
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if s.URL != base {
			t.Errorf("%s: it is at %s", name, s.URL)
		}
		got := ""
		for _, set := range s.Sets {
			var fields, reads []string
			for _, f := range set.Fields {
				kind := f.Kind.String()
				if f.List {
					kind = "[" + kind + "]"
				}
				if f.Nullable {
					kind += "?"
				}
				fields = append(fields, f.Name+" "+kind)
			}
			related := ""
			for name, to := range set.Related {
				related += name + " → " + to
			}
			for _, r := range set.Reads {
				text := r.Get
				if r.Many != "" {
					text += " many " + r.Many
				}
				reads = append(reads, text)
			}
			got += fmt.Sprintf("%s: %s; %s; %s\n", set.Name, strings.Join(fields, ", "), related, strings.Join(reads, ", "))
		}
		if got += "left " + strings.Join(s.Left, "; "); got != test.want {
			t.Errorf("%s is read as\n%s\nwant\n%s", name, got, test.want)
		}
	}
	for text, want := range map[string]string{"": "no answer of JSON:API", "[]": "no answer of JSON:API", `{"data": []}`: "no resource", `{"data": null}`: "no resource", `{"data": [{"id": "1"}]}`: "no answer of JSON:API", `{"data": {"type": 7}}`: "no answer of JSON:API"} {
		if _, err := answers.Read(base+"/boats", func(string) ([]byte, error) { return []byte(text), nil }); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q is read: %v", text, err)
		}
		if answers.Is([]byte(text)) {
			t.Errorf("%q is taken for an answer of resources", text)
		}
	}
}
