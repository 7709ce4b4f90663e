package store

import "fmt"

// Check says in what an answer is not of the shape of its reads, so that it cannot be
// used; nil if it is. What a store answers is never taken on trust: a table of another
// shape would be read beyond its end.
func (a *Answer) Check(reads []*Read) error {
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
		}
	}
	return nil
}

func unsound(format string, args ...any) error {
	return &Error{BadAnswer, "answered in another shape than it was asked in", fmt.Errorf(format, args...)}
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
