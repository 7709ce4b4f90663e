package derive

import (
	"bytes"
	"encoding/json"
	"strings"
)

// This file writes what was derived as a text of the schema language.

// Text writes types and enums.
func (d *Derived) Text(source string) string {
	var b strings.Builder
	for _, t := range d.Types {
		b.WriteString("\n")
		t.write(&b, source)
	}
	for _, e := range d.Enums {
		b.WriteString("\nenum " + e.Name + " {\n")
		for _, v := range e.Values {
			b.WriteString("  " + v.Name)
			if v.Stored != v.Name {
				b.WriteString(" @at(path: " + quoted(v.Stored) + ")")
			}
			b.WriteString("\n")
		}
		b.WriteString("}\n")
	}
	return b.String()
}

func (t *Type) write(b *strings.Builder, source string) {
	about(b, "", t.About)
	b.WriteString("type " + t.Name)
	if t.Set != "" {
		b.WriteString(" @stored(in: " + quoted(source) + ", as: " + quoted(t.Set))
		if len(t.Key) > 0 {
			b.WriteString(", key: " + names(t.Key))
		}
		b.WriteString(")")
	}
	b.WriteString(" {\n")
	for _, f := range t.Fields {
		if f.Note != "" {
			b.WriteString("  # " + oneLine(f.Note) + "\n")
		}
		about(b, "  ", f.About)
		b.WriteString("  " + f.Name + ": " + f.Type)
		if f.Directive != "" {
			b.WriteString(" " + f.Directive)
		}
		b.WriteString("\n")
	}
	for _, note := range t.Notes {
		b.WriteString("  # " + oneLine(note) + "\n")
	}
	b.WriteString("}\n")
}

// about writes a comment of the store as a description.
func about(b *strings.Builder, indent, text string) {
	if text = strings.TrimSpace(text); text != "" {
		b.WriteString(indent + quoted(oneLine(text)) + "\n")
	}
}

func oneLine(text string) string { return strings.Join(strings.Fields(text), " ") }

// quoted writes a string of the schema language.
func quoted(text string) string {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	_ = e.Encode(text) // a string is always written
	return strings.TrimSpace(b.String())
}

// Without takes fields out, by their coordinates, and types without any field; it reports whether
// there were any.
func (d *Derived) Without(coordinates map[string]string) (some bool) {
	for _, t := range d.Types {
		kept := t.Fields[:0]
		for _, f := range t.Fields {
			if why := coordinates[t.Name+"."+f.Name]; why != "" {
				t.Notes = append(t.Notes, "Left out: "+f.Name+", since "+why)
				d.Left = append(d.Left, t.Name+"."+f.Name+": "+why)
				some = true
				continue
			}
			kept = append(kept, f)
		}
		t.Fields = kept
	}
	kept := d.Types[:0]
	for _, t := range d.Types {
		if why := coordinates[t.Name]; why != "" || len(t.Fields) == 0 {
			if why == "" {
				why = "it has no fields"
			}
			d.Left = append(d.Left, t.Name+": "+why)
			some = true
			continue
		}
		kept = append(kept, t)
	}
	d.Types = kept
	return some
}
