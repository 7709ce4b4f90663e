package execute

import (
	"errors"
	"fmt"

	"osprey/core/language"
	"osprey/core/plan"
	"osprey/core/store"
)

// The codes of field errors beyond those of the stores.
const (
	NotUnique = "NOT_UNIQUE" // several records where one was promised
	BadResult = "BAD_VALUE"  // a stored value does not fit the field's type
	Missing   = "NOT_FOUND"  // nothing where the schema promises a value
	Internal  = "INTERNAL"   // a fault of Osprey
	Undone    = "UNDONE"     // another field of the same transaction failed
	Limit     = "LIMIT"      // more than one operation may cost
)

// An Error is a field error: section 7.1.
type Error struct {
	Msg    string
	Code   string
	Source string // the store concerned, or ""
	// Input is where what is wrong was given, of a field that writes: an argument, and names
	// and positions inside it.
	Input []any
	Path  []any // response names (string) and list positions (int)
	Pos   language.Pos
	More  int // how many further errors were counted only: of the same cause, if it was told
}

// describe turns the failure of a request into what a caller may know.
func describe(f *plan.Fetch, err error) (code, msg string) {
	var before *told
	if errors.As(err, &before) {
		return before.code, before.msg
	}
	var known *store.Error
	if errors.As(err, &known) {
		if known.Code == store.BadValue {
			return string(known.Code), known.Msg
		}
		return string(known.Code), fmt.Sprintf(msgSource, f.Source, known.Msg)
	}
	return Internal, fmt.Sprintf(msgSourceFailed, f.Source)
}

// fail records an error at the current path, for the field f. Errors are told one by
// one up to a number; those beyond it are counted where one of the same cause was
// told, or where the last was.
func (r *run) fail(f *plan.Field, cause any, code, source, msg string) {
	r.failures++
	key := cause
	if key == nil {
		key = msg
	}
	if n := len(r.errs); r.opts.MaxErrors > 0 && n >= r.opts.MaxErrors {
		known := r.causes[key]
		if known == nil {
			known = r.errs[n-1]
		}
		known.More++
		return
	}
	e := &Error{Msg: msg, Code: code, Source: source, Pos: f.Pos, Path: r.pathNow()}
	if r.causes == nil {
		r.causes = map[any]*Error{}
	}
	if r.causes[key] == nil {
		r.causes[key] = e
	}
	r.errs = append(r.errs, e)
}
