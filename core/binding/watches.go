package binding

import (
	"slices"
	"strings"
	"time"

	"osprey/core/language"
	"osprey/core/scalar"
	"osprey/core/schema"
	"osprey/core/store"
)

// This file binds fields of the subscription type: which records' changes they tell, and what they answer of
// each.
//
//	type Subscription {
//	  arrivals(quay: ID): PortCall! @watch(on: ["ADDED"])
//	  movements: Movement! @watch(type: "PortCall")
//	}
//	type Movement { what: ChangeKind!  id: ID!  changed: [String!]  before: CallBefore  now: PortCall }
//
//	arrivals   the record itself, as it is read when it has changed
//	what       what happened: a field of the type ChangeKind
//	id         a field of the record's key, by its name or by @at
//	changed    the fields that have other values, by their names: a list of String
//	before     the record as it was: an object of a type of its own, with fields of the record's set
//	now        the record; null when it is there no more, or not for the caller

// A Watch is what a field tells of changes.
type Watch struct {
	On      []store.What   // what must happen
	Payload *schema.Object // what is answered; nil of the record itself
	// Fields are the fields of the payload, by their names: Watched, Column and Nested.
	Fields map[string]*Field
}

// A Look is how changes of records are found whose store does not tell them.
type Look struct {
	Every time.Duration
	Grows *store.Wanted  // a field that grows with each change; nil if all records are looked at
	Key   []store.Wanted // by which records are told apart
	Shown []store.Wanted // what types show of the records: it is looked at whether that is another value
}

// Looks returns how changes of a record set are found; nil if they are not, or their store tells them.
func (b *Bound) Looks(source, set string) *Look {
	for r, look := range b.looks {
		if r.Source.Name == source && r.Set == set {
			return look
		}
	}
	return nil
}

// Tells reports whether something that happened is told.
func (w *Watch) Tells(what store.What) bool { return slices.Contains(w.On, what) }

// The paths of what is told of a change beside its record's key. A stored field has no such name.
const (
	WatchWhat    = " what"
	WatchChanged = " changed"
	WatchBefore  = " before"
)

// ChangeKind is the enum of what happened to a record.
const ChangeKind = "ChangeKind"

// watches binds the fields of the subscription type.
func (b *binder) watches(root *schema.Object) {
	if root == nil {
		return
	}
	b.bound.looks = map[*Records]*Look{}
	for _, f := range root.Fields {
		d := directive(f, "watch")
		if d == nil {
			b.fail(ruleUnbound, f.Pos, f.Coordinate(), "write @watch behind it", msgNothingSaysWhereComes, f.Coordinate())
			continue
		}
		if bound := b.watch(f, d); bound != nil {
			b.bound.roots[f] = bound
		}
	}
}

// watch binds a field with @watch; nil after telling why not.
func (b *binder) watch(f *schema.Field, d *language.Directive) *Field {
	if schema.Depth(f.Type) > 0 {
		b.fail(ruleWatch, f.Pos, f.Coordinate(), "make it "+schema.NamedOf(f.Type).String(), msgWatchList, f.Coordinate())
		return nil
	}
	w := &Watch{Fields: map[string]*Field{}}
	named := b.watched(f, d, w)
	if named == nil || !b.watchOn(f, d, w) {
		return nil
	}
	targets := b.targetsOf(named, f, d.Pos)
	if len(targets) == 0 {
		return nil
	}
	r := targets[0].records
	switch {
	case len(targets) > 1:
		b.fail(ruleWatch, d.Pos, f.Coordinate(), "watch each of its types in a field of its own", msgWatchSeveral, f.Coordinate(), named)
		return nil
	case !r.unknown() && len(r.Key) == 0:
		b.fail(ruleWatch, d.Pos, f.Coordinate(), "name it with @stored(key: …)", msgWatchNoKey, f.Coordinate(), named)
		return nil
	}
	bound := &Field{Def: f, How: Watched, Target: r, Only: targets[0].only, Here: r.Key, There: r.Key, Many: true, Watch: w}
	b.arguments(f, bound)
	for _, a := range bound.Args {
		if a.Role != Equal && a.Role != FilterBy {
			b.fail(ruleArgument, a.Def.Pos, a.Def.Coordinate, "leave it out", msgWatchArgument, a.Def.Name, f.Coordinate())
			return nil
		}
	}
	bound.Many = false
	if !r.unknown() {
		b.keyReader(nil, f, d.Pos, bound, r.Key)
		b.toldHow(f, d, r)
	}
	if w.Payload == nil {
		if w.Tells(store.WasRemoved) {
			b.fail(ruleWatch, d.Pos, f.Coordinate(), "answer a type of your own, with the record's key", msgWatchRemoved, f.Coordinate())
			return nil
		}
		return bound
	}
	if !b.payload(bound) {
		return nil
	}
	return bound
}

// leastEvery is how often records can be looked at at most.
const leastEvery = time.Second

// toldHow finds out how changes come to be known, and tells how far.
func (b *binder) toldHow(f *schema.Field, d *language.Directive, r *Records) {
	every, grows := text(d, "every"), text(d, "grows")
	told := r.Source.Tells[r.Set]
	switch {
	case told != nil && slices.ContainsFunc(r.Key, func(path string) bool { return !slices.Contains(told, path) }):
		b.fail(ruleWatch, d.Pos, f.Coordinate(), "note them by this key: osprey tables undo, and osprey tables watch "+r.Source.Name+" "+r.Type.String(), msgWatchOther, r.Source.Name, r.Set, strings.Join(told, ", "), r.Type, strings.Join(r.Key, ", "))
	case told != nil && every != "":
		b.warn(ruleWatch, d.Pos, f.Coordinate(), "leave every out", msgWatchTold, r.Source.Name, r.Set)
	case told != nil:
	case every == "" && grows != "":
		b.fail(ruleWatch, d.Pos, f.Coordinate(), "write every: \"10s\", too", msgWatchGrows, f.Coordinate())
	case every == "" && r.Source.Kind == "postgres":
		b.warn(ruleWatch, d.Pos, f.Coordinate(), "osprey tables watch "+r.Source.Name+" "+r.Type.String()+", and osprey tables apply "+r.Source.Name, msgWatchOwn, f.Coordinate(), r.Source.Name, r.Set)
	case every == "":
		b.warn(ruleWatch, d.Pos, f.Coordinate(), "write every: \"10s\", so that they are looked at", msgWatchOwn, f.Coordinate(), r.Source.Name, r.Set)
	default:
		b.look(f, d, r, every, grows)
	}
}

// look binds how records are looked at.
func (b *binder) look(f *schema.Field, d *language.Directive, r *Records, every, grows string) {
	l := &Look{}
	var err error
	if l.Every, err = time.ParseDuration(every); err != nil || l.Every < leastEvery {
		b.fail(ruleWatch, d.Pos, f.Coordinate(), "write a time of 1s or more, such as 10s", msgWatchEvery, f.Coordinate(), every)
		return
	}
	var where []string
	if grows != "" {
		path := b.path(r.Source, r.Info, grows)
		info := r.infoOf(path)
		if info == nil || info.Kind == store.List || info.Kind == store.Record || info.Kind == store.JSON {
			b.fail(ruleWatch, d.Pos, f.Coordinate(), "name a time, or a number that counts on", msgWatchGrowsNothing, f.Coordinate(), grows, r.Set)
			return
		}
		l.Grows = &store.Wanted{Path: path, Kind: info.Kind}
		where = append(where, path)
	}
	if can := r.Source.Capabilities.CanRead; can != nil {
		if _, err := can(r.Set, nil, where); err != nil {
			b.fail(ruleWatch, d.Pos, f.Coordinate(), "leave every out", msgWatchUnread, f.Coordinate(), r.Set, err)
			return
		}
	}
	for _, path := range r.Key {
		kind := store.Text
		if info := r.infoOf(path); info != nil && info.Kind != store.Unknown {
			kind = info.Kind
		}
		l.Key = append(l.Key, store.Wanted{Path: path, Kind: kind})
	}
	for _, o := range r.objects {
		for _, shown := range o.Fields {
			w := shown.Wanted
			if shown.How == Column && w.Aggregate == store.NoAggregate && len(w.Via) == 0 && !slices.ContainsFunc(l.Shown, func(have store.Wanted) bool { return have.Path == w.Path }) {
				l.Shown = append(l.Shown, w)
			}
		}
	}
	slices.SortFunc(l.Shown, func(a, b store.Wanted) int { return strings.Compare(a.Path, b.Path) })
	if known := b.bound.looks[r]; known == nil || l.Every < known.Every || known.Grows != nil && l.Grows == nil {
		if known != nil { // of several that watch, what each of them needs
			l.Every = min(l.Every, known.Every)
			if known.Grows == nil {
				l.Grows = nil
			}
		}
		b.bound.looks[r] = l
	}
}

// watched finds out of which type the records are that a field watches; nil after telling why not.
func (b *binder) watched(f *schema.Field, d *language.Directive, w *Watch) schema.Named {
	named, name := schema.NamedOf(f.Type), text(d, "type")
	o, _ := named.(*schema.Object)
	if o == nil || b.bound.records[named] != nil || storedIn(named) != "" {
		if _, ok := named.(schema.Composite); !ok || name != "" && name != named.String() {
			b.fail(ruleWatch, d.Pos, f.Coordinate(), "give it the type of the records, or one with a field of that", msgWatchType, f.Coordinate(), named)
			return nil
		}
		return named
	}
	w.Payload = o
	var found schema.Named
	for _, of := range o.Fields {
		t := schema.NamedOf(of.Type)
		if _, ok := t.(schema.Composite); ok && (b.bound.records[t] != nil || storedIn(t) != "") {
			if found != nil && found != t {
				b.fail(ruleWatch, of.Pos, of.Coordinate(), "leave one of them out", msgWatchTwo, of.Coordinate(), found)
				return nil
			}
			found = t
		}
	}
	switch {
	case name == "" && found == nil:
		b.fail(ruleWatch, d.Pos, f.Coordinate(), "write @watch(type: \"…\") with the type of the records", msgWatchWhat, f.Coordinate())
		return nil
	case name == "":
		return found
	case found != nil && found.String() != name:
		b.fail(ruleWatch, d.Pos, f.Coordinate(), "leave it out", msgWatchType, f.Coordinate(), found)
		return nil
	}
	t := b.bound.Schema.Type(name)
	if _, ok := t.(schema.Composite); !ok {
		b.fail(ruleWatch, d.Pos, f.Coordinate(), "", msgWatchNothing, f.Coordinate(), name, language.DidYouMean(name, b.stocked()))
		return nil
	}
	return t
}

// watchOn binds what must happen; false after telling what is wrong.
func (b *binder) watchOn(f *schema.Field, d *language.Directive, w *Watch) bool {
	known := []string{string(store.WasAdded), string(store.WasChanged), string(store.WasRemoved)}
	for _, name := range language.Texts(d.Argument("on")) {
		if !slices.Contains(known, name) {
			b.fail(ruleWatch, d.Pos, f.Coordinate(), "there are "+strings.Join(known, ", "), msgWatchOn, f.Coordinate(), name, language.DidYouMean(name, known))
			return false
		}
		w.On = append(w.On, store.What(name))
	}
	if w.On == nil {
		w.On = []store.What{store.WasAdded, store.WasChanged}
		if w.Payload != nil {
			w.On = append(w.On, store.WasRemoved)
		}
	}
	return true
}

// payload binds the fields of what is answered, where that is no record; false after telling what is wrong.
func (b *binder) payload(bound *Field) bool {
	w, p := bound.Watch, place{records: bound.Target, source: bound.Target.Source}
	for _, f := range w.Payload.Fields {
		named := schema.NamedOf(f.Type)
		elem, isList := schema.ListElem(f.Type)
		enum, isEnum := named.(*schema.Enum)
		object, isObject := named.(*schema.Object)
		_, isComposite := named.(schema.Composite)
		switch {
		case len(f.Args) > 0:
			b.fail(ruleArgument, f.Args[0].Pos, f.Args[0].Coordinate, "leave it out", msgNothingUsesArgument, f.Args[0].Name, f.Coordinate())
			return false
		case isComposite && named == bound.Target.Type || isObject && bound.Target.objects[object] != nil:
			w.Fields[f.Name] = &Field{Def: f, How: Watched, Target: bound.Target, Only: bound.Only, Single: true}
			if schema.IsNonNull(f.Type) && w.Tells(store.WasRemoved) {
				b.fail(ruleNullable, f.Pos, f.Coordinate(), "make it "+schema.Nullable(f.Type).String(), msgWatchNow, f.Coordinate())
				return false
			}
		case isEnum && enum.Name == ChangeKind && !isList:
			kinds := &Enum{Type: enum, Stored: map[string]string{}, Names: map[string]string{}}
			for _, v := range enum.Values {
				kinds.Stored[v.Name], kinds.Names[v.Name] = v.Name, v.Name
			}
			w.Fields[f.Name] = &Field{Def: f, How: Column, Wanted: store.Wanted{Path: WatchWhat, Kind: store.Text}, Codec: scalar.EnumName, Enum: kinds}
		case isList && schema.Nullable(elem).String() == "String":
			w.Fields[f.Name] = &Field{Def: f, How: Column, Wanted: wantedOf(WatchChanged, store.Text, elem, true), Codec: scalar.Quoted}
		case isObject && !isList:
			if schema.IsNonNull(f.Type) {
				b.fail(ruleNullable, f.Pos, f.Coordinate(), "make it "+schema.Nullable(f.Type).String(), msgWatchBeforeNull, f.Coordinate())
				return false
			}
			if w.Fields[f.Name] = b.beforeIt(f, object, p); w.Fields[f.Name] == nil {
				return false
			}
		case schema.IsLeaf(named) && !isList && (bound.Target.unknown() || slices.Contains(bound.Target.Key, b.pathOf(p, f))):
			key := b.field(p, f)
			if key == nil {
				return false
			}
			w.Fields[f.Name] = key
		default:
			b.fail(ruleWatch, f.Pos, f.Coordinate(), "name a field of the key, make it ChangeKind, [String!] for what has changed, or "+bound.Target.Type.String(), msgWatchField, f.Coordinate(), bound.Target.Type)
			return false
		}
	}
	return true
}

// beforeIt binds the record as it was; nil after telling what is wrong.
func (b *binder) beforeIt(f *schema.Field, t *schema.Object, p place) *Field {
	o := &Object{Type: t, Fields: map[string]*Field{}}
	for _, of := range t.Fields {
		if !schema.IsLeaf(schema.NamedOf(of.Type)) || directive(of, "computed") != nil || directive(of, "related") != nil || directive(of, "total") != nil {
			b.fail(ruleWatch, of.Pos, of.Coordinate(), "leave it out", msgWatchBefore, of.Coordinate(), p.records.Set)
			return nil
		}
		own := b.field(p, of)
		if own == nil {
			return nil
		}
		if hidden := b.hides(p.records, own.Wanted.Path); hidden != nil && len(b.bound.rules) > 0 && b.bound.rules[of.Coordinate()] == nil {
			b.fail(ruleFor, of.Pos, of.Coordinate(), "give it the same roles, or leave it out", msgWatchHidden, of.Coordinate(), hidden.Coordinate())
			return nil
		}
		o.Fields[of.Name] = own
	}
	return &Field{Def: f, How: Nested, Wanted: store.Wanted{Path: WatchBefore, Kind: store.Record}, Nested: &NestedType{Type: t, Objects: []*Object{o}}}
}

// hides returns a field with a rule whose value is at a path of a set; nil if there is none, or one without a rule
// shows it, too.
func (b *binder) hides(r *Records, path string) (hidden *schema.Field) {
	for _, o := range r.objects {
		for _, f := range o.Fields {
			if f.How != Column || f.Wanted.Path != path {
				continue
			}
			if len(b.bound.fieldRules[f.Def]) == 0 {
				return nil
			}
			hidden = f.Def
		}
	}
	return hidden
}

// IsWatched reports whether some field tells changes of records.
func (b *Bound) IsWatched(r *Records) bool {
	for _, f := range b.roots {
		if f.Watch != nil && f.Target == r {
			return true
		}
	}
	return false
}

// NamesOf returns by which names of a view's fields callers know the stored fields of records; of what depends on
// more than roles, there is none.
func (b *Bound) NamesOf(view *schema.Schema, r *Records) map[string]string {
	names := map[string]string{}
	for t, o := range r.objects {
		seen, _ := view.Type(t.Name).(*schema.Object)
		for name, f := range o.Fields {
			if seen == nil || seen.Field(name) == nil || len(b.fieldRules[f.Def]) > 0 {
				continue
			}
			switch {
			case f.How == Column || f.How == Nested:
				if known := names[f.Wanted.Path]; known == "" || name < known {
					names[f.Wanted.Path] = name
				}
			case f.How == Related && len(f.Here) == 1 && f.JoinTable == nil && !f.Many && names[f.Here[0]] == "":
				names[f.Here[0]] = name
			}
		}
	}
	return names
}
