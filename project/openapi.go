package project

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strings"

	"osprey/stores/rest"
)

// This file writes the part of osprey.yaml that declares a service.

// ServiceConfig writes a source of the kind rest, with its sets, as osprey.yaml has it. Headers
// have values as osprey.yaml has them, and schemas are the JSON Schemas of fields, by set.field.
func ServiceConfig(name, url string, headers map[string]string, sets []rest.Set, schemas map[string]string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "sources:\n  %s:\n    kind: rest\n    url: %s\n", plainOrQuoted(name), quotedYAML(url))
	for _, header := range sortedNames(headers) {
		fmt.Fprintf(&b, "    headers: { %s: %s }\n", plainOrQuoted(header), quotedYAML(headers[header]))
	}
	if len(schemas) > 0 {
		b.WriteString("    derive:\n      schemas:\n")
		for _, of := range sortedNames(schemas) {
			fmt.Fprintf(&b, "        %s: %s\n", plainOrQuoted(of), quotedYAML(schemas[of]))
		}
	}
	b.WriteString("    sets:\n")
	for _, set := range sets {
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
		b.WriteString("        reads:\n")
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
