package expression

import (
	"slices"
	"strings"

	lru "github.com/hashicorp/golang-lru/v2"
)

// This file keeps programs: a schema is bound again with every change of it, and most of its
// expressions are what they were. A program is right for other inputs if what the checker looked at
// is the same there: not the types as a whole, which may go on without an end.
//
//	record.berth.quay.name     of Berth: quay is Quay; of Quay: name is text

// kept is a program, with what the checker looked at.
type kept struct {
	program *Program
	looked  []look
}

// A look is that the checker looked at a field of a record.
type look struct{ record, field, is string }

var (
	programs, _ = lru.New[string, *kept](4096)
	entries, _  = lru.New[string, map[string]string](4096)
)

// keyOf returns what a program is kept by. Of the records that it is to give, the name is all that
// matters.
func keyOf(text string, inputs map[string]*Type, want *Type, functions []Function) string {
	var parts []string
	for name, t := range inputs {
		parts = append(parts, name+" "+t.String())
	}
	slices.Sort(parts)
	for _, f := range functions {
		parts = append(parts, f.Name)
	}
	return strings.Join(append(parts, want.String(), text), "\x00")
}

// keptProgram returns the program that is kept under a key, if it is right for inputs.
func keptProgram(key string, inputs map[string]*Type) *Program {
	k, ok := programs.Get(key)
	if !ok {
		return nil
	}
	records := map[string]*Type{}
	for _, t := range inputs {
		note(records, t)
	}
	for _, l := range k.looked {
		record := records[l.record]
		if record == nil {
			return nil
		}
		t := record.Field(l.field)
		if t == nil || t.String() != l.is {
			return nil
		}
		note(records, t)
	}
	return k.program
}

// note adds the record that a type is of.
func note(records map[string]*Type, t *Type) {
	for t.Kind == List {
		t = t.Elem
	}
	if t.Kind == Record && records[t.Name] == nil {
		records[t.Name] = t
	}
}
