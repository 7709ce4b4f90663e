package project

import (
	"context"
	"slices"
	"strings"

	"osprey/core/derive"
	"osprey/core/language"
	"osprey/core/store"
	"osprey/core/words"
)

// This file finds references that no foreign key tells of: fields whose values are keys of other
// records, in the same source or in another one.

const (
	leadValues = 500    // records of which the values are looked at
	leadKeys   = 20_000 // keys that are read of a record set; one with more is not looked at
	leadShare  = 90     // how many of a hundred values must be keys
	leadSets   = 300    // record sets that are looked at
)

// A keyed set is a record set with a key of one field.
type keyed struct {
	source *Source
	set    string
	typ    string // of another source: the type of its records
	key    *store.Field
	keys   map[string]bool // canonical forms; nil before they are read
	read   bool
}

// leads looks for fields of a source that lead to records by their values. Sets that have foreign
// keys tell by them where they lead to.
func (p *Project) leads(ctx context.Context, source *Source, c *store.Catalogue, o *derive.Options) map[string]derive.Lead {
	targets := p.keyedSets(source, c, o)
	found := map[string]derive.Lead{}
	names := c.Names()
	for _, name := range names[:min(len(names), leadSets)] {
		set := c.Sets[name]
		foreign := slices.ContainsFunc(set.Constraints, func(c store.Constraint) bool { return c.Foreign() })
		if foreign || set.Part || slices.Contains(o.Omit, name) || len(o.Only) > 0 && !slices.Contains(o.Only, name) {
			continue
		}
		var fields []*store.Field
		for i := range set.Fields {
			if f := &set.Fields[i]; mayLead(set, f) {
				fields = append(fields, f)
			}
		}
		for i, values := range source.distinct(ctx, c, name, fields, leadValues) {
			if l, ok := leadOf(ctx, source, name, fields[i], values, targets); ok {
				found[name+"."+fields[i].Name] = l
			}
		}
	}
	return found
}

// mayLead reports whether the values of a field can be keys of other records.
func mayLead(set *store.Set, f *store.Field) bool {
	inList := slices.ContainsFunc(set.Lists, func(list string) bool { return strings.HasPrefix(f.Name, list+".") })
	isKey := len(set.Keys) > 0 && slices.Equal(set.Keys[0], []string{f.Name})
	return !inList && !isKey && len(f.Values) == 0 && (f.Kind == store.Text || f.Kind == store.Int || f.Kind == store.UUID)
}

// keyedSets returns the record sets to which values may lead: those of the source, and those of
// other sources that have a type.
func (p *Project) keyedSets(source *Source, c *store.Catalogue, o *derive.Options) (list []*keyed) {
	add := func(s *Source, set *store.Set, typ string) {
		if set != nil && !set.Part && len(set.Keys) > 0 && len(set.Keys[0]) == 1 && set.Rows <= leadKeys {
			if key := set.Field(set.Keys[0][0]); key != nil {
				list = append(list, &keyed{source: s, set: set.Name, typ: typ, key: key})
			}
		}
	}
	for _, name := range c.Names() {
		if !slices.Contains(o.Omit, name) {
			add(source, c.Sets[name], "")
		}
	}
	for _, t := range p.texts {
		doc, _ := language.Parse(language.NewSource(t.Name, t.Body))
		for _, d := range doc.Definitions {
			def, ok := d.(*language.TypeDefinition)
			if !ok || def.Extend {
				continue
			}
			for _, stored := range def.Directives {
				in := strings.Join(language.Texts(stored.Argument("in")), "")
				other := p.Sources[in]
				if stored.Name.Text != "stored" || other == nil || other == source {
					continue
				}
				set := strings.Join(language.Texts(stored.Argument("as")), "")
				if set == "" {
					set = other.naming.Apply(def.Name.Text)
				}
				if known, _ := other.known(); known != nil {
					add(other, known.Sets[set], def.Name.Text)
				}
			}
		}
	}
	return list
}

// leadOf returns to which records the values of a field lead: those that have nearly all of them as
// keys. Small numbers are keys of many: of these, the name must say so, too.
func leadOf(ctx context.Context, source *Source, set string, f *store.Field, values map[string]bool, targets []*keyed) (derive.Lead, bool) {
	var best *keyed
	share, clear := 0, true
	for _, t := range targets {
		if t.source == source && t.set == set && f.Name == t.key.Name || !store.Meet(f.Kind, t.key.Kind) || len(values) < 2 {
			continue
		}
		like := alike(f.Name, t)
		if !like && (f.Kind == store.Int || store.Numeric(t.key.Kind)) {
			continue
		}
		t.load(ctx)
		n := 0
		for v := range values {
			if t.keys[v] {
				n++
			}
		}
		if n*100 < leadShare*len(values) {
			continue
		}
		switch {
		case best == nil || like && !alike(f.Name, best):
			best, share, clear = t, n*100/len(values), true
		case like == alike(f.Name, best):
			clear = false // to one as well as to another
		}
	}
	if best == nil || !clear {
		return derive.Lead{}, false
	}
	l := derive.Lead{Set: best.set, Type: best.typ, There: best.key.Name, Share: share, Looked: len(values)}
	if best.typ != "" {
		l.Set, l.Source = "", best.source.Name
	}
	return l, true
}

// alike reports whether a field is called after a record set, or its type: callId after PortCall.
func alike(field string, t *keyed) bool {
	own := words.Of(field)
	for _, name := range []string{t.set, t.typ} {
		list := words.Of(name)
		if n := len(list); n > 0 && slices.ContainsFunc(own, func(w string) bool { return strings.EqualFold(w, words.Singular(list[n-1])) }) {
			return true
		}
	}
	return false
}

// load reads the keys of a set, once.
func (k *keyed) load(ctx context.Context) {
	if k.read {
		return
	}
	k.read = true
	c, _ := k.source.known()
	if found := k.source.distinct(ctx, c, k.set, []*store.Field{k.key}, leadKeys+1); len(found) == 1 && len(found[0]) <= leadKeys {
		k.keys = found[0]
	}
}

// distinct returns the values of some fields of a record set, each as keys are matched; nil if they
// cannot be read.
func (s *Source) distinct(ctx context.Context, c *store.Catalogue, set string, fields []*store.Field, most int64) []map[string]bool {
	can := s.Store.Capabilities()
	if len(fields) == 0 || can.Page < store.PageWhole {
		return nil // it would give all of them
	}
	read := &store.Read{Set: set, Parent: -1, Limit: true}
	for _, f := range fields {
		read.Columns = append(read.Columns, store.Wanted{Path: f.Name, Kind: f.Kind})
	}
	request, err := s.Store.Prepare(c, []*store.Read{read})
	if err != nil {
		return nil
	}
	a, err := request.Run(ctx, nil, []store.Input{{Limit: most}})
	if err != nil || len(a.Tables) != 1 || a.Tables[0] == nil {
		return nil
	}
	list := make([]map[string]bool, len(fields))
	for i := range fields {
		list[i] = map[string]bool{}
		for row := range a.Tables[0].Len {
			if key, ok := store.AppendKey(nil, &a.Tables[0].Columns[i], row); ok {
				list[i][string(key)] = true
			}
		}
	}
	if a.Release != nil {
		a.Release()
	}
	return list
}
