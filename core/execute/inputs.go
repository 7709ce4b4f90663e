package execute

import (
	"fmt"
	"math"

	"osprey/core/binding"
	"osprey/core/cursor"
	"osprey/core/plan"
	"osprey/core/schema"
	"osprey/core/store"
)

// gather makes what a fetch is asked with: keys from earlier waves and the
// operation's arguments. It returns the number of distinct keys, and whether
// there is anything to ask: a request all of whose reads need keys, and have
// none, or have arguments that cannot be used, is not made.
func (r *run) gather(f *plan.Fetch) (inputs []store.Input, keys int, ask bool) {
	inputs = sized(r.inputs[f.ID], len(f.Reads))
	r.inputs[f.ID] = inputs
	var known map[string]bool
	for i, read := range f.Reads {
		in := &inputs[i]
		if read.Call != nil {
			var err error
			if in.Calls, err = r.callInputs(read.Call); err != nil {
				r.badRead[read] = err
			}
			if keys += len(in.Calls); len(f.Reads) > 1 { // two fields may need the same call
				if known == nil {
					known = map[string]bool{}
				}
				keys += newCalls(known, in.Calls) - len(in.Calls)
			}
			ask = ask || len(in.Calls) > 0
			continue
		}
		in.Keys = columns(in.Keys, len(read.Store.Keys))
		in.Where = columns(in.Where, read.Store.Values)
		in.Limit, in.Offset = 0, 0
		some := read.Store.Parent < 0 && !read.Nothing
		if len(read.Store.Keys) > 0 {
			r.keys(read, in.Keys)
			keys += in.Keys[0].Len()
			some = in.Keys[0].Len() > 0 && !read.Nothing
		}
		err := r.arguments(read, in)
		ask = ask || some && err == nil
		if err != nil {
			r.badRead[read] = err
			in.Limit, in.Offset = 0, 0
			in.Where = columns(in.Where, read.Store.Values)
			for _, a := range read.Where {
				if a.List == "" {
					in.Where[a.Column].Kind = a.Kind
				}
				for n, kind := range a.Kinds {
					in.Where[a.Column+n].Kind = kind
					in.Where[a.Column+n].AppendNull()
				}
			}
		}
	}
	return inputs, keys, ask
}

// newCalls returns how many of some calls are not known yet, which they are then.
func newCalls(known map[string]bool, calls [][]byte) int {
	n := 0
	for _, call := range calls {
		if !known[string(call)] {
			known[string(call)] = true
			n++
		}
	}
	return n
}

// columns returns n empty columns, with the memory of the given ones.
func columns(list []store.Column, n int) []store.Column {
	list = sized(list, n)
	for i := range list {
		list[i].Reset()
	}
	return list
}

// arguments resolves the conditions and bounds of a read.
func (r *run) arguments(read *plan.Read, in *store.Input) error {
	for _, a := range read.Where {
		var err error
		if a.List != "" {
			err = r.from(a, in.Where[a.Column:a.Column+len(a.By)])
		} else {
			err = r.predicate(a, &in.Where[a.Column])
		}
		if err != nil {
			return err
		}
	}
	var err error
	if in.Limit, err = r.limit(read.Limit); err != nil {
		return err
	}
	in.Offset, err = r.bound(read.Offset)
	return err
}

// badArgument makes the error for an argument whose value cannot be used.
func badArgument(a *plan.Arg, format string, args ...any) error {
	return &store.Error{Code: store.BadValue, Msg: fmt.Sprintf(msgArgument, a.Name) + fmt.Sprintf(format, args...)}
}

// bound resolves a limit or offset; 0 if there is none.
func (r *run) bound(a *plan.Arg) (int64, error) {
	if a == nil {
		return 0, nil
	}
	n := int64(math.MaxInt32)
	switch {
	case a.Written:
		if r.opts.MaxWrites > 0 {
			n = r.opts.MaxWrites
		}
	case !a.Largest:
		v, err := a.Resolve(r.vars)
		if err != nil {
			return 0, badArgument(a, msgDoesNotFit, err)
		}
		n, _ = v.(int64)
	case r.opts.MaxPage > 0:
		n = r.opts.MaxPage
	}
	if n < 0 {
		return 0, badArgument(a, msgMustOrMoreFound, n)
	}
	plus, err := r.bound(a.Plus)
	return n + a.More + plus, err
}

// limit resolves a limit, which must not be beyond the largest page.
func (r *run) limit(a *plan.Arg) (int64, error) {
	n, err := r.bound(a)
	if a == nil || err != nil || r.opts.MaxPage <= 0 || a.Written {
		return n, err
	}
	plus, _ := r.bound(a.Plus)
	if asked := n - a.More - plus; asked > r.opts.MaxPage {
		return 0, badArgument(a, msgMustAtMost, r.opts.MaxPage, asked)
	}
	return n, nil
}

// from resolves the values of a cursor.
func (r *run) from(a *plan.Arg, into []store.Column) error {
	v, err := a.Resolve(r.vars)
	if err != nil {
		return badArgument(a, msgDoesNotFit, err)
	}
	if text, _ := v.(string); !cursor.Read(text, &cursor.Wanted{List: a.List, Merged: a.Merged, Kinds: a.Kinds, Some: a.Other}, into) {
		return badArgument(a, msgNoCursor)
	}
	return nil
}

// predicate resolves the values of a predicate. A value that the column cannot
// hold equals nothing stored, and is left out.
func (r *run) predicate(a *plan.Arg, c *store.Column) error {
	c.Kind = a.Kind
	switch {
	case a.Err != "":
		return badArgument(a, "%s", a.Err)
	case a.Rule != nil:
		return r.ruleValues(a, c)
	}
	v, err := a.Resolve(r.vars)
	if err != nil {
		return badArgument(a, msgDoesNotFit, err)
	}
	values, isList := v.([]schema.Value)
	if !isList {
		values = []schema.Value{v}
	}
	for _, v := range values {
		if v == nil {
			continue
		}
		given, ok := scalarOf(v, a.Enum)
		if text, isText := v.(string); isText && a.Day != plan.NoDay {
			given = dayOf(a.Day, text)
		}
		if !ok {
			return badArgument(a, msgCannotComparedStoredValue)
		}
		if !c.AppendAs(&given, 0) && a.Strict {
			return badArgument(a, msgNotComparable, a.Kind)
		}
	}
	return nil
}

// scalarOf returns a value as a column of one; false if it is none that a store has as it
// is, such as an object.
func scalarOf(v schema.Value, enum *binding.Enum) (c store.Column, ok bool) {
	c.Kind = store.Text
	switch v := v.(type) {
	case bool:
		c.Kind = store.Bool
		c.AppendInt(map[bool]int64{true: 1}[v])
	case int64:
		c.Kind = store.Int
		c.AppendInt(v)
	case float64:
		c.Kind = store.Float
		c.AppendFloat(v)
	case schema.Symbol:
		stored, known := enum.Stored[string(v)]
		if !known {
			return c, false
		}
		c.AppendText(stored)
	case string:
		c.AppendText(v)
	default:
		return c, false
	}
	return c, true
}

// dayOf returns the moment that stands for a day.
func dayOf(day plan.Day, text string) store.Column {
	c := store.Column{Kind: store.Text}
	days, ok := store.ParseMoment(store.Date, text)
	if !ok {
		c.AppendText(text) // no moment either, which is told
		return c
	}
	if day == plan.DayEnds {
		days++
	}
	c.Kind = store.Time
	c.AppendInt(days * 24 * 3600 * 1_000_000)
	return c
}

// tells reports whether the value of a row that tells its type is one of some.
func (r *run) tells(c *store.Column, row int, is map[string]bool) bool {
	return !c.Null[row] && is[string(c.Text(row))]
}

// keys collects the distinct combinations of key values of a read, in the form
// that its record set has them: what is the same there is asked for once.
//
//	craft documents   operator "0196F2A1-…"  "0196f2a1-…"  –  "none"
//	operators by id   a UUID: 0196f2a1-…, once; the text that is no UUID is left out
func (r *run) keys(read *plan.Read, into []store.Column) {
	r.feeding = r.feeding[:0]
	for _, feed := range read.Feeds { // first, since it matches rows by keys of their own
		shown := r.shown(feed.Rows)
		if feed.Picked != nil {
			shown = r.pickedRows(feed.Picked)
		}
		r.feeding = append(r.feeding, shown)
	}
	r.kinds = r.kinds[:0]
	for i, k := range read.Store.Keys {
		into[i].Kind = read.Store.Columns[k].Innermost().Kind
		r.kinds = append(r.kinds, into[i].Kind)
	}
	r.index.Reset()
	for n, feed := range read.Feeds {
		t, shown := r.table(feed.Rows), r.feeding[n]
		if t == nil {
			continue // what feeds it failed, which is told there
		}
		list := &t.Columns[feed.Columns[0]]
		items := itemsOf(list)
		for row := range t.Len {
			switch {
			case shown != nil && !shown[row]:
			case feed.Is != nil && !r.tells(&t.Columns[feed.By], row, feed.Is):
			case items == nil:
				r.addKey(t, feed.Columns, row, into)
			case !list.Null[row]:
				for i, end := list.Items(row); i < end; i++ {
					r.addKey(items, firstColumn, i, into)
				}
			}
		}
	}
}

// firstColumn is the columns of a table of items.
var firstColumn = []int{0}

// itemsOf returns the items of a column of lists as a table; nil of other columns.
func itemsOf(c *store.Column) *store.Table {
	if c.Kind != store.List {
		return nil
	}
	return &store.Table{Len: c.Elem.Len(), Columns: []store.Column{*c.Elem}}
}

// addKey adds the key that a row has in some columns, if it is new.
func (r *run) addKey(t *store.Table, columns []int, row int, into []store.Column) {
	var ok bool
	if r.key, ok = t.AppendKeyAs(r.key[:0], columns, r.kinds, row, &r.room); !ok {
		return
	}
	if _, isNew := r.index.Add(r.key); !isNew {
		return
	}
	for i, c := range columns {
		into[i].AppendAs(&t.Columns[c], row)
	}
}
