package publishing

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"osprey/core/compare"
	"osprey/core/language"
	"osprey/core/validate"
	"osprey/project"
	"osprey/records"
)

// This file takes what people publish: it is checked against the stores, and against what is asked,
// and kept and served only if all of that is well.

// A Publication is a revision that somebody sends.
type Publication struct {
	Files project.Files
	By    string
	Note  string
	// Onto is the number of the published revision that it is based on, 0 if none was; records.Any
	// does not ask.
	Onto int64
	// Anyway serves it even if it breaks operations that are asked.
	Anyway bool
	// Try tells what would come of it, and does nothing.
	Try bool

	restores *int64
}

// A Broken is an operation that is asked, and would be sound no more.
type Broken struct {
	ID      string    `json:"id"`
	Name    string    `json:"name"`
	Text    string    `json:"text,omitempty"`
	Asked   int64     `json:"asked"`
	Last    time.Time `json:"last"` // the hour in which it was asked last
	Clients []string  `json:"clients"`
	Why     []string  `json:"why"`
}

// An Outcome is what came of a publication.
type Outcome struct {
	Revision    *project.Label       `json:"revision"` // null if it was only tried
	Differences []records.Difference `json:"differences"`
	Broken      []Broken             `json:"broken"` // operations that are asked and break
	Findings    project.Findings     `json:"-"`
}

// ErrBreaks is the error of a publication that would break operations that are asked.
var ErrBreaks = errors.New("it breaks operations that are asked")

// errTried ends a publication that is only tried.
var errTried = errors.New("it was only tried")

// Publish checks a revision, keeps it, and serves it here; the other services serve it as soon as
// they hear of it. It is whole or not at all, whatever fails in the middle. The error is
// [project.Findings] if the project is at fault, ErrBreaks, or [*records.Overtaken].
func (k *Keeper) Publish(ctx context.Context, pub *Publication) (*Outcome, error) {
	// Once it is checked, it is done, even if who sent it has gone.
	ctx = context.WithoutCancel(ctx)
	k.serial.Lock()
	defer k.serial.Unlock()
	k.write(ctx) // what was asked just now counts
	outcome := &Outcome{Differences: []records.Difference{}, Broken: []Broken{}}
	text, err := json.Marshal(pub.Files)
	if err != nil {
		return outcome, err
	}
	before, release := k.project.Hold()
	defer release()
	label := &project.Label{}
	outcome.Findings, err = k.project.Take(ctx, pub.Files, label, func(next *project.Revision) error {
		diffs := compare.Schemas(before.Schema, next.Schema)
		outcome.Differences = told(diffs)
		var err error
		if outcome.Broken, err = k.broken(ctx, before, next, diffs); err != nil && !pub.Anyway {
			return err
		}
		if len(outcome.Broken) > 0 && !pub.Anyway {
			return ErrBreaks
		}
		if pub.Try {
			return errTried
		}
		kept, err := json.Marshal(outcome.Differences)
		if err != nil {
			return err
		}
		rev := &records.Revision{By: pub.By, Note: pub.Note, Origin: project.Published, Restores: pub.restores, Files: text, Schema: next.Schema.Print(), Differences: kept}
		if pub.restores != nil {
			rev.Origin = project.Restored
		}
		if err := k.Records.Add(ctx, rev, pub.Onto); err != nil {
			return err
		}
		*label = *labelOf(rev)
		k.pass(rev.ID)
		return nil
	})
	if errors.Is(err, errTried) {
		return outcome, nil
	}
	if err != nil {
		return outcome, err
	}
	outcome.Revision = label
	k.beat(ctx)
	return outcome, nil
}

// Restore makes a revision that is kept the current one again, under a new number. The error is
// records.ErrNone if there is none of this number.
func (k *Keeper) Restore(ctx context.Context, number int64, pub *Publication) (*Outcome, error) {
	rev, err := k.Records.Revision(ctx, number)
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(rev.Files, &pub.Files); err != nil {
		return nil, fmt.Errorf("revision %d cannot be read: %w", number, err)
	}
	pub.restores = &number
	return k.Publish(ctx, pub)
}

// broken returns the operations that were asked of late and that the next revision breaks: those
// that use what is broken, and those that are sound before and not any more.
func (k *Keeper) broken(ctx context.Context, before, next *project.Revision, diffs []compare.Difference) ([]Broken, error) {
	list := []Broken{}
	askers, err := k.Records.Askers(ctx, k.protects)
	if err != nil {
		return list, fmt.Errorf("it is not known what is asked, and so not what it would break: %w", err)
	}
	for _, a := range askers {
		var uses, clients []string
		if err := errors.Join(json.Unmarshal([]byte(a.Uses), &uses), json.Unmarshal([]byte(a.Clients), &clients)); err != nil {
			return list, err
		}
		used := compare.UsedOf(uses)
		var why []string
		for _, d := range diffs {
			if d.Class == compare.Breaking && used.Concerns(d) {
				why = append(why, d.String())
			}
		}
		if len(why) == 0 {
			if wrong := unsound(next, a.Text); wrong != "" && unsound(before, a.Text) == "" {
				why = []string{wrong}
			}
		}
		if len(why) > 0 {
			list = append(list, Broken{a.ID, a.Name, a.Text, a.Asked, a.Last, clients, why})
		}
	}
	return list, nil
}

// unsound says what is wrong with an operation in a revision's schema; "" if nothing is.
func unsound(r *project.Revision, text string) string {
	if text == "" {
		return ""
	}
	doc, problems := language.Parse(language.NewSource("", text))
	if !problems.Failed() {
		problems = validate.Document(r.Schema, doc)
	}
	for _, p := range problems {
		if p.Severity == language.Error {
			return p.Msg
		}
	}
	return ""
}
