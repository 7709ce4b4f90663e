package binding

import (
	"slices"

	"osprey/core/language"
	"osprey/core/schema"
	"osprey/core/store"
)

// This file binds what is given for records that are nested in the one that is written, as a
// whole, and what is added to, or taken from, a list of them:
//
//	inspect(inspection: InspectionAdd!): Inspection @add      {… findings: [{code: "F-7" …}]}
//	find(id: ID!, finding: FindingAdd!): Inspection @add(into: "findings")
//	retract(id: ID!, code: String!): Inspection @remove(from: "findings")
//	regrade(id: ID!, code: String!, change: FindingChange!): Inspection @change(in: "findings")

// holder returns the field of a name whose records are nested in those of a set.
func (b *binder) holder(r *Records, name string) *Field {
	for _, o := range b.bound.Schema.Possible(r.Type) {
		if object := r.Object(o); object != nil && object.Fields[name] != nil && object.Fields[name].How == Nested {
			return object.Fields[name]
		}
	}
	return nil
}

// nestedValue binds a field of an input object that is nested records; false if it is none.
// The value is nil after telling why it cannot be.
func (b *binder) nestedValue(f *schema.Field, w *Write, in *schema.Input) (*WriteValue, bool) {
	input, ok := schema.NamedOf(in.Type).(*schema.InputObject)
	of := b.holder(w.Records, in.Name)
	if !ok || of == nil {
		return nil, false
	}
	v := &WriteValue{Path: of.Wanted.Path, About: w.Records.Type.String() + "." + in.Name}
	if !b.nestedIn(f, w, v, of, in, input, []*schema.InputObject{input}) {
		return nil, true
	}
	if w.Records.Source.Capabilities.Write.Nests {
		return v, true
	}
	v.Kind = store.JSON
	info := w.Records.Info.Field(v.Path)
	if info == nil || !mayBeJSON(info) || info.Column != "" {
		b.fail(ruleNotYet, in.Pos, in.Coordinate, "give the column as a whole", msgWriteInside, in.Coordinate, w.Records.Set, v.Path)
		return nil, true
	}
	return v, true
}

// nestedIn binds the fields of an input object that is a nested record, or one of a list;
// false after telling why not.
func (b *binder) nestedIn(f *schema.Field, w *Write, v *WriteValue, of *Field, in *schema.Input, input *schema.InputObject, within []*schema.InputObject) bool {
	v.Kind = store.Record
	_, v.Many = schema.ListElem(in.Type)
	switch many := of.Wanted.Kind == store.List; {
	case many && of.Wanted.Elem.Kind == store.List || of.Nested.Kind != nil || len(of.Nested.Objects) != 1:
		b.fail(ruleNotYet, in.Pos, in.Coordinate, "leave it out", msgWriteNestedKinds, in.Coordinate, of.Nested.Type)
		return false
	case v.Many != many:
		fix := "make it " + input.Name
		if many {
			fix = "make it [" + input.Name + "!]"
		}
		b.fail(ruleWrite, in.Pos, in.Coordinate, fix, msgWriteList, in.Coordinate)
		return false
	}
	object := of.Nested.Objects[0]
	sound := true
	for _, field := range input.Fields {
		inner := object.Fields[field.Name]
		own := WriteValue{Input: field, About: object.Type.Name + "." + field.Name}
		inputObject, isInput := schema.NamedOf(field.Type).(*schema.InputObject)
		switch {
		case inner == nil || inner.How != Column && inner.How != Nested || (inner.How == Nested) != isInput:
			b.fail(ruleArgument, field.Pos, field.Coordinate, "leave it out", msgWriteNoField, field.Coordinate, object.Type, language.DidYouMean(field.Name, schema.FieldNames(object.Type)))
			sound = false
			continue
		case isInput && slices.Contains(within, inputObject):
			b.fail(ruleWrite, field.Pos, field.Coordinate, "leave it out", msgNestsItself, field.Coordinate, inputObject)
			return false
		case isInput:
			sound = b.nestedIn(f, w, &own, inner, field, inputObject, append(within, inputObject)) && sound
		default:
			sound = b.nestedLeaf(w, &own, inner, field) && sound
		}
		own.Path = inner.Wanted.Path
		v.Fields = append(v.Fields, own)
	}
	return sound
}

// nestedLeaf binds a value inside a nested record; false after telling why not.
func (b *binder) nestedLeaf(w *Write, v *WriteValue, of *Field, in *schema.Input) bool {
	_, v.Many = schema.ListElem(in.Type)
	named := schema.NamedOf(in.Type)
	kind, _, err := fit(named, of.Wanted.Innermost().Kind)
	if many := of.Wanted.Kind == store.List; many != v.Many || err != nil {
		b.fail(ruleFits, in.Pos, in.Coordinate, "make it "+schema.Nullable(of.Def.Type).String(), msgWriteNestedType, in.Coordinate, in.Type, of.Def.Coordinate(), of.Def.Type)
		return false
	}
	if v.Kind = kind; v.Kind == store.Unknown {
		v.Kind = store.Text
	}
	if e, ok := named.(*schema.Enum); ok {
		if v.Enum = of.Enum; v.Enum == nil {
			v.Enum = b.enum(e, nil, nil, nil)
		}
	}
	return true
}

// A nestedList is a list of nested records that a field adds to, takes from, or changes in.
type nestedList struct {
	name string
	of   *Field
	how  store.How // Appended, Dropped, or Inside
	// value is what is added, or by what records of the list are found, and changes is what those
	// get.
	value   *WriteValue
	changes []WriteValue
}

// listOf returns the list that a directive names, or nil.
func (b *binder) listOf(f *schema.Field, d *language.Directive, w *Write) *nestedList {
	list := &nestedList{name: text(d, "into"), how: store.Appended}
	switch w.Action {
	case store.Remove:
		list.name, list.how = text(d, "from"), store.Dropped
	case store.Change:
		list.name, list.how = text(d, "in"), store.Inside
	}
	if list.name == "" {
		return nil
	}
	list.of = b.holder(w.Records, list.name)
	if list.of == nil || list.of.Wanted.Kind != store.List || !w.Records.Source.Capabilities.Write.Nests {
		b.fail(ruleWrite, d.Pos, f.Coordinate(), "name a list of records that are nested in documents", msgWriteNoList, f.Coordinate(), list.name, w.Records.Type)
		list.of = nil
	}
	return list
}

// takes reports whether an argument is of the list: what is added, or a field of what goes,
// unless the record is found by it.
func (l *nestedList) takes(w *Write, a *schema.Input) bool {
	if l.of == nil {
		return true
	}
	if _, isInput := schema.NamedOf(a.Type).(*schema.InputObject); isInput {
		return l.how != store.Dropped
	}
	return l.how != store.Appended && a.Directive("at") == nil && len(l.of.Nested.Objects) == 1 && l.of.Nested.Objects[0].Fields[a.Name] != nil && !slices.Contains(w.Records.Key, a.Name)
}

// ofList binds an argument that is of the list.
func (b *binder) ofList(f *schema.Field, w *Write, a *schema.Input, list *nestedList) {
	if list.of == nil {
		return // which is told
	}
	input, isInput := schema.NamedOf(a.Type).(*schema.InputObject)
	switch {
	case !isInput:
		b.findsInList(w, a, list)
	case list.how == store.Inside:
		b.changesInList(f, w, a, input, list)
	case list.value != nil:
		b.fail(ruleArgument, a.Pos, a.Coordinate, "leave it out", msgNothingUsesArgument, a.Name, f.Coordinate())
	default:
		v := &WriteValue{Arg: a, Path: list.of.Wanted.Path, How: store.Appended, About: w.Records.Type.String() + "." + list.name}
		items := *a
		if _, isList := schema.ListElem(a.Type); !isList { // one is a list of one
			items.Type = &schema.List{Elem: a.Type}
		}
		if b.nestedIn(f, w, v, list.of, &items, input, []*schema.InputObject{input}) {
			list.value = v
		}
	}
}

// findsInList binds an argument by which records of the list are found.
func (b *binder) findsInList(w *Write, a *schema.Input, list *nestedList) {
	if !schema.IsNonNull(a.Type) {
		b.fail(ruleWrite, a.Pos, a.Coordinate, "make it "+a.Type.String()+"!", msgWriteInListAll, a.Coordinate, list.name)
		return
	}
	if list.value == nil {
		how := list.how
		if how == store.Inside {
			how = store.Sought
		}
		list.value = &WriteValue{Path: list.of.Wanted.Path, Kind: store.Record, How: how, Together: true, About: w.Records.Type.String() + "." + list.name}
	}
	inner := list.of.Nested.Objects[0].Fields[a.Name]
	own := WriteValue{Arg: a, Path: inner.Wanted.Path, About: a.Coordinate}
	if b.nestedLeaf(w, &own, inner, a) {
		list.value.Fields = append(list.value.Fields, own)
	}
}

// changesInList binds the input object whose fields are what records of the list get.
func (b *binder) changesInList(f *schema.Field, w *Write, a *schema.Input, input *schema.InputObject, list *nestedList) {
	if _, isList := schema.ListElem(a.Type); isList || len(list.changes) > 0 {
		b.fail(ruleArgument, a.Pos, a.Coordinate, "leave it out", msgNothingUsesArgument, a.Name, f.Coordinate())
		return
	}
	whole := &WriteValue{}
	one := *list.of
	wanted := *list.of.Wanted.Elem
	one.Wanted = wanted
	if !b.nestedIn(f, w, whole, &one, a, input, []*schema.InputObject{input}) {
		return
	}
	for _, v := range whole.Fields {
		v.Arg, v.How, v.Path = a, store.Inside, list.of.Wanted.Path+"."+v.Path
		list.changes = append(list.changes, v)
	}
}

// listGiven adds what becomes of a list; false after telling that nothing does.
func (b *binder) listGiven(f *schema.Field, d *language.Directive, w *Write, list *nestedList) bool {
	if list.of == nil {
		return false
	}
	if list.value == nil {
		fix := "add an argument of an input type, such as " + list.of.Nested.Type.String() + "Add!"
		if list.how != store.Appended {
			fix = "add an argument that is a field of " + list.of.Nested.Type.String()
		}
		b.fail(ruleWrite, d.Pos, f.Coordinate(), fix, msgWriteNothing, f.Coordinate())
		return false
	}
	if list.how == store.Inside && len(list.changes) == 0 {
		b.fail(ruleWrite, d.Pos, f.Coordinate(), "add an argument of an input type, such as "+list.of.Nested.Type.String()+"Change!", msgWriteNothing, f.Coordinate())
		return false
	}
	w.Values = append(append(w.Values, *list.value), list.changes...)
	return true
}
