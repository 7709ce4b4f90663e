package editing

import "strings"

// This file reads what expressions name, of which only the paths of fields matter here.

// expression adds what an expression names: record.a.b, and args.a, and the entries of an object
// that it makes. Names that it gives to the records of a list have the fields of these:
//
//	record.incidents.exists(i, i.kind != 'late pilot')
func (w *reading) expression(text string, in mapping, on string, at spot) {
	scope := map[string]string{"record": on}
	found, entries := paths(text)
	for _, e := range entries {
		if w.fieldOf(at.of, e.name) {
			w.named(in, e, at.of)
		}
	}
	for _, path := range found {
		if path.parts[0].name == "args" && len(path.parts) > 1 {
			a := path.parts[1]
			if at.input { // what is given beside it
				w.add(in(a.at), in(a.at)+len(a.name), Symbol{Kind: Field, Name: at.owner + "." + a.name}, at.owner+"."+a.name, false)
				continue
			}
			rest := "." + at.field + "(" + a.name + ":)"
			w.add(in(a.at), in(a.at)+len(a.name), Symbol{Kind: Argument, Name: w.family(at.owner, at.field) + rest}, at.owner+rest, false)
			continue
		}
		on, ok := scope[path.parts[0].name]
		if !ok {
			continue
		}
		for _, part := range path.parts[1:] {
			if !w.fieldOf(on, part.name) {
				break
			}
			w.named(in, part, on)
			on = typeOf(w.types[on].fields[part.name].Type)
		}
		if path.binds != "" {
			scope[path.binds] = on
		}
	}
}

// A path is names with dots between them in an expression.
type path struct {
	parts []part
	// binds is the name that a macro behind it gives to each of its records.
	binds string
}

type part struct {
	name string
	at   int
}

// paths returns the paths of an expression, without what stands in strings, and the keys of
// the objects that it writes out.
func paths(text string) (list []path, entries []part) {
	isName := func(c byte) bool {
		return c == '_' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9'
	}
	for i := 0; i < len(text); {
		c := text[i]
		switch {
		case c == '\'' || c == '"':
			from := i + 1
			for i++; i < len(text) && text[i] != c; i++ {
				if text[i] == '\\' {
					i++
				}
			}
			to := min(i, len(text))
			i++
			before, behind := strings.TrimRight(text[:from-1], " \n\t"), strings.TrimLeft(text[min(i, len(text)):], " \n\t")
			if strings.HasPrefix(behind, ":") && (strings.HasSuffix(before, "{") || strings.HasSuffix(before, ",")) {
				entries = append(entries, part{text[from:to], from})
			}
		case isName(c):
			p := path{}
			for {
				from := i
				for i < len(text) && isName(text[i]) {
					i++
				}
				p.parts = append(p.parts, part{text[from:i], from})
				next := i
				if strings.HasPrefix(text[next:], ".?") {
					next++
				}
				if next+1 >= len(text) || text[next] != '.' && text[next] != '?' || !isName(text[next+1]) {
					break
				}
				i = next + 1
			}
			if i < len(text) && text[i] == '(' && len(p.parts) > 1 { // the last is a function
				p.parts = p.parts[:len(p.parts)-1]
				inner := strings.TrimLeft(text[i+1:], " ")
				if name, _, ok := strings.Cut(inner, ","); ok && name != "" && !strings.ContainsFunc(name, func(r rune) bool { return !isName(byte(r)) }) {
					p.binds = name
				}
			}
			list = append(list, p)
		default:
			i++
		}
	}
	return list, entries
}
