package execute

import (
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"

	"osprey/core/plan"
	"osprey/core/schema"
	"osprey/core/store"
)

// answered writes what a field that writes answers: the records, for each key that was
// written what was read of it; their key, or how many they are, or an object of these.
func (r *run) answered(b []byte, f *plan.Field) ([]byte, bool) {
	if err := r.fetched[f.Write.Read.Fetch.ID].err; err != nil {
		r.failedWrite(f, err)
		return b, false
	}
	t := r.table(&plan.Rows{Step: f.Write})
	row := r.writtenRecord
	switch f.What {
	case plan.Answered:
		return r.fields(b, f.Object.Cases[0].Fields, nil, 0)
	case plan.Counted:
		return strconv.AppendInt(b, int64(t.Len), 10), true
	case plan.WrittenKey:
		row = r.writtenKey
	}
	if f.Null.Item == nil {
		if t.Len == 0 {
			if f.Null.NonNull {
				r.missing(f)
			}
			return b, false
		}
		return row(b, f, 0)
	}
	return r.items(b, f.Null.Item, t.Len, func(b []byte, i int) ([]byte, bool) { return row(b, f, i) })
}

// writtenKey writes a field of the key of what was written.
func (r *run) writtenKey(b []byte, f *plan.Field, row int) ([]byte, bool) {
	c := &r.table(&plan.Rows{Step: f.Write}).Columns[f.Column]
	if c.Null[row] {
		return b, false
	}
	b, why := appendValue(b, f, c, row)
	if why != "" {
		r.fail(f, nil, BadResult, "", f.At+": "+why)
	}
	return b, why == ""
}

// writeOf returns the read that writes what a field answers.
func (r *run) writeOf(f *plan.Field) *plan.Read {
	return r.plan.Fetches[f.Write.Read.Fetch.Unit.Write].Reads[0]
}

func (r *run) writtenRecord(b []byte, f *plan.Field, row int) ([]byte, bool) {
	l, from, to, ok := r.linked(f, row)
	if !ok {
		return b, false
	}
	return r.one(b, f, f, l, from, to)
}

// failedWrite tells why a write was not done, in the schema's words.
func (r *run) failedWrite(f *plan.Field, err error) {
	fetch := r.writeOf(f).Fetch
	source := fetch.Source
	var part *half
	if errors.As(err, &part) && part.source != "" {
		source = part.source
	}
	before := len(r.errs)
	tell := func(code, msg string) { r.fail(f, nil, code, source, msg+part.rest()) }
	known, told := new(store.Error), (*told)(nil)
	switch isKnown, isTold := errors.As(err, &known), errors.As(err, &told); {
	case isKnown && known.Broken != nil:
		msg := r.brokenRule(f, known.Broken)
		if n := known.Broken.Before; n > 0 {
			msg += fmt.Sprintf(msgBefore, n)
		}
		if tell(string(known.Code), msg); len(r.errs) > before {
			r.errs[before].Input = r.inputOf(f, known.Broken)
		}
	case isTold:
		if told.source != "" {
			source = told.source
		}
		tell(told.code, told.msg)
	case isKnown && known.Code == store.Conflict:
		tell(string(known.Code), fmt.Sprintf(msgConflict, f.At))
	case isKnown && (known.Code == store.Refused || known.Code == store.Function):
		tell(string(known.Code), fmt.Sprintf(msgRefused, f.At, known.Msg))
		if list := fetch.Reads[0].Write.List; len(r.errs) > before && known.Row > 0 && list != nil {
			r.errs[before].Input = []any{list.Name, known.Row - 1}
		}
	default:
		for _, id := range fetch.Unit.Fetches {
			if own := r.plan.Fetches[id]; own.Source == source {
				fetch = own
			}
		}
		code, msg := describe(fetch, err)
		tell(code, msg)
	}
}

// brokenRule says which rule a write breaks.
func (r *run) brokenRule(f *plan.Field, broken *store.Broken) string {
	read := r.writeOf(f)
	for _, id := range read.Fetch.Unit.Fetches { // of what is added with it, too
		if own := r.plan.Fetches[id].Reads[0]; own.Write != nil && read.Write.Store.Set != broken.Set && own.Write.Store.Set == broken.Set {
			read = own
		}
	}
	var fields []string
	for _, path := range broken.Fields {
		fields = append(fields, r.ruledField(read, broken, path))
	}
	what := strings.Join(fields, " and ")
	if what == "" {
		if what = broken.Set; what == read.Write.Store.Set {
			what = read.Write.Type
		}
	}
	switch several := len(fields) > 1; broken.Rule {
	case store.Outdated:
		if several {
			return fmt.Sprintf(msgOutdatedTogether, what)
		}
		return fmt.Sprintf(msgOutdated, what)
	case store.NotText:
		return fmt.Sprintf(msgNotText, what)
	case store.Taken:
		if several {
			return fmt.Sprintf(msgTakenTogether, what)
		}
		return fmt.Sprintf(msgTaken, what)
	case store.Twice:
		return msgTwice
	case store.Lost:
		if several {
			return fmt.Sprintf(msgLostTogether, what)
		}
		if len(fields) == 0 {
			return fmt.Sprintf(msgLostSomewhere, what)
		}
		return fmt.Sprintf(msgLost, what)
	case store.Used:
		if len(fields) == 0 {
			return msgUsedSomewhere
		}
		return fmt.Sprintf(msgUsed, what)
	case store.Required:
		return fmt.Sprintf(msgRequired, what)
	case store.TooLong:
		if broken.Most > 0 {
			return fmt.Sprintf(msgTooLong, what, plan.Count(broken.Most, "character"))
		}
		return fmt.Sprintf(msgTooLongSomewhere, what)
	case store.TooFine:
		return fmt.Sprintf(msgTooFine, what, plan.Count(broken.Most, "digit"))
	case store.OutOfRange:
		if len(fields) == 0 {
			return fmt.Sprintf(msgOutOfRangeOf, what)
		}
		return fmt.Sprintf(msgOutOfRange, what)
	}
	if broken.Name == "" {
		return fmt.Sprintf(msgOtherRule, what)
	}
	return fmt.Sprintf(msgNamedRule, what, broken.Name)
}

// inputOf returns where the value that breaks a rule was given; nil if it was not, or nobody
// knows which of several it is.
func (r *run) inputOf(f *plan.Field, broken *store.Broken) []any {
	for _, id := range r.writeOf(f).Fetch.Unit.Fetches {
		read := r.plan.Fetches[id].Reads[0]
		in := r.inputs[id]
		if read.Write == nil || read.Write.Store.Set != broken.Set || len(in) == 0 || in[0].Rows == nil {
			continue
		}
		row := broken.Row - 1
		if row < 0 && in[0].Rows.Len == 1 {
			row = 0
		}
		for c := range read.Write.Values {
			of := &read.Write.Values[c]
			expects := c >= len(read.Write.Store.Columns)+len(read.Write.Store.Keys)
			if len(broken.Fields) > 0 && of.Path == broken.Fields[0] && of.Name != "" && row >= 0 && expects == (broken.Rule == store.Outdated) {
				return r.inputPlace(read.Write, of, row)
			}
		}
	}
	return nil
}

// inputPlace returns where a value of a row is given.
func (r *run) inputPlace(w *plan.Write, of *plan.WriteValue, row int) []any {
	var place []any
	switch {
	case w.Above != nil:
		f := &filling{run: r, write: w, resolved: map[*plan.Arg]schema.Value{}}
		_, above, err := f.itemsOf(w)
		if err != nil || row >= len(above) {
			return nil
		}
		parent := above[row]
		for row > 0 && above[row-1] == parent { // counted within its own list
			row--
			place = append(place, nil)
		}
		at := len(place)
		switch up := w.Above.Read.Write; {
		case up.List != nil:
			place = []any{up.List.Name, parent}
		case up.Above == nil && w.Arg != nil:
			place = []any{w.Arg.Name}
		default:
			place = nil // deeper than is told
		}
		if place = append(place, w.Within); w.Many {
			place = append(place, at)
		}
	case w.List != nil:
		place = []any{w.List.Name, row}
	case of.Input != "" && of.Arg != nil:
		place = []any{of.Arg.Name}
	}
	return append(place, of.Name)
}

// ruledField returns the field that a rule is about, with the value that was given for it
// if there is one that breaks the rule.
func (r *run) ruledField(read *plan.Read, broken *store.Broken, path string) string {
	w, set := read.Write, broken.Set
	for c := range w.Values {
		of := &w.Values[c]
		if expects := c >= len(w.Store.Columns)+len(w.Store.Keys); set != w.Store.Set || of.Path != path || expects != (broken.Rule == store.Outdated) {
			continue
		}
		name := of.About
		var rows *store.Rows
		if in := r.inputs[read.Fetch.ID]; len(in) > 0 {
			rows = in[0].Rows
		}
		if rows == nil || broken.Rule != store.Taken && broken.Rule != store.Lost && broken.Rule != store.OutOfRange && broken.Rule != store.Outdated || rows.Len != 1 || rows.Columns[c].Kind == store.List || rows.Columns[c].Kind == store.JSON {
			return name
		}
		if rows.Columns[c].Null[0] {
			return name + " null"
		}
		if value := string(rows.Columns[c].Text(0)); utf8.RuneCountInString(value) <= longestTold {
			return name + " " + quoted(rows.Columns[c].Kind, value)
		}
		return name
	}
	return w.FieldOf(set, path)
}

// longestTold is how many characters a value has that a message repeats.
const longestTold = 60

func quoted(kind store.Kind, value string) string {
	if kind == store.Text {
		return strconv.Quote(value)
	}
	return value
}

// placeOf says which value of a write is meant.
func placeOf(w *plan.Write, of *plan.WriteValue, row int) string {
	if w.List != nil || w.Above != nil {
		return fmt.Sprintf("%s[%d].%s", nameOf(w), row, of.Name)
	}
	if of.Arg != nil && of.Input != "" {
		return of.Arg.Name + "." + of.Name
	}
	return of.Name
}

// put adds a value that is written to a column. A value that does not fit is an error,
// and never left out.
func put(c *store.Column, of *plan.WriteValue, v schema.Value) error {
	if v == nil {
		c.AppendNull()
		return nil
	}
	if !of.Many || c.Kind == store.JSON {
		return putOne(c, of, v)
	}
	list, isList := v.([]schema.Value)
	if !isList {
		list = []schema.Value{v}
	}
	for _, item := range list {
		if item == nil {
			c.Elem.AppendNull()
		} else if err := putOne(c.Elem, of, item); err != nil {
			return err
		}
	}
	c.EndList()
	return nil
}

func putOne(c *store.Column, of *plan.WriteValue, v schema.Value) error {
	switch {
	case c.Kind == store.Record:
		c.AppendRecord()
		for i := range of.Fields {
			if err := put(&c.Rows.Columns[i], &of.Fields[i], fieldOf(v, of.Fields[i].Name)); err != nil {
				return fmt.Errorf("%s %w", of.Fields[i].Name, err)
			}
		}
		return nil
	case c.Kind == store.JSON && len(of.Fields) > 0:
		text, err := json.Marshal(storedJSON(of, v))
		if err != nil {
			return errors.New(msgNoJSON)
		}
		c.AppendBytes(text)
		return nil
	}
	if c.Kind == store.JSON {
		text, err := json.Marshal(plainValue(v))
		if err != nil {
			return errors.New(msgNoJSON)
		}
		c.AppendBytes(text)
		return nil
	}
	if given, ok := scalarOf(v, of.Enum); !ok || !c.AppendAs(&given, 0) {
		return fmt.Errorf(msgCannotBeWritten, c.Kind)
	}
	return nil
}

// storedJSON returns a nested record, or a list of them, as it is stored in JSON: by the
// stored names, and without what is not given.
func storedJSON(of *plan.WriteValue, v schema.Value) any {
	switch v := v.(type) {
	case []schema.Value:
		list := make([]any, len(v))
		for i := range v {
			list[i] = storedJSON(of, v[i])
		}
		return list
	case schema.InputFields:
		object := map[string]any{}
		for i := range of.Fields {
			inner := &of.Fields[i]
			if given := fieldOf(v, inner.Name); given != nil {
				store.PutPath(object, inner.Path, storedJSON(inner, given))
			}
		}
		return object
	case schema.Symbol:
		if of.Enum != nil {
			return of.Enum.Stored[string(v)]
		}
	}
	return plainValue(v)
}
