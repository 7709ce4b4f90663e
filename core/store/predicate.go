package store

import (
	"bytes"
	"cmp"
	"math/big"
	"strconv"
	"strings"
)

// An Op is what a [Predicate] asks of a record.
type Op uint8

const (
	Is         Op = iota // the field equals the value; with Many, one of the values
	Above                // the field is greater than the value
	AtLeast              // greater or equal
	Below                // less
	AtMost               // less or equal
	Contains             // the text has the value in it, in this spelling
	StartsWith           // the text starts with it
	EndsWith             // the text ends with it
	Missing              // the field has no value
	All                  // each of Of holds; true if there is none
	Any                  // one of Of holds; false if there is none
	Not                  // Of[0] does not hold
	With                 // one of the related or nested records fits all of Of
	After                // the record stands behind the values in the order By
)

// A Predicate is what a read asks of its records. A comparison with a record
// that has no value is false, and Not is true just where its predicate is
// false, so that every record either fits a predicate or its negation.
//
// Values are in the columns of [Input.Where]: that at Value, and for After one
// for each of By from there on. Where a comparison has no value, since the
// field cannot hold what was given, no record fits.
type Predicate struct {
	Op    Op
	Path  string // of comparisons, and of a With of nested records
	Kind  Kind   // of the values
	Many  bool   // of Is: there can be several values
	Value int
	Of    []Predicate
	// Link leads to the records of a With; nil for nested ones, whose predicates
	// have paths that begin at the nested record.
	Link *Link
	By   []Order // of After
	// Also says of After that a record that is at the very place fits, too.
	Also bool
	// Foreign says of After that the values are those of another record set, so
	// that each can be missing, whatever the fields of this one are.
	Foreign bool
}

// A Link is a relationship to records of the same source: those of Set whose
// There equals the Here of this one, directly or by a row of JoinTable.
type Link struct {
	Set         string
	Here, There []string
	JoinTable   *JoinTable // or nil
	// Where is what the records must fit that a sort key or a column is of; of others, there is none. The
	// values are those of the read.
	Where []Predicate
}

// Fits reports whether a record fits a predicate that has no links.
func (c *Predicate) Fits(in *Input, r Subject) bool {
	switch c.Op {
	case All:
		for i := range c.Of {
			if !c.Of[i].Fits(in, r) {
				return false
			}
		}
		return true
	case Any:
		for i := range c.Of {
			if c.Of[i].Fits(in, r) {
				return true
			}
		}
		return false
	case Not:
		return !c.Of[0].Fits(in, r)
	case With:
		for _, nested := range r.Nested(c.Path) {
			fits := true
			for i := range c.Of {
				fits = fits && c.Of[i].Fits(in, nested)
			}
			if fits {
				return true
			}
		}
		return false
	case After:
		return c.after(in, r)
	}
	have := Column{Kind: c.Kind}
	r.Append(&have, &Wanted{Path: c.Path, Kind: c.Kind})
	if c.Op == Missing || have.Null[0] {
		return c.Op == Missing && have.Null[0]
	}
	given := &in.Where[c.Value]
	for row := range given.Len() {
		if !given.Null[row] && compares(c.Op, &have, given, row) {
			return true
		}
	}
	return false
}

// A Subject is a record as predicates look at it.
type Subject interface {
	// Append adds the value at the path of what is wanted to a column for it.
	Append(c *Column, w *Wanted)
	// Nested returns the records nested at a path.
	Nested(path string) []Subject
}

// FitsAll reports whether a record fits all of a read's predicates.
func (r *Read) FitsAll(in *Input, s Subject) bool {
	for i := range r.Where {
		if !r.Where[i].Fits(in, s) {
			return false
		}
	}
	return true
}

// Members tells which records a read is asked for, by its keys and predicates.
type Members struct {
	read *Read
	in   *Input
	keys Index // combinations
	room []Column
	key  []byte
}

// NewMembers returns the members of a read that is asked with an input.
func NewMembers(read *Read, in *Input) *Members {
	m := &Members{read: read, in: in}
	if len(read.Keys) == 0 {
		return m
	}
	t := Table{Columns: in.Keys}
	all := make([]int, len(in.Keys))
	for i, k := range read.Keys {
		all[i] = i
		m.room = append(m.room, NewTable(read.Columns[k : k+1]).Columns[0])
	}
	for row := range in.Keys[0].Len() {
		if key, ok := t.AppendKey(nil, all, row); ok {
			m.keys.Add(key)
		}
	}
	return m
}

// Has reports whether a record is one of them.
func (m *Members) Has(r Subject) bool {
	return (len(m.read.Keys) == 0 || m.hasKey(r)) && m.read.FitsAll(m.in, r)
}

func (m *Members) hasKey(r Subject) bool {
	m.key = m.key[:0]
	for i, k := range m.read.Keys {
		have := &m.room[i]
		have.Reset()
		r.Append(have, &m.read.Columns[k])
		if have.Kind == List {
			return m.hasItem(have.Elem)
		}
		var ok bool
		if m.key, ok = AppendKey(m.key, have, 0); !ok {
			return false
		}
	}
	return m.keys.Find(m.key) >= 0
}

// hasItem reports whether one of a list's items is a key.
func (m *Members) hasItem(items *Column) bool {
	for i := range items.Len() {
		if key, ok := AppendKey(m.key[:0], items, i); ok && m.keys.Find(key) >= 0 {
			return true
		}
	}
	return false
}

// Leaves adds the comparisons that a predicate makes of a record's own fields
// to a list.
func (c *Predicate) Leaves(list []*Predicate) []*Predicate {
	switch c.Op {
	case All, Any, Not:
		for i := range c.Of {
			list = c.Of[i].Leaves(list)
		}
		return list
	}
	return append(list, c)
}

// Paths adds the paths that a predicate looks at to a list.
func (c *Predicate) Paths(list []string) []string {
	for _, leaf := range c.Leaves(nil) {
		for _, o := range leaf.By {
			list = append(list, o.Path)
		}
		if leaf.Op != After {
			list = append(list, leaf.Path)
		}
	}
	return list
}

func compares(op Op, have, given *Column, row int) bool {
	switch op {
	case Contains:
		return bytes.Contains(have.At(0), given.At(row))
	case StartsWith:
		return bytes.HasPrefix(have.At(0), given.At(row))
	case EndsWith:
		return bytes.HasSuffix(have.At(0), given.At(row))
	}
	c := Compare(have, 0, given, row)
	switch op {
	case Above:
		return c > 0
	case AtLeast:
		return c >= 0
	case Below:
		return c < 0
	case AtMost:
		return c <= 0
	}
	return c == 0
}

// after reports whether a record stands behind the values of an After.
func (c *Predicate) after(in *Input, r Subject) bool {
	for i, o := range c.By {
		given := &in.Where[c.Value+i]
		have := Column{Kind: given.Kind}
		r.Append(&have, &Wanted{Path: o.Path, Kind: given.Kind})
		if d := o.Compare(&have, 0, given, 0); d != 0 {
			return d > 0
		}
	}
	return c.Also
}

// Compare orders two values by the sort key.
func (o Order) Compare(a *Column, i int, b *Column, j int) int {
	c := 0
	switch x, y := a.Null[i], b.Null[j]; {
	case x && y:
		return 0
	case x || y:
		if x == o.NullsFirst() {
			return -1
		}
		return 1
	default:
		c = Compare(a, i, b, j)
	}
	if o.Desc {
		return -c
	}
	return c
}

// Compare orders two values of columns, neither of which is null: texts by
// their bytes, numbers by what they are, days as the moments at which they
// begin. The columns are of one kind, or both of numbers, or of moments.
func Compare(a *Column, i int, b *Column, j int) int {
	switch {
	case a.Kind == b.Kind:
	case Numeric(a.Kind) && Numeric(b.Kind):
		return compareDecimals(a.number(i), b.number(j))
	case Moment(a.Kind) && Moment(b.Kind):
		return cmp.Compare(a.moment(i), b.moment(j))
	}
	switch {
	case a.Kind.inInts():
		return cmp.Compare(a.Ints[i], b.Ints[j])
	case a.Kind == Float:
		return cmp.Compare(a.Floats[i], b.Floats[j])
	case a.Kind == Decimal:
		return compareDecimals(string(a.At(i)), string(b.At(j)))
	}
	return bytes.Compare(a.At(i), b.At(j))
}

// number returns a number as text.
func (c *Column) number(row int) string {
	switch c.Kind {
	case Int:
		return strconv.FormatInt(c.Ints[row], 10)
	case Float:
		return strconv.FormatFloat(c.Floats[row], 'g', -1, 64)
	}
	return string(c.At(row))
}

// microsecondsOfDay is how long a day is.
const microsecondsOfDay = 24 * 3600 * 1_000_000

// moment returns a moment, or that at which a day begins.
func (c *Column) moment(row int) int64 {
	if c.Kind == Date {
		return c.Ints[row] * microsecondsOfDay
	}
	return c.Ints[row]
}

// maxDecimal is the longest number whose digits are compared one by one;
// beyond, and with an exponent, double precision must do.
const maxDecimal = 1000

func compareDecimals(a, b string) int {
	if len(a) < maxDecimal && len(b) < maxDecimal && !strings.ContainsAny(a+b, "eE/") {
		x, ok := new(big.Rat).SetString(a)
		y, ok2 := new(big.Rat).SetString(b)
		if ok && ok2 {
			return x.Cmp(y)
		}
	}
	x, _, _ := big.ParseFloat(a, 10, 53, big.ToNearestEven)
	y, _, _ := big.ParseFloat(b, 10, 53, big.ToNearestEven)
	if x == nil || y == nil {
		return strings.Compare(a, b)
	}
	return x.Cmp(y)
}
