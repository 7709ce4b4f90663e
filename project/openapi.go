package project

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strings"

	"osprey/stores/rest"
)

// This file writes the part of osprey.yaml that declares a service.

// A ServiceEntry is what osprey.yaml says of a service.
type ServiceEntry struct {
	Name, URL string
	JSONAPI   bool
	Headers   map[string]string // with values as osprey.yaml has them
	Sets      []rest.Set
	Schemas   map[string]string // the JSON Schemas of fields, by set.field
}

// ServiceConfig writes a source of the kind rest, with its sets, as osprey.yaml has it.
func ServiceConfig(e *ServiceEntry) string {
	var b strings.Builder
	fmt.Fprintf(&b, "sources:\n  %s:\n    kind: rest\n", plainOrQuoted(e.Name))
	if e.JSONAPI {
		b.WriteString("    format: jsonapi\n")
	}
	fmt.Fprintf(&b, "    url: %s\n", quotedYAML(e.URL))
	for _, header := range sortedNames(e.Headers) {
		fmt.Fprintf(&b, "    headers: { %s: %s }\n", plainOrQuoted(header), quotedYAML(e.Headers[header]))
	}
	if len(e.Schemas) > 0 {
		b.WriteString("    derive:\n      schemas:\n")
		for _, of := range sortedNames(e.Schemas) {
			fmt.Fprintf(&b, "        %s: %s\n", plainOrQuoted(of), quotedYAML(e.Schemas[of]))
		}
	}
	b.WriteString("    sets:\n")
	for _, set := range e.Sets {
		fmt.Fprintf(&b, "      %s:\n", plainOrQuoted(set.Name))
		if len(set.Key) > 0 {
			fmt.Fprintf(&b, "        key: %s\n", flowList(set.Key))
		}
		b.WriteString("        fields:\n")
		for _, f := range set.Fields {
			word := f.Kind.String()
			if f.List {
				word = "[" + word + "]"
			}
			if f.Nullable {
				word += "?"
			}
			fmt.Fprintf(&b, "          %s: %s\n", plainOrQuoted(f.Name), plainOrQuoted(word))
		}
		if len(set.Related) > 0 {
			b.WriteString("        related:\n")
			for _, related := range sortedNames(set.Related) {
				fmt.Fprintf(&b, "          %s: %s\n", plainOrQuoted(related), plainOrQuoted(set.Related[related]))
			}
		}
		if len(set.Reads) > 0 {
			b.WriteString("        reads:\n")
		}
		for _, r := range set.Reads {
			writeRead(&b, &r)
		}
		writeWrites(&b, &set.Writes)
	}
	return b.String()
}

func writeRead(b *strings.Builder, r *rest.ReadForm) {
	fmt.Fprintf(b, "          - get: %s\n", quotedYAML(r.Get))
	for _, key := range []struct{ name, value string }{{"many", r.Many}, {"pick", r.Pick}, {"limit", r.Limit}, {"offset", r.Offset}} {
		if key.value != "" {
			fmt.Fprintf(b, "            %s: %s\n", key.name, plainOrQuoted(key.value))
		}
	}
	if p := r.Pages; p != nil {
		switch {
		case p.Link:
			b.WriteString("            pages: { link: true }\n")
		case p.Number != "":
			fmt.Fprintf(b, "            pages: { number: %s }\n", plainOrQuoted(p.Number))
		default:
			fmt.Fprintf(b, "            pages: { cursor: %s, next: %s }\n", plainOrQuoted(p.Cursor), quotedYAML(p.Next))
		}
	}
}

func writeWrites(b *strings.Builder, w *rest.Writes) {
	var lines []string
	for _, way := range []struct {
		name string
		form *rest.WriteForm
	}{{"add", w.Add}, {"replace", w.Replace}, {"change", w.Change}, {"remove", w.Remove}} {
		if way.form == nil {
			continue
		}
		for _, method := range []struct{ name, address string }{{"post", way.form.Post}, {"put", way.form.Put}, {"patch", way.form.Patch}, {"delete", way.form.Delete}} {
			if method.address != "" {
				lines = append(lines, fmt.Sprintf("          %s: { %s: %s }\n", way.name, method.name, quotedYAML(method.address)))
			}
		}
	}
	if len(lines) > 0 {
		b.WriteString("        writes:\n" + strings.Join(lines, ""))
	}
}

// plain are words that need no marks in YAML.
var plain = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_.-]*\??$`)

func plainOrQuoted(text string) string {
	switch strings.ToLower(text) {
	case "true", "false", "yes", "no", "on", "off", "null", "y", "n":
		return quotedYAML(text)
	}
	if plain.MatchString(text) {
		return text
	}
	return quotedYAML(text)
}

// quotedYAML writes a text in double marks, of which JSON's are YAML's, too.
func quotedYAML(text string) string {
	q, _ := json.Marshal(text) // a string is always written
	return strings.NewReplacer(`\u0026`, "&", `\u003c`, "<", `\u003e`, ">").Replace(string(q))
}

func flowList(list []string) string {
	if len(list) == 1 {
		return plainOrQuoted(list[0])
	}
	quoted := make([]string, len(list))
	for i, item := range list {
		quoted[i] = plainOrQuoted(item)
	}
	return "[" + strings.Join(quoted, ", ") + "]"
}
