package relational

import (
	"fmt"
	"slices"

	"osprey/core/store"
)

// A layout is the reads of a request laid out as one SQL statement of one or
// more branches.
type layout struct {
	catalogue *store.Catalogue
	reads     []*store.Read
	branches  []*branch
	of        []*branch // the branch that each read is part of
	slots     []string  // the SQL types of the values of every row
}

// A branch is a read with those of at most one row each that are joined to it.
type branch struct {
	number int
	read   int // the read whose rows are the branch's rows
	host   *branch
	joined []int // further reads, parents before children
	outs   []out

	// common says that other branches hang from this one: its rows are then a
	// common table. inside are the joined reads that are part of it, since
	// something hangs from them; the others are joined to it afterwards, so
	// that their values are not carried through it.
	common bool
	inside []int

	row   int // slot of the row's number in the branch, from 1; -1 if rows come in order
	above int // slot of the number of the row above in the host's branch; -1 for a root
}

// An out is a value that a branch selects.
type out struct {
	read   int
	path   string
	column int    // in the read's columns, or -1 for one that the statement needs itself
	slot   int    // position among the slots, or -1 if it is not sent
	typ    string // SQL type as it is sent
}

// layOut decides the branches and what each selects.
func layOut(catalogue *store.Catalogue, reads []*store.Read) (*layout, error) {
	l := &layout{catalogue: catalogue, reads: reads, of: make([]*branch, len(reads))}
	for i, r := range reads {
		if catalogue.Sets[r.Set] == nil {
			return nil, fmt.Errorf("there is no table %s", r.Set)
		}
		if l.isJoined(i) {
			l.of[i] = l.of[r.Parent]
			l.of[i].joined = append(l.of[i].joined, i)
			continue
		}
		b := &branch{number: len(l.branches), read: i, row: -1, above: -1}
		if r.Parent >= 0 {
			b.host = l.of[r.Parent]
			b.host.common = true
			for j := r.Parent; j != b.host.read && !slices.Contains(b.host.inside, j); j = reads[j].Parent {
				b.host.inside = append(b.host.inside, j)
			}
			slices.Sort(b.host.inside) // parents come before their children
		}
		l.of[i] = b
		l.branches = append(l.branches, b)
	}
	for i, r := range reads {
		for c := range r.Columns {
			if err := l.send(i, c); err != nil {
				return nil, err
			}
		}
		switch {
		case r.Parent < 0:
		case l.isJoined(i):
			l.sendPresence(i)
			l.need(r.Parent, r.Here)
		default:
			l.need(r.Parent, r.Here)
		}
	}
	for _, b := range l.branches {
		l.allot(b)
	}
	return l, nil
}

// isJoined reports whether a read is joined to the branch of the one above.
func (l *layout) isJoined(read int) bool {
	r := l.reads[read]
	return r.Parent >= 0 && r.Single && !r.Limit && !r.Offset
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
	f := l.field(read, w.Path)
	if f == nil {
		return fmt.Errorf("the table %s has no column %s", l.reads[read].Set, w.Path)
	}
	b := l.of[read]
	b.outs = append(b.outs, out{read: read, path: w.Path, column: column, typ: sentType(f)})
	return nil
}

// sendPresence adds the value that tells whether a joined row was found, if it
// is not wanted anyway: the first field by which it is joined.
func (l *layout) sendPresence(read int) {
	b := l.of[read]
	if _, ok := l.presence(read); ok {
		return
	}
	path := l.reads[read].There[0]
	f := l.field(read, path)
	b.outs = append(b.outs, out{read: read, path: path, column: -1, typ: sentType(f)})
}

// presence returns the value that is NULL only if a joined row was not found.
func (l *layout) presence(read int) (out, bool) {
	for _, o := range l.of[read].outs {
		if o.read == read && o.path == l.reads[read].There[0] {
			return o, true
		}
	}
	return out{}, false
}

// need adds values that something hanging from a read is joined by, where they
// come out of a common table.
func (l *layout) need(read int, paths []string) {
	b := l.of[read]
	for _, path := range paths {
		if b.isInside(read) && !slices.ContainsFunc(b.outs, func(o out) bool { return o.read == read && o.path == path }) {
			b.outs = append(b.outs, out{read: read, path: path, column: -1, slot: -1})
		}
	}
}

// allot gives each sent value of a branch a slot of its type. Branches share
// slots, so that rows are no wider than the widest branch needs.
func (l *layout) allot(b *branch) {
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
		b.row = slot("bigint")
	}
	if b.host != nil {
		b.above = slot("bigint")
	}
	for i := range b.outs {
		if b.outs[i].slot >= 0 {
			b.outs[i].slot = slot(b.outs[i].typ)
		}
	}
}

// numbered reports whether the rows of a branch say their number. Rows that
// are joined to others after they were put in order can come in any.
func (l *layout) numbered(b *branch) bool {
	if b.common {
		return len(b.outside()) > 0 || b.host == nil && len(b.inside) > 0
	}
	return b.host == nil && len(b.joined) > 0
}

// several reports whether rows say which branch they are of.
func (l *layout) several() bool { return len(l.branches) > 1 }
