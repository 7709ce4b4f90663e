package conform

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"

	"osprey/core/store"
)

// This file makes random rules, and tells by itself which records of a world they leave to a caller.

// A truth is what a condition is of a record.
type truth uint8

const (
	neither truth = iota // something of it is missing
	yes
	no
)

func truthOf(is bool) truth {
	if is {
		return yes
	}
	return no
}

// A condition is an expression with what it means.
type condition struct {
	text string
	of   func(who *store.Identity, record Record) truth
}

// Callers are who asks in worlds with rules.
var Callers = []*store.Identity{
	nil,
	{ID: "ada", Name: "Aurora", Roles: []string{"clerk"}, Claims: map[string]any{"n": 5.0, "ids": []any{"1", "3", "4", "9"}, "part": "r", "deep": map[string]any{"n": 2.0}}},
	{ID: "bea", Name: "tern", Roles: []string{"pilot", "other"}, Claims: map[string]any{"n": 3.5, "ids": []any{}, "part": ""}},
	{ID: "cid", Claims: map[string]any{"n": "5", "ids": []any{2.0, "2", nil, "11"}}},
}

// Rule gives each type of a world a random rule, or none. It returns a function that tells what is left of
// the world for a caller.
func (w *World) Rule(r *rand.Rand) (seen func(who *store.Identity) *World) {
	left := map[*WorldType]func(who *store.Identity, record Record) bool{}
	shown := map[*WorldType]func(who *store.Identity, record Record) truth{}
	w.forgetAny()
	for _, t := range w.Types {
		if r.IntN(2) == 0 {
			c := w.condition(r, t, 2)
			t.Double, shown[t] = fmt.Sprintf("@for(when: %q) ", c.text), c.of
		}
		if r.IntN(4) == 0 {
			continue
		}
		var ways []func(who *store.Identity, record Record) bool
		rests, far := false, false
		for range 1 + r.IntN(2) {
			c := w.condition(r, t, 2)
			for {
				own := strings.Contains(c.text, "size()") || strings.Contains(c.text, "%")
				related := strings.Contains(c.text, "record.r") || strings.Contains(c.text, "(m, ")
				if (rests || own) && (far || related) { // which nothing could decide
					c = w.condition(r, t, 2)
					continue
				}
				rests, far = rests || own, far || related
				break
			}
			switch r.IntN(5) {
			case 0: // also of callers with a role
				role := []string{"clerk", "pilot", "nobody"}[r.IntN(3)]
				t.Rule += fmt.Sprintf("@for(roles: [%q, \"master\"]) ", role)
				ways = append(ways, func(who *store.Identity, _ Record) bool { return hasRole(who, role) })
				fallthrough
			default:
				t.Rule += fmt.Sprintf("@for(when: %q) ", c.text)
				ways = append(ways, func(who *store.Identity, record Record) bool { return c.of(who, record) == yes })
			case 1: // and with a role
				t.Rule += fmt.Sprintf("@for(roles: [\"clerk\"], when: %q) ", c.text)
				ways = append(ways, func(who *store.Identity, record Record) bool {
					return hasRole(who, "clerk") && c.of(who, record) == yes
				})
			}
		}
		left[t] = func(who *store.Identity, record Record) bool {
			return slices.ContainsFunc(ways, func(way func(*store.Identity, Record) bool) bool { return way(who, record) })
		}
	}
	return func(who *store.Identity) *World {
		own := &World{}
		copies := map[*WorldType]*WorldType{}
		for _, t := range w.Types {
			c := *t
			c.Rule = ""
			copies[t] = &c
			c.Records = slices.Clone(t.Records)
			if is := shown[t]; is != nil {
				c.Double, c.Masked = "", true
				for i, record := range c.Records {
					record = maps.Clone(record)
					record["ok"] = is(who, record) == yes
					c.Records[i] = record
				}
			}
			if is := left[t]; is != nil {
				c.Records = slices.DeleteFunc(c.Records, func(record Record) bool { return !is(who, record) })
			}
			own.Types = append(own.Types, &c)
		}
		own.forgetAny()
		for _, c := range own.Types {
			c.Refs = slices.Clone(c.Refs)
			for i := range c.Refs {
				c.Refs[i].To = copies[c.Refs[i].To]
			}
			c.Pals, c.Mates = copies[c.Pals], copies[c.Mates]
		}
		return own
	}
}

// forgetAny takes the references any away that lead to no record: where nothing but the type is asked of
// what one leads to, and it has no rule, it is not read.
func (w *World) forgetAny() {
	known := map[string]bool{}
	for _, t := range w.Types {
		for _, record := range t.Records {
			known[fmt.Sprint(t.Name, record["id"])] = true
		}
	}
	for _, t := range w.Types {
		for i, record := range t.Records {
			if kind := t.value(record, "any_kind"); kind == nil || known[fmt.Sprint(kind, t.value(record, "any_id"))] {
				continue
			}
			record = maps.Clone(record)
			if doc, nested := record["doc"].(Record); nested {
				doc = maps.Clone(doc)
				delete(doc, "any_kind")
				delete(doc, "any_id")
				record["doc"] = doc
			}
			delete(record, "any_kind")
			delete(record, "any_id")
			t.Records[i] = record
		}
	}
}

func hasRole(who *store.Identity, role string) bool {
	return who != nil && slices.Contains(who.Roles, role)
}

// relational are the sources that look at related records of their own.
var relationalSources = []string{"postgres", "mysql", "sqlite"}

// condition returns a random condition on records of a type.
func (w *World) condition(r *rand.Rand, t *WorldType, depth int) condition {
	if depth > 0 && r.IntN(3) > 0 {
		a, b := w.condition(r, t, depth-1), w.condition(r, t, depth-1)
		switch r.IntN(4) {
		case 0:
			return condition{"(" + a.text + " && " + b.text + ")", func(who *store.Identity, record Record) truth {
				x, y := a.of(who, record), b.of(who, record)
				switch {
				case x == no || y == no:
					return no
				case x == yes && y == yes:
					return yes
				}
				return neither
			}}
		case 1, 2:
			return condition{"(" + a.text + " || " + b.text + ")", func(who *store.Identity, record Record) truth {
				x, y := a.of(who, record), b.of(who, record)
				switch {
				case x == yes || y == yes:
					return yes
				case x == no && y == no:
					return no
				}
				return neither
			}}
		}
		return condition{"!" + parenthesised(a.text), func(who *store.Identity, record Record) truth {
			switch a.of(who, record) {
			case yes:
				return no
			case no:
				return yes
			}
			return neither
		}}
	}
	switch r.IntN(10) {
	case 0:
		return ofCaller(r)
	case 1:
		return w.ofRelated(r, t)
	}
	return t.ofOwn(r, "record")
}

func parenthesised(text string) string {
	if strings.HasPrefix(text, "(") {
		return text
	}
	return "(" + text + ")"
}

// ofCaller returns a condition that looks at no record.
func ofCaller(r *rand.Rand) condition {
	switch r.IntN(4) {
	case 0:
		return condition{"'clerk' in caller.roles", func(who *store.Identity, _ Record) truth { return truthOf(hasRole(who, "clerk")) }}
	case 1:
		return condition{"caller.id == 'ada'", func(who *store.Identity, _ Record) truth { return truthOf(who != nil && who.ID == "ada") }}
	case 2:
		return condition{"caller.claims.deep.n == 2", func(who *store.Identity, _ Record) truth {
			if who == nil || who.Claims["deep"] == nil {
				return neither
			}
			return yes
		}}
	}
	return condition{"has(caller.claims.ids)", func(who *store.Identity, _ Record) truth { return truthOf(who != nil && who.Claims["ids"] != nil) }}
}

// value returns the value of a field of a record; nil for none.
func (t *WorldType) value(record Record, field string) any {
	if slices.Contains(t.Inside, field) {
		doc, _ := record["doc"].(Record)
		return doc[field]
	}
	return record[field]
}

func claim(who *store.Identity, name string) (any, bool) {
	if who == nil {
		return nil, false
	}
	v, ok := who.Claims[name]
	return v, ok
}

// ofOwn returns a condition on the record itself, which has the name on.
func (t *WorldType) ofOwn(r *rand.Rand, on string) condition {
	text := func(format string, args ...any) string {
		return strings.ReplaceAll(fmt.Sprintf(format, args...), "record", on)
	}
	switch r.IntN(10) {
	case 0, 1: // a number, with that of the caller
		op := []string{"==", "!=", "<", "<=", ">", ">="}[r.IntN(6)]
		return condition{text("record.n %s caller.claims.n", op), func(who *store.Identity, record Record) truth {
			v, ok := claim(who, "n")
			if !ok {
				return neither
			}
			n, some := t.value(record, "n").(int)
			with, isNumber := v.(float64)
			switch op {
			case "==":
				return truthOf(some && isNumber && float64(n) == with)
			case "!=":
				return truthOf(!(some && isNumber && float64(n) == with))
			}
			if !some || !isNumber {
				return neither
			}
			return truthOf(map[string]bool{"<": float64(n) < with, "<=": float64(n) <= with, ">": float64(n) > with, ">=": float64(n) >= with}[op])
		}}
	case 2:
		limit := r.IntN(9)
		return condition{text("%d < record.n", limit), func(_ *store.Identity, record Record) truth {
			n, some := t.value(record, "n").(int)
			if !some {
				return neither
			}
			return truthOf(limit < n)
		}}
	case 3:
		return condition{text("record.name == caller.name"), func(who *store.Identity, record Record) truth {
			name, some := t.value(record, "name").(string)
			return truthOf(some && who != nil && who.Name != "" && name == who.Name)
		}}
	case 4:
		return condition{text("record.id in caller.claims.ids"), func(who *store.Identity, record Record) truth {
			v, ok := claim(who, "ids")
			if !ok {
				return neither
			}
			return truthOf(slices.Contains(v.([]any), any(strconv.Itoa(record["id"].(int)))))
		}}
	case 5:
		some := []string{names[r.IntN(len(names))], names[r.IntN(len(names))]}
		return condition{text("record.name in ['%s', '%s']", quoted(some[0]), quoted(some[1])), func(_ *store.Identity, record Record) truth {
			name, is := t.value(record, "name").(string)
			return truthOf(is && slices.Contains(some, name))
		}}
	case 6:
		return condition{text("%s", []string{"has(record.n)", "record.n != null"}[r.IntN(2)]), func(_ *store.Identity, record Record) truth { return truthOf(t.value(record, "n") != nil) }}
	case 7:
		return condition{text("record.name.contains(caller.claims.part)"), func(who *store.Identity, record Record) truth {
			v, ok := claim(who, "part")
			name, some := t.value(record, "name").(string)
			if !ok || !some {
				return neither
			}
			return truthOf(strings.Contains(name, v.(string)))
		}}
	case 8:
		if on != "record" { // of a related record, all must be asked of the store
			break
		}
		return condition{text("record.name.size() > 5"), func(_ *store.Identity, record Record) truth {
			name, some := t.value(record, "name").(string)
			if !some {
				return neither
			}
			return truthOf(len([]rune(name)) > 5)
		}}
	}
	if on != "record" {
		return condition{text("record.n == 3"), func(_ *store.Identity, record Record) truth {
			n, some := t.value(record, "n").(int)
			return truthOf(some && n == 3)
		}}
	}
	return condition{text("record.n %% 2 == 0"), func(_ *store.Identity, record Record) truth {
		n, some := t.value(record, "n").(int)
		if !some {
			return neither
		}
		return truthOf(n%2 == 0)
	}}
}

func quoted(s string) string { return strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(s) }

// ofRelated returns a condition on related records of the same source, if that looks at them. They are what
// is stored, whatever their own rules say.
func (w *World) ofRelated(r *rand.Rand, t *WorldType) condition {
	if !slices.Contains(relationalSources, t.Source) {
		return t.ofOwn(r, "record")
	}
	for _, ref := range t.Refs {
		if ref.To.Source != t.Source || r.IntN(2) == 0 {
			continue
		}
		inner := ref.To.ofOwn(r, "record."+ref.Name)
		if strings.Contains(inner.text, "size()") || strings.Contains(inner.text, "%") {
			continue
		}
		return condition{inner.text, func(who *store.Identity, record Record) truth {
			for _, other := range ref.To.Records {
				if other["id"] == t.value(record, ref.Field) {
					return inner.of(who, other)
				}
			}
			return neither
		}}
	}
	for _, l := range w.lists(t) {
		if l.of.Source != t.Source {
			continue
		}
		inner := l.of.ofOwn(r, "m")
		all := r.IntN(3) == 0
		macro := "exists"
		if all {
			macro = "all"
		}
		return condition{"record." + l.name + "." + macro + "(m, " + inner.text + ")", func(who *store.Identity, record Record) truth {
			result := truthOf(all)
			for _, other := range l.of.Records {
				if l.of.value(other, l.ref.Field) != record["id"] {
					continue
				}
				switch is := inner.of(who, other); {
				case is == truthOf(!all):
					return is
				case is == neither:
					result = neither
				}
			}
			return result
		}}
	}
	return t.ofOwn(r, "record")
}
