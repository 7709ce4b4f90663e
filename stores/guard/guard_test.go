package guard_test

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"osprey/core/store"
	"osprey/stores/guard"
)

// A fake is a source whose requests and pings do what the test says.
type fake struct {
	run  func(ctx context.Context, in []store.Input) error
	ping func() error
	runs atomic.Int64
}

func (f *fake) Catalogue(context.Context) (*store.Catalogue, error) { return &store.Catalogue{}, nil }
func (f *fake) Capabilities() store.Capabilities                    { return store.Capabilities{} }
func (f *fake) Close() error                                        { return nil }
func (f *fake) Ping(context.Context) error {
	if f.ping == nil {
		return nil
	}
	return f.ping()
}
func (f *fake) Prepare(*store.Catalogue, []*store.Read) (store.Request, error) {
	return fakeRequest{f}, nil
}

type fakeRequest struct{ *fake }

func (r fakeRequest) Describe() store.Description { return store.Description{} }
func (r fakeRequest) Run(ctx context.Context, _ *store.Caller, in []store.Input) (*store.Answer, error) {
	r.runs.Add(1)
	if err := r.run(ctx, in); err != nil {
		return nil, err
	}
	return &store.Answer{}, nil
}

func guarded(t *testing.T, f *fake, c guard.Config) (*guard.Source, func() store.Request) {
	t.Helper()
	s := guard.New(f, c)
	t.Cleanup(func() { s.Close() })
	return s, func() store.Request {
		r, err := s.Prepare(nil, nil)
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
}

func codeOf(err error) store.Code {
	var known *store.Error
	errors.As(err, &known)
	if known == nil {
		return ""
	}
	return known.Code
}

func keyed(n int64) []store.Input {
	c := store.Column{Kind: store.Int}
	c.AppendInt(n)
	return []store.Input{{Keys: []store.Column{c}}}
}

// TestPlacesAreShared holds that requests of one caller do not keep those of
// another waiting: a place that becomes free goes to who has the fewest.
func TestPlacesAreShared(t *testing.T) {
	release := make(chan bool)
	f := &fake{run: func(ctx context.Context, _ []store.Input) error { <-release; return nil }}
	s, request := guarded(t, f, guard.Config{Concurrent: 2, Wait: time.Minute})
	var mu sync.Mutex
	var ended []string
	var wait sync.WaitGroup
	ask := func(caller string) {
		r := request()
		wait.Go(func() {
			if _, err := r.Run(t.Context(), &store.Caller{ID: caller}, nil); err != nil {
				t.Error(err)
			}
			mu.Lock()
			ended = append(ended, caller)
			mu.Unlock()
		})
	}
	until := func(running, waiting int) {
		t.Helper()
		for range 2000 {
			if state := s.State(); state.Running == running && state.Waiting == waiting {
				return
			}
			time.Sleep(time.Millisecond)
		}
		t.Fatalf("the state is %+v, want %d and %d", s.State(), running, waiting)
	}
	// What is not known to be quick has one of two places.
	for i := range 6 {
		ask("greedy")
		until(1, i)
	}
	ask("quiet")
	until(1, 6)
	for i := range 7 {
		release <- true
		until(min(1, 6-i), max(0, 5-i))
	}
	wait.Wait()
	if at := slices.Index(ended, "quiet"); at > 1 {
		t.Errorf("the requests ended in the order %v", ended)
	}
}

// TestQuickOnesHaveAPlace holds that requests that are known to be quick do not
// wait for slow ones, which fill the other places.
func TestQuickOnesHaveAPlace(t *testing.T) {
	release := make(chan bool)
	f := &fake{run: func(_ context.Context, in []store.Input) error {
		if in != nil {
			<-release
		}
		return nil
	}}
	_, request := guarded(t, f, guard.Config{Concurrent: 4, Wait: time.Minute})
	quick := request()
	if _, err := quick.Run(t.Context(), nil, nil); err != nil {
		t.Fatal(err)
	}
	var wait sync.WaitGroup
	for i := range 8 {
		slow := request()
		wait.Go(func() { slow.Run(t.Context(), &store.Caller{ID: fmt.Sprint(i)}, keyed(1)) })
	}
	for f.runs.Load() < 4 {
		time.Sleep(time.Millisecond)
	}
	for range 50 {
		done := make(chan error, 1)
		go func() { _, err := quick.Run(t.Context(), &store.Caller{ID: "0"}, nil); done <- err }()
		select {
		case err := <-done:
			if err != nil {
				t.Fatal(err)
			}
		case <-time.After(5 * time.Second):
			t.Fatal("a quick request waits for slow ones")
		}
	}
	close(release)
	wait.Wait()
}

// TestQueueIsBounded tells those who wait too long, or find too many waiting, and
// gives up with a caller who does.
func TestQueueIsBounded(t *testing.T) {
	release := make(chan bool)
	f := &fake{run: func(context.Context, []store.Input) error { <-release; return nil }}
	s, request := guarded(t, f, guard.Config{Concurrent: 1, Queue: 3, Wait: 300 * time.Millisecond})
	var wait sync.WaitGroup
	wait.Go(func() { request().Run(t.Context(), &store.Caller{ID: "a"}, nil) })
	for s.State().Running == 0 {
		time.Sleep(time.Millisecond)
	}
	late := make(chan error, 3)
	for range 3 {
		go func() { _, err := request().Run(t.Context(), &store.Caller{ID: "a"}, nil); late <- err }()
	}
	for s.State().Waiting < 3 {
		time.Sleep(time.Millisecond)
	}
	if _, err := request().Run(t.Context(), &store.Caller{ID: "a"}, nil); codeOf(err) != store.Busy || err.Error() != "is busy: 3 requests wait for their turn already" {
		t.Errorf("of the same caller: %v", err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	go func() { time.Sleep(20 * time.Millisecond); cancel() }()
	if _, err := request().Run(ctx, &store.Caller{ID: "b"}, nil); codeOf(err) != store.Cancelled { // there is room for another caller
		t.Errorf("of another caller who hangs up: %v", err)
	}
	words := map[string]int{}
	for range 3 {
		words[(<-late).Error()]++
	}
	if words["is busy: the request waited 300ms for its turn"] != 2 || words["is busy: 3 requests wait for their turn already"] != 1 {
		t.Errorf("those who waited are told %v", words)
	}
	if state := s.State(); state.Running != 1 || state.Waiting != 0 {
		t.Errorf("the state is %+v", state)
	}
	close(release)
	wait.Wait()
}

// TestDeadStoreIsLeftAlone counts what reaches a store that is dead: three
// requests, then pings only; when it answers again, all are let through.
func TestDeadStoreIsLeftAlone(t *testing.T) {
	var alive atomic.Bool
	var pings atomic.Int64
	down := &store.Error{Code: store.Down, Msg: "cannot be reached"}
	f := &fake{
		run: func(context.Context, []store.Input) error {
			if alive.Load() {
				return nil
			}
			return down
		},
		ping: func() error {
			pings.Add(1)
			if alive.Load() {
				return nil
			}
			return down
		},
	}
	s, request := guarded(t, f, guard.Config{Concurrent: 4})
	start := time.Now()
	for range 100 {
		if _, err := request().Run(t.Context(), nil, nil); codeOf(err) != store.Down {
			t.Fatalf("gives %v", err)
		}
	}
	if n := f.runs.Load(); n != 3 || time.Since(start) > time.Second {
		t.Errorf("%d requests reached the store, in %s", n, time.Since(start))
	}
	if state := s.State(); state.Asked != "no" || state.Since == nil {
		t.Errorf("the state is %+v", state)
	}
	alive.Store(true)
	for range 500 {
		if _, err := request().Run(t.Context(), nil, nil); err == nil {
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	if state := s.State(); state.Asked != "yes" || state.Since != nil || pings.Load() == 0 {
		t.Errorf("the state is %+v after %d pings", state, pings.Load())
	}
}

// TestHangingStore holds that one that accepts requests and never answers is left
// alone, if it does not answer a ping either: what a request asks that nobody can
// answer in time makes it dead for nobody.
func TestHangingStore(t *testing.T) {
	silent := &store.Error{Code: store.Timeout, Msg: "did not answer"}
	for _, pings := range []bool{false, true} {
		f := &fake{run: func(context.Context, []store.Input) error { return silent }, ping: func() error {
			if pings {
				return nil
			}
			return silent
		}}
		s, request := guarded(t, f, guard.Config{})
		r := request()
		for range 10 {
			r.Run(t.Context(), nil, nil)
			time.Sleep(5 * time.Millisecond) // the ping is not waited for
		}
		if left := f.runs.Load() < 10; left == pings {
			t.Errorf("with pings answered %t, %d of 10 requests reached the store: %+v", pings, f.runs.Load(), s.State())
		}
	}
}

// TestSignsOfLife holds that what a store refuses, and callers who do not wait,
// do not make it dead.
func TestSignsOfLife(t *testing.T) {
	for _, code := range []store.Code{store.BadAnswer, store.BadValue, store.Function, store.Busy, store.Cancelled} {
		f := &fake{run: func(context.Context, []store.Input) error { return &store.Error{Code: code, Msg: "no"} }}
		_, request := guarded(t, f, guard.Config{})
		for range 30 {
			request().Run(t.Context(), nil, nil)
		}
		if f.runs.Load() != 30 {
			t.Errorf("after %s, %d of 30 requests reached the store", code, f.runs.Load())
		}
	}
	f := &fake{run: func(ctx context.Context, _ []store.Input) error { <-ctx.Done(); return store.Fail(ctx, ctx.Err(), "") }}
	_, request := guarded(t, f, guard.Config{})
	for range 20 {
		ctx, cancel := context.WithTimeout(t.Context(), time.Millisecond)
		request().Run(ctx, nil, nil)
		cancel()
	}
	if f.runs.Load() < 10 {
		t.Errorf("callers without time made the store dead after %d requests", f.runs.Load())
	}
	f.run = func(context.Context, []store.Input) error { panic("a fault") }
	for range 20 {
		func() {
			defer func() { recover() }()
			request().Run(t.Context(), nil, nil)
		}()
	}
	f.run = func(context.Context, []store.Input) error { return nil }
	if _, err := request().Run(t.Context(), nil, nil); err != nil {
		t.Errorf("after panics: %v", err)
	}
}

// TestGuardUnderLoad has many callers who come, wait, hang up and are refused: in
// the end nothing runs and nothing waits.
func TestGuardUnderLoad(t *testing.T) {
	f := &fake{run: func(_ context.Context, in []store.Input) error {
		time.Sleep(time.Duration(in[0].Limit) * time.Microsecond)
		return nil
	}}
	s, request := guarded(t, f, guard.Config{Concurrent: 3, Queue: 40, Wait: 20 * time.Millisecond})
	var wait sync.WaitGroup
	var went, refused atomic.Int64
	for i := range 300 {
		r := request()
		wait.Go(func() {
			for n := range 20 {
				ctx, cancel := context.WithTimeout(t.Context(), time.Duration(1+(i*n)%30)*time.Millisecond)
				if _, err := r.Run(ctx, &store.Caller{ID: fmt.Sprint(i % 7)}, []store.Input{{Limit: int64(i % 900)}}); err == nil {
					went.Add(1)
				} else {
					refused.Add(1)
				}
				cancel()
			}
		})
	}
	wait.Wait()
	if state := s.State(); state.Running != 0 || state.Waiting != 0 {
		t.Errorf("in the end the state is %+v", state)
	}
	if went.Load() < 50 || refused.Load() == 0 {
		t.Errorf("%d went, and %d were refused", went.Load(), refused.Load())
	}
}

// A writer is a store of which only sessions are asked.
type writer struct {
	*fake
	open, committed, undone atomic.Int32
}

func (w *writer) Capabilities() store.Capabilities {
	return store.Capabilities{Write: &store.Writing{Begin: func(context.Context, *store.Caller) (store.Session, error) {
		if err := w.run(context.Background(), nil); err != nil {
			return nil, err
		}
		w.open.Add(1)
		return &writerSession{w}, nil
	}}}
}

type writerSession struct{ *writer }

func (x *writerSession) Run(ctx context.Context, r store.Request, caller *store.Caller, in []store.Input) (*store.Answer, error) {
	return r.Run(ctx, caller, in)
}
func (x *writerSession) Commit(context.Context) error { x.committed.Add(1); x.open.Add(-1); return nil }
func (x *writerSession) Rollback()                    { x.undone.Add(1); x.open.Add(-1) }

// TestSessions holds that a session has one place from its beginning to its end, whatever
// is asked in it, and that a store that is left alone begins none.
func TestSessions(t *testing.T) {
	down := atomic.Bool{}
	w := &writer{fake: &fake{ping: func() error { return &store.Error{Code: store.Down} }, run: func(context.Context, []store.Input) error {
		if down.Load() {
			return &store.Error{Code: store.Down, Msg: "cannot be reached"}
		}
		return nil
	}}}
	s := guard.New(w, guard.Config{Concurrent: 2, Wait: 50 * time.Millisecond})
	defer s.Close()
	begin := func() (store.Session, error) { return s.Capabilities().Write.Begin(t.Context(), nil) }
	a, err := begin()
	if err != nil {
		t.Fatal(err)
	}
	// One place of two is for quick requests; a session is none.
	if _, err := begin(); codeOf(err) != store.Busy {
		t.Errorf("a second session at once: %v", err)
	}
	r, err := s.Prepare(nil, nil)
	if err != nil {
		t.Fatal(err)
	}
	for range 5 {
		if _, err := a.Run(t.Context(), r, nil, nil); err != nil {
			t.Fatal(err)
		}
	}
	if state := s.State(); state.Running != 1 {
		t.Errorf("%d places are taken", state.Running)
	}
	if err := a.Commit(t.Context()); err != nil {
		t.Fatal(err)
	}
	a.Rollback() // as a defer would: the place is given back once
	if state := s.State(); state.Running != 0 {
		t.Errorf("%d places are taken after the end", state.Running)
	}
	down.Store(true)
	for range 5 {
		if b, err := begin(); err == nil {
			t.Fatalf("a session begins: %v", b)
		}
	}
	if _, err := begin(); err == nil || !strings.Contains(err.Error(), "is left alone") {
		t.Errorf("a store that is dead is asked for a session: %v", err)
	}
	if state := s.State(); state.Running != 0 {
		t.Errorf("%d places are taken by sessions that never began", state.Running)
	}
}
