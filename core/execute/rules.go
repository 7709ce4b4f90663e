package execute

import (
	"fmt"
	"math"
	"time"

	"osprey/core/expression"
	"osprey/core/plan"
	"osprey/core/schema"
	"osprey/core/store"
)

// This file decides what rules say of rows, and of calls: what a store could not be asked. An expression
// that fails is not true.

// Denied is the code of what the caller may not read, or do.
const Denied = "DENIED"

// A RuleError is a rule that failed, and so was not true.
type RuleError struct {
	Rule string // what it stands on
	Err  error
	Rows int // how many times
}

// allows reports whether one of each of some expressions is true of a row; nil stands for the one row of a
// root.
func (r *run) allows(rules [][]*plan.Field, t *store.Table, row int) bool {
	for _, any := range rules {
		allowed := false
		for _, f := range any {
			allowed = allowed || r.isTrue(f, t, row)
		}
		if !allowed {
			return false
		}
	}
	return true
}

func (r *run) isTrue(f *plan.Field, t *store.Table, row int) bool {
	if t == nil {
		row = 0
	} else if !isOnly(t, f.Only, row) {
		return true // it is of records of another type
	}
	e := r.expression(f, t)
	if err := e.failed[row]; err != nil && !expression.Absent(err) {
		r.ruleFailed(f.At, err)
	}
	return e.failed[row] == nil && !e.column.Null[row] && e.column.Ints[row] != 0
}

// ruleFailed notes that a rule failed.
func (r *run) ruleFailed(rule string, err error) {
	for i := range r.rules {
		if r.rules[i].Rule == rule {
			r.rules[i].Rows++
			return
		}
	}
	r.rules = append(r.rules, RuleError{rule, err, 1})
}

// allowChild leaves out of a link of at most one row each those that rules do not allow.
func (r *run) allowChild(s *plan.Step, l *link) {
	if s.Allow == nil {
		return
	}
	child := make([]int32, len(l.child))
	for p, row := range l.child {
		if child[p] = row; row >= 0 && !r.allows(s.Allow, l.table, int(row)) {
			child[p] = -1
		}
	}
	l.child = child
}

// deny tells that the caller may not read a field.
func (r *run) deny(f *plan.Field) {
	r.enter(f)
	r.fail(f, f, Denied, "", fmt.Sprintf(msgDenied, f.At))
	r.leave()
}

// ruleValues adds the values that a rule's expression gives of the caller. What no field of its kind can
// hold equals nothing.
func (r *run) ruleValues(a *plan.Arg, c *store.Column) error {
	v, err := a.Rule.Run(map[string]any{"caller": r.who()})
	if err != nil {
		return nil // the plan was made for one that gives a value
	}
	list, many := v.([]any)
	if !many || !a.Many {
		list = []any{v}
	}
	for _, v := range list {
		if given, ok := ruleValue(a, v); ok {
			c.AppendAs(&given, 0)
		}
	}
	return nil
}

// ruleValue returns what a rule's expression gives as a column of one; false if no stored value equals it.
func ruleValue(a *plan.Arg, v any) (store.Column, bool) {
	text, isText := v.(string)
	moment, isMoment := v.(time.Time)
	fraction, isFraction := v.(float64)
	whole, isWhole := v.(int64)
	_, isBool := v.(bool)
	fits := map[expression.Kind]bool{expression.Text: isText, expression.Moment: isMoment, expression.Int: isFraction || isWhole, expression.Float: isFraction || isWhole, expression.Bool: isBool}
	switch {
	case !fits[a.Holds]:
		return store.Column{}, false
	case a.Kind == store.Int && isFraction: // 4 is below 4.5 as it is below 5
		switch a.Op {
		case store.Below, store.AtLeast:
			fraction = math.Ceil(fraction)
		case store.Above, store.AtMost:
			fraction = math.Floor(fraction)
		}
		v = fraction
	case a.Kind == store.Float && isWhole:
		v = float64(whole)
	case a.Enum != nil:
		if _, known := a.Enum.Stored[text]; !known {
			return store.Column{}, false
		}
		return scalarOf(schema.Symbol(text), a.Enum)
	case isMoment && a.Kind == store.Date:
		day := moment.UTC().Truncate(24 * time.Hour)
		switch whole := day.Equal(moment); {
		case !whole && a.Op == store.Is:
			return store.Column{}, false
		case !whole && (a.Op == store.Below || a.Op == store.AtLeast): // a day begins
			day = day.AddDate(0, 0, 1)
		}
		v = day.Format(time.DateOnly)
	case isMoment:
		v = moment.UTC().Format(time.RFC3339Nano)
	}
	return scalarOf(v, nil)
}

// heldToRules returns an error if what a unit has written is not what the caller may see, and so not what
// it may write.
func (r *run) heldToRules(u *plan.Unit) error {
	for _, s := range u.Checks {
		parents := r.table(s.Parent)
		if parents == nil || parents.Len == 0 {
			continue
		}
		l := r.link(s)
		if l.err != nil {
			return l.err
		}
		for row := range parents.Len {
			if from, to := l.rows(row); from == to {
				return &told{code: Denied, msg: fmt.Sprintf(msgDeniedWrite, u.Field.At)}
			}
		}
	}
	return nil
}

// onlyAllowed forgets the one record that was found to be written, if the caller may not see it.
func (r *run) onlyAllowed(f *plan.Fetch, found *store.Answer) {
	if !f.Reads[0].Store.Lock || found.Tables[0].Len == 0 {
		return
	}
	for _, s := range r.plan.Steps {
		if s.Read == f.Reads[0] && s.Allow != nil {
			r.fetched[f.ID].answer = found // of which the rules are told
			if !r.allows(s.Allow, found.Tables[0], 0) {
				found.Tables[0] = store.NewTable(f.Reads[0].Store.Columns)
			}
			clear(r.expressed)
		}
	}
}
