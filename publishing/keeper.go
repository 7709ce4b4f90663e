// Package publishing joins a running project with its records: what is published is served by all
// services that share the records, what is served is kept, and what is asked is counted.
//
// Nothing of it is in the way of an answer: while the records' database is away, slow or full,
// what was served is served on, and what is asked is counted within bounds, to be written later.
package publishing

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/user"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"osprey/access"
	"osprey/core/compare"
	"osprey/core/traffic"
	"osprey/project"
	"osprey/records"
)

// A Keeper keeps the records of one running project. It is safe for concurrent use.
type Keeper struct {
	Records *records.Records

	project  *project.Project
	log      *slog.Logger
	id, name string // of this service
	keep     time.Duration
	protects time.Duration
	tally    *traffic.Tally
	began    time.Time
	written  atomic.Int64  // requests that were counted and written
	unsent   chan struct{} // holds one while nobody writes

	samples bool // errors are kept as samples

	keys atomic.Pointer[[]access.Key] // those that hold; nil before they were read

	serial sync.Mutex // held while something is published, or looked for

	mu       sync.Mutex       // guards what follows
	taken    string           // the last published revision that was looked at: served, or passed over
	passing  bool             // the last published revision is to be passed over
	wrong    string           // why the last published revision is not served
	away     string           // why the records cannot be reached; "" if they can
	batches  []*records.Batch // that are to be written
	made     int64            // how many batches there were
	used     map[string]bool  // keys that were used, to be written
	toldUsed time.Time
	refused  int // how often the database has refused the first of them
}

// How often things are done.
const (
	lookEvery  = 5 * time.Second // in case a notice was lost
	beatEvery  = 5 * time.Second
	writeEvery = 2 * time.Second
	slot       = 10 * time.Minute // of the tally
	atOnce     = 2000             // entries of a batch
	refusals   = 5                // after which a batch is given up that the database refuses
	atBegin    = 4 * time.Second  // how long a start waits for the records
)

// Open opens the project in a folder, as the last revision that was published says, or else, or if
// own is true, as the files of the folder do, until another is published. The keeper is nil if the
// configuration of the folder names no records. The error is [project.Findings] if the project is at
// fault.
func Open(ctx context.Context, dir string, own bool, log *slog.Logger, with *project.Additions) (*project.Project, *Keeper, project.Findings, error) {
	if log == nil {
		log = slog.Default()
	}
	config, err := project.ConfigOf(dir)
	if err != nil || config.Records == nil { // which is told with all else that is wrong
		p, findings, err := project.OpenWith(ctx, dir, log, with)
		return p, nil, findings, err
	}
	r, err := records.Open(config.Records.URL)
	if err != nil {
		return nil, nil, nil, fmt.Errorf("the records cannot be opened: %w", err)
	}
	var p *project.Project
	var findings project.Findings
	if !own {
		p, findings = published(ctx, r, dir, config, log, with)
	}
	if p == nil {
		if p, findings, err = project.OpenWith(ctx, dir, log, with); err != nil {
			r.Close()
			return nil, nil, findings, err
		}
	}
	k := &Keeper{Records: r, project: p, log: log, id: uuid.NewString(), keep: time.Duration(config.Records.Keep), protects: time.Duration(config.Records.Protects),
		tally: traffic.NewTally(), began: time.Now(), unsent: make(chan struct{}, 1), passing: own,
		samples: config.Records.Samples == nil || *config.Records.Samples}
	k.unsent <- struct{}{}
	p.Spends(k.spent)
	return p, k, findings, nil
}

// published opens the last revision that was published; nil if none was, or it cannot be opened, which
// is told when it is looked for again.
func published(ctx context.Context, r *records.Records, dir string, own *project.Config, log *slog.Logger, with *project.Additions) (*project.Project, project.Findings) {
	looking, cancel := context.WithTimeout(ctx, atBegin)
	defer cancel()
	rev, err := r.Last(looking)
	if err != nil {
		return nil, nil
	}
	var files project.Files
	if err := json.Unmarshal(rev.Files, &files); err != nil {
		return nil, nil
	}
	p, findings, err := project.OpenFiles(ctx, dir, own, files, labelOf(rev), log, with)
	if err != nil {
		return nil, nil
	}
	return p, findings
}

// Protects returns for how long what was asked is protected from changes that break it.
func (k *Keeper) Protects() time.Duration { return k.protects }

// begin serves the last revision that was published, if one was. It waits for the records for some
// seconds; what is wrong then is told by [Keeper.State], and tried again by run.
func (k *Keeper) begin(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, atBegin)
	defer cancel()
	k.look(ctx)
	k.ReadKeys(ctx)
	k.register(ctx)
}

// Start begins, and runs until what it returns is called, which calls end, and waits until all is
// written. name tells people which service this is, such as its address.
func (k *Keeper) Start(ctx context.Context, name string, end func()) (stop func()) {
	k.name = name
	k.begin(ctx)
	ctx, cancel := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() {
		defer close(done)
		k.run(ctx)
	}()
	return func() {
		end()
		cancel()
		<-done
	}
}

// run follows the records until ctx ends; then it writes what is not written yet.
func (k *Keeper) run(ctx context.Context) {
	heard := make(chan struct{}, 1)
	var wait sync.WaitGroup
	wait.Go(func() { k.listen(ctx, heard) })
	wait.Go(func() { k.follow(ctx, heard) })
	wait.Go(func() { k.count(ctx) })
	wait.Wait()
	ending, cancel := context.WithTimeout(context.WithoutCancel(ctx), 3*time.Second)
	defer cancel()
	k.write(ending)
	if k.State().Problem == "" {
		k.Records.Leave(ending, k.id)
	}
	k.Records.Close()
}

// listen hears of revisions, and begins again where the connection breaks.
func (k *Keeper) listen(ctx context.Context, heard chan<- struct{}) {
	for ctx.Err() == nil {
		k.Records.Listen(ctx, func() {
			select {
			case heard <- struct{}{}:
			default: // it will be looked
			}
		})
		pause(ctx, time.Second)
	}
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// follow serves what is published, and keeps what is served.
func (k *Keeper) follow(ctx context.Context, heard <-chan struct{}) {
	look, forget := time.NewTicker(lookEvery), time.NewTicker(time.Hour)
	defer look.Stop()
	defer forget.Stop()
	for {
		news := k.project.News()
		k.register(ctx)
		k.beat(ctx)
		select {
		case <-ctx.Done():
			return
		case <-heard:
			k.ReadKeys(ctx)
			k.look(ctx)
		case <-look.C:
			k.ReadKeys(ctx)
			k.look(ctx)
		case <-forget.C:
			if err := k.Records.Forget(ctx, k.keep, time.Now()); err != nil {
				k.log.Warn("old records of what was asked cannot be removed", "error", err)
			}
		case <-news:
		}
	}
}

// look serves the last published revision if that is a new one.
func (k *Keeper) look(ctx context.Context) {
	k.serial.Lock()
	defer k.serial.Unlock()
	id, number, err := k.Records.LastID(ctx)
	k.reached(ctx, err)
	if err != nil {
		return
	}
	k.mu.Lock()
	if l := k.project.Revision().Label(); k.passing || l != nil && l.ID == id {
		k.passing, k.taken = false, id
	}
	isNew := id != "" && id != k.taken
	k.mu.Unlock()
	if !isNew || k.restoredFromOld(ctx, id, number) {
		return
	}
	rev, err := k.Records.Last(ctx)
	if err != nil {
		k.reached(ctx, err)
		return
	}
	k.serve(ctx, rev)
}

// restoredFromOld reports whether the records do not know what was published and is served here: a
// backup from before took their place. What is served stays, until something is published again.
func (k *Keeper) restoredFromOld(ctx context.Context, id string, number int64) bool {
	l := k.project.Revision().Label()
	if l == nil || l.Origin == project.FromFiles || number > l.Number || l.ID == id {
		return false
	}
	if known, err := k.Records.Known(ctx, l.ID); err != nil || known {
		return err != nil
	}
	k.mu.Lock()
	k.taken = id
	k.mu.Unlock()
	k.fail(fmt.Sprintf("the records know nothing of revision %d, which is served here, and tell of revision %d as the last: an older state of them was put back; publish it again, or restore another", l.Number, number))
	return true
}

// serve serves a revision that is kept.
func (k *Keeper) serve(ctx context.Context, rev *records.Revision) {
	var files project.Files
	err := json.Unmarshal(rev.Files, &files)
	if err == nil {
		_, err = k.project.Take(ctx, files, labelOf(rev), nil)
	}
	switch {
	case ctx.Err() != nil:
	case err != nil:
		var findings project.Findings
		why := err.Error()
		if errors.As(err, &findings) {
			why = k.firstOf(findings)
		}
		k.fail(fmt.Sprintf("revision %d, which %s has published, cannot be served here, and what was served before is served still: %s", rev.Number, rev.By, why))
	default:
		k.pass(rev.ID)
		k.log.Info("another revision is served", "revision", rev.Number, "by", rev.By, "note", rev.Note)
	}
}

// pass says that a published revision was dealt with.
func (k *Keeper) pass(id string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.taken, k.wrong = id, ""
}

// fail keeps why the last published revision is not served, and tells it once.
func (k *Keeper) fail(why string) {
	k.mu.Lock()
	before := k.wrong
	k.wrong = why
	k.mu.Unlock()
	if why != before {
		k.log.Error(why)
		k.project.TellNews()
	}
}

// firstOf tells the first error with its place in the project.
func (k *Keeper) firstOf(findings project.Findings) string {
	all := findings.Errors().JSON(k.project.Dir)
	if len(all) == 0 {
		return findings.Error()
	}
	text := all[0].Message
	if all[0].Line > 0 {
		text = fmt.Sprintf("%s:%d:%d: %s", all[0].File, all[0].Line, all[0].Column, text)
	}
	if len(all) > 1 {
		text += fmt.Sprintf(" (and %d more)", len(all)-1)
	}
	return text
}

func labelOf(rev *records.Revision) *project.Label {
	return &project.Label{ID: rev.ID, Number: rev.Number, At: rev.At, By: rev.By, Note: rev.Note, Origin: rev.Origin}
}

// register keeps a revision that came from files.
func (k *Keeper) register(ctx context.Context) {
	r, release := k.project.Hold()
	defer release()
	if r.Label() != nil {
		return
	}
	rev := &records.Revision{By: Myself(), Origin: project.FromFiles, Schema: r.Schema.Print()}
	var err error
	if rev.Files, err = json.Marshal(r.Files); err != nil {
		return // no text of a project is one that JSON cannot hold
	}
	before := ""
	if last, err := k.Records.Revisions(ctx, 0, 1); err == nil && len(last) > 0 {
		if whole, err := k.Records.Revision(ctx, last[0].Number); err == nil {
			before = whole.Schema
		}
	}
	rev.Differences = differences(before, r)
	err = k.Records.Add(ctx, rev, records.Any)
	k.reached(ctx, err)
	if err == nil {
		r.SetLabel(labelOf(rev))
	}
}

// Myself names the user as whom this program runs, and the machine.
func Myself() string {
	name, host := "somebody", "somewhere"
	if u, err := user.Current(); err == nil {
		name = u.Username
	}
	if h, err := os.Hostname(); err == nil {
		host = h
	}
	return name + "@" + host
}

// differences tells how a revision differs from a schema, as clients see it. One that cannot be read
// any more differs in nothing that can be told.
func differences(before string, now *project.Revision) json.RawMessage {
	list := []records.Difference{}
	if before != "" {
		if was, err := project.SchemaOf("", before); err == nil {
			list = told(compare.Schemas(was, now.Schema))
		}
	}
	text, err := json.Marshal(list)
	if err != nil {
		panic(err) // texts
	}
	return text
}

func told(diffs []compare.Difference) []records.Difference {
	list := []records.Difference{}
	for _, d := range diffs {
		list = append(list, records.Difference{Class: d.Class.String(), Coordinate: d.Coordinate, What: d.What})
	}
	return list
}

// beat says that this service runs, and what it serves.
func (k *Keeper) beat(ctx context.Context) {
	revision := ""
	if l := k.project.Revision().Label(); l != nil {
		revision = l.ID
	}
	k.mu.Lock()
	wrong := k.wrong
	k.mu.Unlock()
	k.reached(ctx, k.Records.Beat(ctx, k.id, k.name, revision, wrong))
}

// reached keeps whether the records can be reached, and tells when that changes.
func (k *Keeper) reached(ctx context.Context, err error) {
	if ctx.Err() != nil {
		return
	}
	now := ""
	if err != nil {
		now = err.Error()
	}
	k.mu.Lock()
	before := k.away
	k.away = now
	k.mu.Unlock()
	switch {
	case now == before:
	case now == "":
		k.log.Info("the records can be reached again")
		k.project.TellNews()
	default:
		k.log.Error("the records cannot be kept: answers go on, and what is asked is counted, to be written later", "error", now)
		k.project.TellNews()
	}
}

// A State is how the records are.
type State struct {
	// Problem is why they cannot be reached; "" if they can.
	Problem string `json:"problem,omitempty"`
	// Revision is why the last published revision is not served; "" if it is.
	Revision string `json:"revision,omitempty"`
	Written  int64  `json:"written"` // requests that were counted and written
	Waiting  int    `json:"waiting"` // entries that are still to be written
	Dropped  int64  `json:"dropped"` // requests that were not counted, since too much was to be written
}

// State tells how the records are. It asks nobody.
func (k *Keeper) State() State {
	waiting := k.tally.Waiting()
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, b := range k.batches {
		waiting += len(b.Entries)
	}
	return State{k.away, k.wrong, k.written.Load(), waiting, k.tally.Dropped()}
}
