package derive

import (
	"fmt"
	"slices"
	"strings"

	"osprey/core/scalar"
	"osprey/core/store"
	"osprey/core/words"
)

// This file makes fields of columns and paths.

// fields adds the fields of a type that are stored in its records.
func (d *deriver) fields(t *Type, set *store.Set) {
	if len(set.Keys) > 0 {
		t.Key = set.Keys[0]
	}
	if s := d.Declared[set.Name]; s != nil {
		d.keyFields(t, set)
		d.declaredFields(t, s, set, "")
		return
	}
	for i := range set.Fields {
		f := &set.Fields[i]
		switch {
		case slices.Contains(d.Omit, set.Name+"."+f.Name) || paths(set) && strings.Contains(f.Name, "."):
			continue
		case d.leads(set, f) && !slices.Contains(t.Key, f.Name):
			continue // the relationship stands for it
		case isSecret(f.Name) && !d.inKey(set, f.Name):
			t.Notes = append(t.Notes, "Left out, since it looks secret: "+f.Name)
			d.made.Left = append(d.made.Left, set.Name+"."+f.Name+": it looks secret")
			continue
		}
		typ := d.valueType(t, set, f)
		if s := d.Declared[set.Name+"."+f.Name]; s != nil && typ == "JSON" {
			typ = d.declaredType(s, set, f.Name, fieldName(f.Name))
		} else if s := d.sampleOf(set, f.Name); s != nil && typ == "JSON" {
			typ = d.sampledType(s, set, f.Name, fieldName(f.Name))
		}
		if typ == "" {
			t.Notes = append(t.Notes, "Left out, since no scalar holds it: "+f.Name+", "+f.Type)
			d.made.Left = append(d.made.Left, set.Name+"."+f.Name+": no scalar holds its type, "+f.Type)
			continue
		}
		t.Fields = append(t.Fields, &Field{Name: fieldName(f.Name), About: f.About, Note: sampled(set, f), Type: required(typ, !f.Nullable && set.What != "view" || slices.Contains(t.Key, f.Name)), of: "at " + f.Name})
	}
	if paths(set) {
		d.nestedIn(t, set, "")
	}
}

// keyFields adds the fields of a type that are its key.
func (d *deriver) keyFields(t *Type, set *store.Set) {
	for _, name := range t.Key {
		if f := set.Field(name); f != nil {
			t.Fields = append(t.Fields, &Field{Name: fieldName(name), About: f.About, Type: required(d.valueType(t, set, f), true), of: "at " + name})
		}
	}
}

// paths reports whether names with dots are paths into records nested in those of a set, as they
// are not in tables.
func paths(set *store.Set) bool { return set.What != "table" && set.What != "view" }

// fieldName makes the name of a field of a column's.
func fieldName(column string) string { return start(words.Camel(words.Of(column)), "field") }

func required(typ string, is bool) string {
	if is {
		return typ + "!"
	}
	return typ
}

// secret are words of names that look secret.
var secret = []string{"password", "passwd", "pwd", "passphrase", "passcode", "secret", "token", "salt", "credential", "credentials"}

// isSecret reports whether a column looks as if nobody should be told its values.
func isSecret(name string) bool {
	list := words.Of(name)
	joined := strings.Join(list, " ")
	return slices.ContainsFunc(list, func(w string) bool { return slices.Contains(secret, w) }) ||
		strings.Contains(joined, "private key") || strings.Contains(joined, "api key") || strings.Contains(joined, "access key")
}

// inKey reports whether a field is a part of a key of the set.
func (d *deriver) inKey(set *store.Set, field string) bool {
	return len(set.Keys) > 0 && slices.Contains(set.Keys[0], field)
}

// leads reports whether a field is a foreign key by itself, for which a relationship stands.
func (d *deriver) leads(set *store.Set, f *store.Field) bool {
	return slices.ContainsFunc(set.Constraints, func(c store.Constraint) bool {
		return c.Foreign() && len(c.Fields) == 1 && c.Fields[0] == f.Name && d.typeOf(c.Set) != ""
	})
}

// valueType returns the type of a column's values; "" if none holds them.
func (d *deriver) valueType(t *Type, set *store.Set, f *store.Field) string {
	if len(f.Values) > 0 {
		return d.enum(t, set, f)
	}
	if f.Kind == store.List {
		if scalar := scalar.Holding(f.Elem, f); scalar != "" {
			return "[" + scalar + "]"
		}
		return ""
	}
	if slices.Equal(t.Key, []string{f.Name}) || d.leads(set, f) {
		switch f.Kind {
		case store.Int, store.Text, store.UUID, store.Decimal:
			return "ID"
		}
	}
	if f.Kind == store.Unknown && set.Sampled && f.Type != "" && f.Type != "null" {
		return "JSON" // of several types
	}
	if f.Kind == store.Unknown && f.Type == "number" { // of files: whole ones, and others
		return "Float"
	}
	return scalar.Holding(f.Kind, f)
}

// sampled says what the records that were looked at tell of a field, where that is not all the
// same; "" if it is.
func sampled(set *store.Set, f *store.Field) string {
	var parts []string
	if f.Share > 0 && f.Share < 100 {
		parts = append(parts, fmt.Sprintf("in %d %% of %d", f.Share, set.Looked))
	}
	if strings.Contains(f.Type, " or ") {
		parts = append(parts, f.Type)
	}
	return strings.Join(parts, "; ")
}

// enum returns the enum of a column's values.
func (d *deriver) enum(t *Type, set *store.Set, f *store.Field) string {
	of, name := "type "+f.Type, words.Pascal(words.Of(strings.Trim(f.Type[strings.LastIndex(f.Type, ".")+1:], `"`)))
	if strings.HasPrefix(f.Type, "enum(") || f.Type == "text" { // which has no name of its own
		of, name = "values of "+set.Name+"."+f.Name, t.Name+words.Pascal(words.Of(f.Name))
	}
	for _, e := range d.made.Enums {
		if e.of == of {
			return e.Name
		}
	}
	return d.enumOf(of, d.free(d.Before.typeAt(set.Name, f.Name), start(name, "Value"), start(name, "Value")+"Value"), f.Values).Name
}

// enumOf makes an enum of the values that are stored.
func (d *deriver) enumOf(of, name string, values []string) *Enum {
	e := &Enum{of: of, Name: name}
	taken := map[string]bool{"true": true, "false": true, "null": true}
	for _, v := range values {
		own := start(words.Constant(words.Of(v)), "VALUE")
		for taken[own] {
			own += "_"
		}
		taken[own] = true
		e.Values = append(e.Values, Value{own, v})
	}
	d.made.Enums = append(d.made.Enums, e)
	return e
}

// nestedIn adds the fields of records that are nested in those of a set, by their paths with dots.
func (d *deriver) nestedIn(t *Type, set *store.Set, prefix string) {
	var names []string
	for i := range set.Fields {
		rest, ok := strings.CutPrefix(set.Fields[i].Name, prefix)
		name, _, more := strings.Cut(rest, ".")
		if ok && more && !slices.Contains(names, name) && !slices.Contains(d.Omit, set.Name+"."+prefix+name) {
			names = append(names, name)
		}
	}
	for _, name := range names {
		path := prefix + name
		list := slices.Contains(set.Lists, path)
		last := words.Of(name)
		if n := len(last); n > 0 && list {
			last[n-1] = words.Singular(last[n-1])
		}
		own := start(words.Pascal(last), "Part")
		inner := &Type{Name: d.free(d.Before.typeAt(set.Name, path), own, t.Name+own)}
		for i := range set.Fields {
			f := &set.Fields[i]
			rest, ok := strings.CutPrefix(f.Name, path+".")
			if !ok || strings.Contains(rest, ".") || slices.Contains(d.Omit, set.Name+"."+f.Name) {
				continue
			}
			typ := d.valueType(inner, set, f)
			if s := d.Declared[set.Name+"."+f.Name]; s != nil && typ == "JSON" {
				typ = d.declaredType(s, set, f.Name, fieldName(rest))
			}
			if typ != "" && !isSecret(f.Name) {
				inner.Fields = append(inner.Fields, &Field{Name: fieldName(rest), Note: sampled(set, f), Type: required(typ, !f.Nullable), of: "at " + rest})
				continue
			}
			inner.Notes = append(inner.Notes, "Left out: "+rest+", "+f.Type)
			d.made.Left = append(d.made.Left, set.Name+"."+f.Name+": its values are of several types, or look secret")
		}
		d.nestedIn(inner, set, path+".")
		if len(inner.Fields) == 0 {
			delete(d.taken, inner.Name)
			continue
		}
		d.names(inner)
		d.made.Types = append(d.made.Types, inner)
		typ := inner.Name
		if list {
			typ = "[" + typ + "!]"
		}
		t.Fields = append(t.Fields, &Field{Name: fieldName(name), Type: typ, of: "at " + name})
	}
}
