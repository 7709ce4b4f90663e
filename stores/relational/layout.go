package relational

import (
	"fmt"
	"slices"

	"osprey/core/store"
)

// A layout is the reads of a request laid out as one SQL statement of one or
// more branches.
//
// Records of which each row has at most one are joined to it. For many rows
// that refer to few records there are layouts with lookups: branches that send
// each record of a small table once, to be matched by key here; of a
// many-to-many relationship to them only the pairs are sent for each row. Of
// 2,000 port calls with craft, operator, berth and pilots, PostgreSQL spends
// 30 ms without lookups and 22 with; of 200, 3.2 and 2.6; of 20, 0.57 and 0.68.
//
// The reads of { quays { name berths { name calls(limit: 2) { id craft { name } } } } }
//
//	0 quays          the root
//	1 berths         below 0, any number: a branch
//	2 port_calls     below 1, any number: a branch
//	3 craft          below 2, at most one: joined to the branch of 2
//
// make three branches. The first two are common tables, since another hangs from
// each: b0 is the quays with their number o and what is needed of them, b1 the
// berths with their number and that of their quay, p. A row of the statement has
// the number of its branch, and then slots, which the branches share by type:
//
//	slot      0 text        1 bigint         2 bigint  3 craft_type  4 integer
//	branch 0  quay's name   –                –         –             –
//	branch 1  berth's name  number of quay   –         –             –
//	branch 2  craft's name  number of berth  call's id craft's type  craft's imo
//
//	0  Timber Quay      –  –     –       –
//	1  Timber Quay 1    1  –     –       –
//	1  Timber Quay 2    1  –     –       –
//	2  Iron Fathom      1  3994  tanker  9100007
//	2  Cold Meridian    2  3871  ferry   9100112
//
// Craft are told to be there by their key, imo: all of their columns can be null.
type layout struct {
	dialect   *database
	catalogue *store.Catalogue
	reads     []*store.Read
	handed    bool  // the keys are handed on by the statement before, of the same transaction
	maxLookup int64 // of how many records a table can be a lookup; 0 joins all
	branches  []*branch
	of        []*branch // the branch that each read is part of
	slots     []string  // the SQL types of the values of every row
}

// A branch is a read with those of at most one row each that are joined to it.
type branch struct {
	number int
	read   int // the read whose rows are the branch's rows
	host   *branch
	lookup bool  // its rows are all of a small table
	pairs  bool  // its rows are the pairs of a many-to-many relationship to a lookup
	joined []int // further reads, parents before children
	outs   []out

	// common says that other branches hang from this one: its rows are then a
	// common table. inside are the joined reads that are part of it, since
	// something hangs from them; the others are joined to it afterwards, so
	// that their values are not carried through it.
	common bool
	inside []int

	// key is the field by which the rows of a root are told apart, and order the
	// fields that they are in order of. Both are sent, and whatever the database
	// does with the rows can be put right here. A root without, and a common
	// table that is no root, numbers its rows: numbering costs PostgreSQL a
	// tenth of an answer's time.
	key   string
	order []store.Order

	row   int // slot of the row's number in the branch, from 1; -1 if it has none
	above int // slot of the key or number of the row above in the host's branch; -1 for a root or lookup
}

// An out is a value that a branch selects.
type out struct {
	read   int
	path   string       // a field of the read's table; in a branch of pairs, of the pairs'
	column int          // in the read's columns, or -1 for one that the statement needs itself
	slot   int          // position among the slots, or -1 if it is not sent
	typ    string       // SQL type as it is sent
	kind   store.Kind   // as which it is sent
	field  *store.Field // of the column; nil for a count
	via    []store.Link // where the field is
	// Of a value by which rows of the read below hang from rows above, and which is
	// sent for no other reason: which of its fields, from 1, and what makes values of it
	// that are equal just if they are to the database; nil if they are as they are.
	below, link int
	weigh       func(expr string) string
	total       store.Aggregate
}

// is reports whether the value is a read's own field as it is linked by.
func (o *out) is(read int, f *store.Field) bool {
	return o.read == read && o.path == f.Name && o.total == store.NoAggregate && len(o.via) == 0 && o.link == 0 && o.field.Kind == f.Kind && o.kind == linkKind(f)
}

// layOut decides the branches and what each selects.
func layOut(d *database, catalogue *store.Catalogue, reads []*store.Read, maxLookup int64) (*layout, error) {
	l := &layout{dialect: d, catalogue: catalogue, reads: reads, maxLookup: maxLookup, of: make([]*branch, len(reads))}
	for i, r := range reads {
		if catalogue.Sets[r.Set] == nil {
			return nil, fmt.Errorf("there is no table %s", r.Set)
		}
		if l.isJoined(i) {
			l.of[i] = l.of[r.Parent]
			l.of[i].joined = append(l.of[i].joined, i)
			continue
		}
		lookup := l.isLookup(i)
		if r.Parent >= 0 && (!lookup || r.JoinTable != nil) {
			l.hang(i, lookup)
		}
		if r.Parent < 0 || lookup {
			l.add(&branch{read: i, lookup: lookup})
		}
		l.of[i] = l.branches[len(l.branches)-1]
	}
	for i, r := range reads {
		for c := range r.Columns {
			if err := l.send(i, c); err != nil {
				return nil, err
			}
		}
		if r.Parent < 0 {
			continue
		}
		above, own := l.linked(i)
		switch {
		case l.isJoined(i):
			l.sendPresence(i)
			l.need(r.Parent, above)
		case l.of[i].lookup && r.JoinTable == nil:
			l.sendKeys(l.of[r.Parent], r.Parent, above)
			l.sendKeys(l.of[i], i, own)
		case l.of[i].lookup:
			l.need(r.Parent, above)
			l.sendPairs(i)
		case d.lateral():
			l.need(r.Parent, above)
			if r.JoinTable != nil && !l.repeatsInSQL(i) && l.repeats(r.JoinTable) {
				l.sendOnce(i)
			}
		default:
			l.sendLinks(i)
		}
	}
	for _, b := range l.branches {
		if d.lateral() && b.host == nil && !b.lookup && (b.common || len(b.joined) > 0) {
			l.tellApart(b)
		}
	}
	for _, b := range l.branches {
		l.allot(b)
	}
	return l, nil
}

// tellApart sends the key and the order of a root's rows, if this side can
// compare them as the database does.
func (l *layout) tellApart(b *branch) {
	r := l.reads[b.read]
	set := l.catalogue.Sets[r.Set]
	if len(r.Keys) > 0 || len(set.Keys) == 0 || len(set.Keys[0]) != 1 {
		return
	}
	key := set.Keys[0][0]
	if f := set.Field(key); f == nil || f.Nullable || f.Kind != store.Int && f.Kind != store.UUID {
		return
	}
	order := r.Sort
	if !slices.ContainsFunc(order, func(o store.Order) bool { return o.Path == key }) {
		order = append(slices.Clone(order), store.Order{Path: key})
	}
	fields := []*store.Field{set.Field(key)}
	for _, o := range order {
		f := set.Field(o.Path)
		if f == nil || o.Nulls == store.NullsGreatest || len(o.Via) > 0 {
			return
		}
		switch f.Kind {
		case store.Int, store.Time, store.Date, store.Clock, store.UUID:
		default:
			return // texts have collations, and numbers forms
		}
		fields = append(fields, f)
	}
	b.key, b.order = key, order
	l.sendKeys(b, b.read, fields)
}

func (l *layout) add(b *branch) {
	b.number, b.row, b.above = len(l.branches), -1, -1
	l.branches = append(l.branches, b)
}

// hang adds the branch of a read, or of its pairs, which hangs from that of the
// read above.
func (l *layout) hang(read int, pairs bool) {
	above := l.reads[read].Parent
	b := &branch{read: read, host: l.of[above], pairs: pairs}
	l.add(b)
	if !l.dialect.lateral() {
		return // it is asked by keys
	}
	b.host.common = true
	for j := above; j != b.host.read && !slices.Contains(b.host.inside, j); j = l.reads[j].Parent {
		b.host.inside = append(b.host.inside, j)
	}
	slices.Sort(b.host.inside) // parents come before their children
}

// isOne reports whether a read has at most one row for each row above.
func (l *layout) isOne(read int) bool {
	r := l.reads[read]
	return r.Parent >= 0 && r.Single && !r.Limit && !r.Offset
}

// isJoined reports whether a read is joined to the branch of the one above.
func (l *layout) isJoined(read int) bool { return l.isOne(read) && !l.isLookup(read) }

// isLookup reports whether all records of a read's table are sent and matched
// here: it is small, its keys can be compared here as the database compares
// them, and nothing that is no lookup hangs from it.
func (l *layout) isLookup(read int) bool {
	r := l.reads[read]
	if l.maxLookup == 0 || r.Parent < 0 || r.Aggregates || r.Limit || r.Offset || !l.isOne(read) && r.JoinTable == nil {
		return false
	}
	here, there := l.catalogue.Sets[l.reads[r.Parent].Set], l.catalogue.Sets[r.Set]
	fields := r.Here
	if r.JoinTable != nil {
		here, fields = l.catalogue.Sets[r.JoinTable.Set], r.JoinTable.There
	}
	if here == nil || there == nil || there.Rows == 0 || there.Rows > l.maxLookup {
		return false
	}
	for k := range r.There {
		if !sameAnywhere(here.Field(fields[k]), there.Field(r.There[k])) {
			return false
		}
	}
	for i := read + 1; i < len(l.reads); i++ {
		if l.reads[i].Parent == read && !(l.isOne(i) && l.isLookup(i)) {
			return false
		}
	}
	return true
}

// sameAnywhere reports whether values of two fields are equal to the database
// just if they are equal here.
func sameAnywhere(a, b *store.Field) bool {
	if a == nil || b == nil || a.Kind != b.Kind || a.Loose || b.Loose {
		return false
	}
	switch a.Kind {
	case store.Int, store.UUID:
		return true
	case store.Text:
		return a.Type == b.Type && (a.Type == "text" || a.Type == "character varying")
	}
	return false
}

// lookups returns how many branches are lookups.
func (l *layout) lookups() int {
	n := 0
	for _, b := range l.branches {
		if b.lookup {
			n++
		}
	}
	return n
}

// isInside reports whether a read's values are part of its branch's common
// table.
func (b *branch) isInside(read int) bool {
	return b.common && (read == b.read || slices.Contains(b.inside, read))
}

// outside are the joined reads that are not part of the common table.
func (b *branch) outside() []int {
	var list []int
	for _, j := range b.joined {
		if !b.isInside(j) {
			list = append(list, j)
		}
	}
	return list
}

// field returns what the catalogue says of a read's field.
func (l *layout) field(read int, path string) *store.Field {
	return l.catalogue.Sets[l.reads[read].Set].Field(path)
}

// send adds a wanted column to what its branch selects.
func (l *layout) send(read, column int) error {
	w := &l.reads[read].Columns[column]
	set := l.catalogue.Sets[l.reads[read].Set]
	if len(w.Via) > 0 {
		set = l.catalogue.Sets[w.Via[len(w.Via)-1].Set]
	}
	o := out{read: read, path: w.Path, column: column, via: w.Via, total: w.Aggregate}
	if w.Aggregate == store.Count {
		o.typ = l.typeOf(w.Aggregate, nil)
	} else if set.Field(w.Path) == nil {
		return fmt.Errorf("the table %s has no column %s", set.Name, w.Path)
	} else {
		o.field = l.asSent(read, set, w)
		o.typ, o.kind = l.typeOf(w.Aggregate, o.field), kindAs(o.field, w.Kind)
	}
	l.of[read].outs = append(l.of[read].outs, o)
	return nil
}

// sendPresence adds the value that tells whether a joined row was found, if it
// is not wanted anyway: the first field by which it is joined.
func (l *layout) sendPresence(read int) {
	b := l.of[read]
	if _, ok := l.presence(read); ok {
		return
	}
	_, own := l.linked(read)
	l.sendKeys(b, read, own[:1])
}

// asSent returns a field as a wanted column is sent: a value inside JSON as JSON, unless
// it is made of several rows or tells them apart.
func (l *layout) asSent(read int, set *store.Set, w *store.Wanted) *store.Field {
	kind := w.Kind
	if w.Aggregate == store.NoAggregate && !l.reads[read].Aggregates && kind != store.List && kind != store.Record {
		kind = store.JSON
	}
	return l.as(set, w.Path, kind)
}

// sendKeys adds the values by which a lookup is matched, where they are not sent
// anyway.
func (l *layout) sendKeys(b *branch, read int, fields []*store.Field) {
	for _, f := range fields {
		if _, ok := b.sent(read, f); !ok {
			b.outs = append(b.outs, out{read: read, path: f.Name, column: -1, field: f, kind: linkKind(f), typ: l.typeOf(store.NoAggregate, f)})
		}
	}
}

// kindAs returns the kind as which a field is used where one is wanted.
func kindAs(f *store.Field, wanted store.Kind) store.Kind {
	if slices.Contains(f.Also, wanted) {
		return wanted
	}
	return f.Kind
}

// linkKind returns the kind as which a field is matched with others: a truth value that
// is a number is the number.
func linkKind(f *store.Field) store.Kind {
	if f.Kind == store.Bool {
		return kindAs(f, store.Int)
	}
	return f.Kind
}

// sendPairs adds the values by which pairs are matched with a lookup, and its own.
func (l *layout) sendPairs(read int) {
	b := l.pairsOf(read)
	pairs, own := l.paired(read)
	for _, f := range pairs {
		b.outs = append(b.outs, out{read: read, path: f.Name, column: -1, field: f, kind: linkKind(f), typ: l.typeOf(store.NoAggregate, f)})
	}
	l.sendKeys(l.of[read], read, own)
}

// sendOnce adds the values by which rows that are linked several times are told to be
// the same.
func (l *layout) sendOnce(read int) {
	pairs, _ := l.paired(read)
	for k, f := range pairs {
		l.of[read].outs = append(l.of[read].outs, out{read: read, path: f.Name, column: -1, field: f, kind: linkKind(f), typ: l.typeOf(store.NoAggregate, f), below: read, link: k + 1})
	}
}

// pairsOf returns the branch of a lookup's pairs, which is in front of its own.
func (l *layout) pairsOf(read int) *branch { return l.branches[l.of[read].number-1] }

// sent returns the value of a read's field that a branch sends.
func (b *branch) sent(read int, f *store.Field) (out, bool) {
	for _, o := range b.outs {
		if o.is(read, f) && o.slot >= 0 {
			return o, true
		}
	}
	return out{}, false
}

// presence returns the value that is NULL only if a joined row was not found.
func (l *layout) presence(read int) (out, bool) {
	_, own := l.linked(read)
	return l.of[read].sent(read, own[0])
}

// need adds values that something hanging from a read is joined by, where they
// come out of a common table.
func (l *layout) need(read int, fields []*store.Field) {
	b := l.of[read]
	for _, f := range fields {
		if b.isInside(read) && !slices.ContainsFunc(b.outs, func(o out) bool { return o.is(read, f) }) {
			b.outs = append(b.outs, out{read: read, path: f.Name, column: -1, slot: -1, field: f, kind: linkKind(f)})
		}
	}
}

// allot gives each sent value of a branch a slot of its type. Branches share
// slots, so that rows are no wider than the widest branch needs.
func (l *layout) allot(b *branch) {
	if !l.dialect.lateral() { // a statement of its own
		for i := range b.outs {
			b.outs[i].slot = i
		}
		return
	}
	taken := make([]bool, len(l.slots))
	slot := func(typ string) int {
		for i, t := range l.slots {
			if t == typ && !taken[i] {
				taken[i] = true
				return i
			}
		}
		l.slots, taken = append(l.slots, typ), append(taken, true)
		return len(l.slots) - 1
	}
	if l.numbered(b) {
		b.row = slot(l.dialect.union.intType())
	}
	if b.host != nil {
		b.above = slot(l.aboveType(b))
	}
	for i := range b.outs {
		if b.outs[i].slot >= 0 {
			b.outs[i].slot = slot(b.outs[i].typ)
		}
	}
}

// typeOf returns the SQL type in which a value is sent, where that matters.
func (l *layout) typeOf(t store.Aggregate, f *store.Field) string {
	switch {
	case !l.dialect.lateral():
		return ""
	case t == store.Count:
		return l.dialect.union.intType()
	}
	return l.dialect.union.typeOf(t, f)
}

// aboveType returns the SQL type of what names the row above.
func (l *layout) aboveType(b *branch) string {
	if b.host.key != "" {
		return l.typeOf(store.NoAggregate, l.field(b.host.read, b.host.key))
	}
	return l.dialect.union.intType()
}

// numbered reports whether the rows of a branch say their number. Rows that
// are joined to others after they were put in order can come in any.
func (l *layout) numbered(b *branch) bool {
	if b.key != "" || l.reads[b.read].Aggregates {
		return false
	}
	if b.common {
		return len(b.outside()) > 0 || b.host == nil && len(b.inside) > 0
	}
	return b.host == nil && len(b.joined) > 0
}

// several reports whether rows say which branch they are of.
func (l *layout) several() bool { return l.dialect.lateral() && len(l.branches) > 1 }
