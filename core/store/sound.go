package store

import (
	"fmt"
	"slices"
)

// Check says in what a catalogue is none; nil if it is one.
func (c *Catalogue) Check() error {
	if c == nil {
		return fmt.Errorf("it is nil")
	}
	for _, name := range c.Names() {
		s := c.Sets[name]
		switch {
		case s == nil:
			return fmt.Errorf("the set %q is nil", name)
		case name == "" || s.Name != name:
			return fmt.Errorf("the set %q calls itself %q", name, s.Name)
		}
		if err := s.check(); err != nil {
			return fmt.Errorf("the set %s: %w", name, err)
		}
	}
	return nil
}

func (s *Set) check() error {
	seen := map[string]bool{}
	for i := range s.Fields {
		f := &s.Fields[i]
		switch {
		case f.Name == "":
			return fmt.Errorf("field %d has no name", i)
		case seen[f.Name]:
			return fmt.Errorf("there are two fields called %s", f.Name)
		case f.Kind == Unknown || f.Kind > Record:
			return fmt.Errorf("the field %s has no kind", f.Name)
		case f.Kind == List && (f.Elem == Unknown || f.Elem > Record):
			return fmt.Errorf("the field %s is a list, and says of no kind of items", f.Name)
		}
		seen[f.Name] = true
	}
	for _, fields := range slices.Concat(s.Keys, s.Index) {
		if len(fields) == 0 {
			return fmt.Errorf("a key or an index is of no fields")
		}
		for _, name := range fields {
			if s.Field(name) == nil {
				return fmt.Errorf("a key or an index is of a field %s, which it has not", name)
			}
		}
	}
	return nil
}

// Check says in what an answer is not of the shape of its reads, so that it cannot be
// used; nil if it is. What a store answers is never taken on trust: a table of another
// shape would be read beyond its end.
func (a *Answer) Check(reads []*Read) error {
	if a == nil {
		return unsound("no answer, and no error")
	}
	if len(a.Tables) != len(reads) {
		return unsound("%d tables for %d reads", len(a.Tables), len(reads))
	}
	for i, r := range reads {
		t := a.Tables[i]
		if t == nil {
			return unsound("no table for %s", r.Set)
		}
		if err := t.check(r.Columns); err != nil {
			return unsound("the table of %s: %v", r.Set, err)
		}
		if r.Parent < 0 {
			continue
		}
		above := a.Tables[r.Parent].Len
		switch {
		case t.Child != nil && len(t.Child) != above:
			return unsound("the table of %s is of %d rows above, of which there are %d", r.Set, len(t.Child), above)
		case outside(t.Child, t.Len, -1) || outside(t.Parent, above, 0):
			return unsound("the table of %s names rows that there are not", r.Set)
		case t.Child == nil && above > 0 && len(t.Parent) != t.places(), len(t.Parent) > t.places():
			return unsound("the table of %s has %d rows, and names the row above of %d", r.Set, t.places(), len(t.Parent))
		}
	}
	return nil
}

func unsound(format string, args ...any) error {
	return &Error{Code: BadAnswer, Msg: "answered in another shape than it was asked in", Err: fmt.Errorf(format, args...)}
}

// places returns how many rows the table has in the order that was asked for.
func (t *Table) places() int {
	if len(t.Order) > 0 {
		return len(t.Order)
	}
	return t.Len
}

// outside reports whether a row is none of so many, and not the least that is allowed.
func outside(rows []int32, n, least int) bool {
	for _, row := range rows {
		if int(row) < least || int(row) >= n {
			return true
		}
	}
	return false
}

func (t *Table) check(wanted []Wanted) error {
	if t.Len < 0 {
		return fmt.Errorf("%d rows", t.Len)
	}
	if len(t.Columns) != len(wanted) {
		return fmt.Errorf("%d columns, and %d are wanted", len(t.Columns), len(wanted))
	}
	if outside(t.Order, t.Len, 0) {
		return fmt.Errorf("an order of rows that there are not")
	}
	for i := range wanted {
		if err := t.Columns[i].check(&wanted[i], t.Len); err != nil {
			return fmt.Errorf("column %s: %w", wanted[i].Path, err)
		}
	}
	return nil
}

// check says in what a column does not hold n values of what is wanted.
func (c *Column) check(w *Wanted, n int) error {
	held := n
	switch {
	case c.Kind != w.Kind:
		return fmt.Errorf("it is of the kind %s, and %s is wanted", c.Kind, w.Kind)
	case len(c.Null) != n:
		return fmt.Errorf("%d values for %d rows", len(c.Null), n)
	case c.Kind.inInts():
		held = len(c.Ints)
	case c.Kind == Float:
		held = len(c.Floats)
	case c.Kind.inBytes(), c.Kind == List:
		held = len(c.Ends)
	}
	if held != n {
		return fmt.Errorf("%d values for %d rows", held, n)
	}
	last := 0
	if len(c.Ends) > 0 {
		last = int(c.Ends[n-1])
	}
	switch {
	case c.Kind.inBytes() && last > len(c.Bytes):
		return fmt.Errorf("%d bytes, of which it says there are %d", len(c.Bytes), last)
	case c.Kind == List && c.Elem == nil, c.Kind == Record && c.Rows == nil:
		return fmt.Errorf("no values of its items")
	case c.Kind == List:
		return c.Elem.check(w.Elem, last)
	case c.Kind == Record && c.Rows.Len != n:
		return fmt.Errorf("%d records for %d rows", c.Rows.Len, n)
	case c.Kind == Record:
		return c.Rows.check(w.Fields)
	}
	return nil
}
