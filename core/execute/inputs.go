package execute

import (
	"fmt"

	"osprey/core/plan"
	"osprey/core/schema"
	"osprey/core/store"
)

// inputs gathers what a fetch is asked with: keys from earlier waves and the
// operation's arguments. It returns the number of distinct keys, and whether
// there is anything to ask: a request all of whose reads need keys, and have
// none, is not made.
func (r *run) inputs(f *plan.Fetch) (inputs []store.Input, keys int, ask bool) {
	inputs = make([]store.Input, len(f.Reads))
	for i, read := range f.Reads {
		in := &inputs[i]
		if len(read.Store.Keys) > 0 {
			in.Keys = r.keys(read)
			keys += in.Keys[0].Len()
			ask = ask || in.Keys[0].Len() > 0
		} else if read.Store.Parent < 0 {
			ask = true
		}
		if err := r.arguments(read, in); err != nil {
			r.badRead[read] = err
			in.Limit, in.Offset = 0, 0
			in.Where = make([]store.Column, len(read.Where))
			for j, a := range read.Where {
				in.Where[j].Kind = a.Kind
			}
		}
	}
	return inputs, keys, ask
}

// arguments resolves the conditions and bounds of a read.
func (r *run) arguments(read *plan.Read, in *store.Input) error {
	in.Where = make([]store.Column, len(read.Where))
	for i, a := range read.Where {
		if err := r.condition(a, &in.Where[i]); err != nil {
			return err
		}
	}
	var err error
	if in.Limit, err = r.bound(read.Limit); err != nil {
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
	v, err := a.Resolve(r.vars)
	if err != nil {
		return 0, badArgument(a, msgDoesNotFit, err)
	}
	n, _ := v.(int64)
	if n < 0 {
		return 0, badArgument(a, msgMustOrMoreFound, n)
	}
	return n, nil
}

// condition resolves the values of a condition. A value that the column cannot
// hold equals nothing stored, and is left out.
func (r *run) condition(a *plan.Arg, c *store.Column) error {
	c.Kind = a.Kind
	v, err := a.Resolve(r.vars)
	if err != nil {
		return badArgument(a, msgDoesNotFit, err)
	}
	values, isList := v.([]schema.Value)
	if !isList {
		values = []schema.Value{v}
	}
	for _, v := range values {
		given := store.Column{}
		switch v := v.(type) {
		case nil:
			continue
		case bool:
			given.Kind = store.Bool
			given.AppendInt(map[bool]int64{true: 1}[v])
		case int64:
			given.Kind = store.Int
			given.AppendInt(v)
		case float64:
			given.Kind = store.Float
			given.AppendFloat(v)
		case schema.Symbol:
			given.Kind = store.Text
			given.AppendText(a.Enum.Stored[string(v)])
		case string:
			given.Kind = store.Text
			given.AppendText(v)
		default:
			return badArgument(a, msgCannotComparedStoredValue)
		}
		c.AppendAs(&given, 0)
	}
	return nil
}

// keys collects the distinct combinations of key values of a read, in the form
// that its record set has them.
func (r *run) keys(read *plan.Read) []store.Column {
	columns := make([]store.Column, len(read.Store.Keys))
	for i, k := range read.Store.Keys {
		columns[i].Kind = read.Store.Columns[k].Kind
	}
	seen := map[string]bool{}
	var buf []byte
	for _, feed := range read.Feeds {
		t := r.table(feed.Rows)
		if t == nil {
			continue // what feeds it failed, which is told there
		}
		from := make([]*store.Column, len(feed.Columns))
		for i, c := range feed.Columns {
			from[i] = &t.Columns[c]
		}
		for row := range t.Len {
			var ok bool
			if buf, ok = store.RowKey(buf[:0], from, row); !ok || seen[string(buf)] {
				continue
			}
			seen[string(buf)] = true
			for i := range columns {
				if !columns[i].AppendAs(from[i], row) {
					for j := range i {
						columns[j].Truncate(columns[i].Len())
					}
					break
				}
			}
		}
	}
	return columns
}
