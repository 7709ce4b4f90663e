package store

import (
	"iter"
	"time"
)

// This file is what a source needs that has its records at hand, in any form of Go.

// Select answers a read from all records that there are: those that have one of
// the keys, if the read has any, and fit its predicates. Records are what package
// encoding/json writes as an object: maps, or structs by the names of their tags.
// An error among them ends the read.
//
//	store.Select(read, &in[0], func(yield func(any, error) bool) {
//		for _, light := range lights {
//			if !yield(light, nil) {
//				return
//			}
//		}
//	})
//
// It leaves sorting, cutting and totals to the engine, so it is for sources whose
// [Capabilities] are the zero value, or that do no more than the records say.
func Select(read *Read, in *Input, records iter.Seq2[any, error]) (*Answer, error) {
	members := NewMembers(read, in)
	t := NewTable(read.Columns)
	for record, err := range records {
		if err != nil {
			return nil, err
		}
		object, ok := objectOf(record)
		if !ok {
			return nil, unsound("a record is %s", jsonWord(record))
		}
		if !members.Has(JSONSubject{object}) {
			continue
		}
		t.Len++
		for i := range read.Columns {
			t.Columns[i].AppendJSON(&read.Columns[i], JSONPath(object, read.Columns[i].Path))
		}
	}
	return &Answer{Tables: []*Table{t}, Requests: 1}, nil
}

// EachKey yields the distinct combinations of values that a keyed read is asked by,
// as [Column.Value] has them: one value for each of [Read.Keys]. A source that can
// look records up asks by these; [Members.Has] then tells whether what it found is
// meant, so that it need not know how keys are compared.
func (in *Input) EachKey() iter.Seq[[]any] {
	return func(yield func([]any) bool) {
		if len(in.Keys) == 0 {
			return
		}
		for row := range in.Keys[0].Len() {
			key := make([]any, len(in.Keys))
			for i := range in.Keys {
				key[i] = in.Keys[i].Value(row)
			}
			if !yield(key) {
				return
			}
		}
	}
}

// Value returns a value of the column as Go has it: nil, a bool, an int64, a
// float64, a time.Time in UTC of Time and Date, []byte of Binary, and a string of
// everything else. Of lists and nested records it returns nil.
func (c *Column) Value(row int) any {
	if c.Null[row] {
		return nil
	}
	switch c.Kind {
	case Bool:
		return c.Ints[row] != 0
	case Int:
		return c.Ints[row]
	case Float:
		return c.Floats[row]
	case Time:
		return time.UnixMicro(c.Ints[row]).UTC()
	case Date:
		return time.Unix(c.Ints[row]*24*3600, 0).UTC()
	case Binary:
		return append([]byte{}, c.At(row)...)
	case List, Record, Unknown:
		return nil
	}
	return string(c.Text(row))
}
