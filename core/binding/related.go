package binding

import (
	"fmt"
	"slices"
	"strings"

	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/store"
)

// related binds a field with @related: the records of one set, or those of
// several merged.
func (b *binder) related(p place, f *schema.Field) *Field {
	targets := b.targets(f, directive(f, "related").Pos)
	directives := b.partDirectives(f, targets)
	var parts []*Field
	for i, t := range targets {
		d := directives[i]
		if d == nil {
			continue
		}
		part := b.relatedRecords(p, f, d, t)
		if part == nil {
			continue
		}
		b.cardinality(p, f, d, part)
		part.Sort = b.sorts(language.Texts(d.Argument("sort")), part.Target, d.Pos, f.Coordinate())
		if part.Page != nil {
			b.page(f, part)
		}
		b.arguments(f, part)
		b.keyReader(p.records, f, d.Pos, part, part.There)
		parts = append(parts, part)
	}
	if len(targets) == 0 || len(parts) < len(targets) {
		return nil
	}
	return b.merged(p, f, parts)
}

// relatedRecords binds which records of one set a field with @related leads to.
func (b *binder) relatedRecords(p place, f *schema.Field, d *language.Directive, t target) *Field {
	coordinate := f.Coordinate()
	target := t.records
	bound := &Field{Def: f, How: Related, Target: target, Only: t.only}
	_, bound.Page = b.recordType(f)
	_, bound.Many = schema.ListElem(f.Type)
	bound.Many = bound.Many || bound.Page != nil
	bound.Here, bound.There = language.Texts(d.Argument("here")), language.Texts(d.Argument("there"))
	own := p.records
	unknown := own.unknown() || target.unknown()
	if through, ok := d.Argument("through").(*language.ObjectValue); ok {
		if !b.through(p, f, d, bound, through) {
			return nil
		}
	} else {
		b.defaultFields(p, f, bound)
	}
	if unknown && (len(bound.Here) == 0 || len(bound.There) == 0 || bound.JoinTable == nil && len(bound.Here) != len(bound.There)) {
		bound.Here, bound.There = []string{own.someField()}, []string{target.someField()}
		return bound
	}
	if bound.JoinTable == nil && len(bound.Here) != len(bound.There) || len(bound.Here) == 0 {
		b.fail(ruleRelated, d.Pos, coordinate, "name as many fields in \"here\" as in \"there\"", msgRelatesFieldsFields, coordinate, len(bound.Here), p.stored(bound.Here...), len(bound.There), place{records: target}.stored(bound.There...))
		return nil
	}
	for i := range bound.Here {
		if own != nil {
			bound.Here[i] = strings.TrimPrefix(b.path(p.source, own.Info, p.prefix+bound.Here[i]), p.prefix)
			b.mustExist(own, p.prefix+bound.Here[i], d.Pos, coordinate, "what "+coordinate+" relates here")
		}
	}
	for i := range bound.There {
		bound.There[i] = b.path(target.Source, target.Info, bound.There[i])
		b.mustExist(target, bound.There[i], d.Pos, coordinate, "what "+coordinate+" relates there")
	}
	b.keys(p, f, d.Pos, bound)
	if k := directive(f, "kind"); k != nil && text(k, "is") != "" {
		bound.Where = b.told(target, "", text(k, "by"), k, coordinate, "what tells the records of "+coordinate)
		bound.Where.Is = text(k, "is")
	}
	return bound
}

// defaultFields fills in what @related leaves out.
func (b *binder) defaultFields(p place, f *schema.Field, bound *Field) {
	target := bound.Target
	if bound.Many {
		if len(bound.Here) == 0 && p.records != nil {
			bound.Here = slices.Clone(p.records.Key)
		}
		if len(bound.There) == 0 && p.records != nil {
			for _, key := range bound.Here {
				bound.There = append(bound.There, target.Source.Naming.Apply(lowerFirst(p.records.Type.String()))+"_"+key)
			}
		}
		return
	}
	if len(bound.There) == 0 {
		bound.There = slices.Clone(target.Key)
	}
	if len(bound.Here) == 0 {
		for _, key := range bound.There {
			bound.Here = append(bound.Here, p.source.Naming.Apply(f.Name)+"_"+key)
		}
	}
}

func lowerFirst(s string) string { return strings.ToLower(s[:1]) + s[1:] }

// through binds the pairs of a many-to-many relationship.
func (b *binder) through(p place, f *schema.Field, d *language.Directive, bound *Field, v *language.ObjectValue) bool {
	t := &store.JoinTable{}
	for _, a := range v.Fields {
		switch a.Name.Text {
		case "set":
			t.Set = language.Texts(a.Value)[0]
		case "here":
			t.Here = language.Texts(a.Value)
		case "there":
			t.There = language.Texts(a.Value)
		}
	}
	coordinate := f.Coordinate()
	if p.source != bound.Target.Source || !p.source.Capabilities.Link {
		b.fail(ruleNotYet, d.Pos, coordinate, "keep the pairs in the store of both types", msgGoesThroughVersionOsprey, coordinate, t.Set)
		return false
	}
	if p.records != nil && len(bound.Here) == 0 {
		bound.Here = slices.Clone(p.records.Key)
	}
	if len(bound.There) == 0 {
		bound.There = slices.Clone(bound.Target.Key)
	}
	if !bound.Many {
		b.fail(ruleUnique, f.Pos, coordinate, "make it a list", msgGoesThroughPairsCan, coordinate, schema.NamedOf(f.Type))
	}
	if !bound.Target.unknown() && (len(t.Here) != len(bound.Here) || len(t.There) != len(bound.There)) {
		b.fail(ruleRelated, d.Pos, coordinate, "", msgPairsNameFieldsRecord, coordinate, t.Set,
			len(t.Here), strings.Join(t.Here, ", "), len(bound.Here), strings.Join(bound.Here, ", "), len(t.There), strings.Join(t.There, ", "), len(bound.There), strings.Join(bound.There, ", "))
		return false
	}
	if c := p.source.Catalogue; c != nil {
		info := c.Sets[t.Set]
		if info == nil {
			b.fail(ruleSource, d.Pos, coordinate, "", msgSourceHasNoRecord, "the join table of "+coordinate, t.Set, p.source.Name, language.DidYouMean(t.Set, c.Names()))
			return false
		}
		pairs := &Records{Source: p.source, Set: t.Set, Info: info}
		for _, name := range slices.Concat(t.Here, t.There) {
			if f := b.mustExist(pairs, name, d.Pos, coordinate, "what pairs the records of "+coordinate); f != nil && f.Column != "" {
				b.fail(ruleNotYet, d.Pos, coordinate, "pair them by columns", msgPairsInside, coordinate, t.Set, name)
			}
		}
		if !info.Indexed(t.Here) {
			b.warn(ruleIndex, d.Pos, coordinate, "create an index on "+t.Set+" ("+strings.Join(t.Here, ", ")+")", msgNoIndexBeginsEvery, coordinate, t.Set, strings.Join(t.Here, ", "), info.What)
		}
	}
	bound.JoinTable = t
	return true
}

// cardinality checks one record against many: section "Checked before anything
// is served" of the bindings' documentation.
func (b *binder) cardinality(p place, f *schema.Field, d *language.Directive, bound *Field) {
	info := bound.Target.Info
	coordinate := f.Coordinate()
	if info == nil {
		bound.Single = !bound.Many && slices.Equal(bound.There, bound.Target.Key)
		return
	}
	unique := bound.JoinTable == nil && info.Unique(bound.There)
	if !unique && !bound.Many && bound.JoinTable == nil {
		declared := len(bound.Target.Key) > 0 && !slices.ContainsFunc(bound.Target.Key, func(k string) bool { return !slices.Contains(bound.There, k) })
		switch {
		case declared && (info.Sampled || info.What == "view" || info.What == "resource"):
			unique = true // the schema's author says so, and the store cannot tell
		default:
			b.fail(ruleUnique, d.Pos, coordinate, "make it a list, or relate it to a unique key", msgPromisesOneNotUnique, coordinate, schema.NamedOf(f.Type), strings.Join(bound.There, ", "), bound.Target.Set)
		}
	}
	bound.Single = unique
	if bound.JoinTable == nil && (info.What == "table" || info.What == "collection") {
		b.indexed(p, d, bound, coordinate)
	}
	if !bound.Many && schema.IsNonNull(f.Type) && p.records != nil && p.records.Info != nil {
		for _, here := range bound.Here {
			if h := p.records.Info.Field(p.prefix + here); h != nil && h.Nullable && h.Column == "" && !p.records.Info.Sampled {
				if p.ofOneKind(f) {
					b.warn(ruleNullable, f.Pos, coordinate, "make it "+schema.Nullable(f.Type).String(), msgTrusted, coordinate, p.records.Set+"."+here, p.source.Name, f.Owner)
					continue
				}
				b.fail(ruleNullable, f.Pos, coordinate, "make it "+schema.Nullable(f.Type).String(), msgRequiredFollowsMayNull, coordinate, p.records.Set, here)
			}
		}
	}
}

// indexed warns where nothing leads to the related records fast.
func (b *binder) indexed(p place, d *language.Directive, bound *Field, coordinate string) {
	info, there := bound.Target.Info, strings.Join(bound.There, ", ")
	if info.Indexed(bound.There) {
		return
	}
	fix := "create an index on " + bound.Target.Set + " (" + there + ")"
	for i, path := range bound.There {
		own := info.Field(path)
		if own == nil || own.Column == "" {
			continue
		}
		kind := store.Text // as which Osprey matches keys, wherever they are from
		if p.records != nil && p.records.Info != nil && i < len(bound.Here) && p.source.Folds(p.records.Set, bound) {
			if here := p.records.Info.Field(p.prefix + bound.Here[i]); here != nil {
				kind, _ = store.Matched(here, own)
			}
		}
		if info.IndexedAs(path, kind) {
			return
		}
		fix = fmt.Sprintf("create an index on %s, on the value of %s as %s", bound.Target.Set, path, kind)
	}
	b.warn(ruleIndex, d.Pos, coordinate, fix, msgNoIndexBeginsEvery, coordinate, bound.Target.Set, there, info.What)
}

// keyReader checks that the target can be read by these fields at all, from the
// records own, which are nil for a root field.
func (b *binder) keyReader(own *Records, f *schema.Field, pos language.Pos, bound *Field, keys []string) {
	if bound.Target.Source.Capabilities.CanRead == nil || own.unknown() || own != nil && own.Source.Folds(own.Set, bound) {
		return
	}
	var where []string
	for _, a := range bound.Args {
		if a.Role == Equal && !a.Day {
			where = append(where, a.Path)
		}
	}
	many, err := bound.Target.Source.Capabilities.CanRead(bound.Target.Set, keys, where)
	switch {
	case err != nil:
		b.fail(ruleOneKey, pos, f.Coordinate(), "add a read to the set in osprey.yaml", msgCannotRead, f.Coordinate(), err)
	case !many && len(keys) > 0:
		b.warn(ruleOneKey, pos, f.Coordinate(), "add a read with \"many\" if the service has one", msgTakesOneAtTime, f.Coordinate(), bound.Target.Set, bound.Target.Source.Name, strings.Join(keys, ", "))
	}
}
