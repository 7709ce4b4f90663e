// Package contain stands around a source that a program brings, whose code nobody
// here has seen: whatever it does wrong is an error that says what, and never ends
// the process or reaches beyond what it answered. One that does not return in time is
// left behind.
package contain

import (
	"cmp"
	"context"
	"fmt"
	"runtime/debug"
	"time"

	"osprey/core/store"
)

// A Fault is a mistake in the code of a source.
type Fault struct {
	Method string // of [store.Source] or [store.Request]
	Why    string
	Stack  []byte // of a panic
}

// Error says what is wrong, in a sentence about the source.
func (f *Fault) Error() string {
	if f.Stack == nil {
		return fmt.Sprintf("%s %s", f.Method, f.Why)
	}
	return fmt.Sprintf("%s %s\n%s", f.Method, f.Why, f.Stack)
}

// fault makes the error of a mistake; callers are told in which method it is.
func fault(method, why string, stack []byte) *store.Error {
	f := &Fault{method, why, stack}
	told := method + " " + why
	if stack != nil {
		told = method + " panicked; the service's log has the details"
	}
	return &store.Error{Code: store.BadAnswer, Msg: "is a source of the program and at fault: " + told, Err: f}
}

// failed is what callers are told of an error that is no [store.Error].
const failed = "failed; the service's log has the details"

// caught makes an error of a panic.
func caught(method string, err *error) {
	if p := recover(); p != nil {
		*err = fault(method, fmt.Sprintf("panicked: %v", p), debug.Stack())
	}
}

// A Source is a source contained.
type Source struct {
	inner   store.Source
	timeout time.Duration
	can     store.Capabilities
	err     error // why what it can do is not known
}

// New contains a source, each call of which may take so long; zero means
// [store.DefaultTimeout]. It asks it once what it can do.
func New(inner store.Source, timeout time.Duration) *Source {
	s := &Source{inner: inner, timeout: cmp.Or(timeout, store.DefaultTimeout)}
	s.err = s.ask()
	return s
}

// within returns what f returns, or, if that takes too long or nobody waits any more,
// the error that says so.
func within[T any](ctx context.Context, s *Source, method string, f func(ctx context.Context) (T, error)) (T, error) {
	ctx, cancel := context.WithTimeout(ctx, s.timeout)
	defer cancel()
	type outcome struct {
		value T
		err   error
	}
	done := make(chan outcome, 1)
	go func() {
		var o outcome
		defer func() { done <- o }()
		defer caught(method, &o.err)
		o.value, o.err = f(ctx)
	}()
	select {
	case o := <-done:
		return o.value, o.err
	case <-ctx.Done():
		var none T
		return none, store.Fail(ctx, ctx.Err(), "")
	}
}

// ask learns what the source can do, each function of which may panic, too.
func (s *Source) ask() (err error) {
	defer caught("Capabilities", &err)
	if s.inner == nil {
		return fault("WithSource", "was given no source", nil)
	}
	can := s.inner.Capabilities()
	if can.Group > store.BySource || can.Page > store.PagePerKey {
		return fault("Capabilities", "has a Group or Page that there is not", nil)
	}
	if f := can.CanRead; f != nil {
		can.CanRead = func(set string, keys, where []string) (many bool, err error) {
			defer caught("CanRead", &err)
			return f(set, keys, where)
		}
	}
	if f := can.CanFold; f != nil {
		can.CanFold = func(set string, here []string, related string, there []string) bool {
			return orFalse(func() bool { return f(set, here, related, there) })
		}
	}
	if f := can.CanPage; f != nil {
		can.CanPage = func(read *store.Read) bool { return orFalse(func() bool { return f(read) }) }
	}
	if f := can.Takes; f != nil {
		can.Takes = func(set string, keys []string, where []store.Predicate) (takes func(*store.Predicate) bool) {
			defer func() {
				if recover() != nil {
					takes = nil
				}
			}()
			return f(set, keys, where)
		}
	}
	if f := can.CanCall; f != nil {
		can.CanCall = func(name string, signature store.Signature) (err error) {
			defer caught("CanCall", &err)
			return f(name, signature)
		}
	}
	can.Write = nil // nobody has contained its sessions
	s.can = can
	return nil
}

// orFalse returns what f says, and false where it panics: what a source cannot say
// that it can, is left to the engine.
func orFalse(f func() bool) (yes bool) {
	defer func() {
		if recover() != nil {
			yes = false
		}
	}()
	return f()
}

// Catalogue returns what the source tells, if it is sound.
func (s *Source) Catalogue(ctx context.Context) (c *store.Catalogue, err error) {
	if s.err != nil {
		return nil, s.err
	}
	if c, err = within(ctx, s, "Catalogue", s.inner.Catalogue); err != nil {
		return nil, err
	}
	if wrong := c.Check(); wrong != nil {
		return nil, fault("Catalogue", "returned what is none: "+wrong.Error(), nil)
	}
	return c, nil
}

// Capabilities returns what the source can do.
func (s *Source) Capabilities() store.Capabilities { return s.can }

// Prepare makes a request of the source's own.
func (s *Source) Prepare(catalogue *store.Catalogue, reads []*store.Read) (r store.Request, err error) {
	defer caught("Prepare", &err)
	inner, err := s.inner.Prepare(catalogue, reads)
	if err != nil {
		return nil, store.Fail(context.Background(), err, failed)
	}
	if inner == nil {
		return nil, fault("Prepare", "returned no request, and no error", nil)
	}
	return &request{s, inner, reads}, nil
}

// Ping asks the source whether it is there.
func (s *Source) Ping(ctx context.Context) (err error) {
	if s.err != nil {
		return s.err
	}
	_, err = within(ctx, s, "Ping", func(ctx context.Context) (struct{}, error) { return struct{}{}, s.inner.Ping(ctx) })
	return err
}

// Close closes the source.
func (s *Source) Close() (err error) {
	if s.inner == nil {
		return nil
	}
	defer caught("Close", &err)
	return s.inner.Close()
}

// A request is one of the source's, contained.
type request struct {
	source *Source
	inner  store.Request
	reads  []*store.Read
}

// Describe returns what the request says of itself, and what it reads if it does not.
func (r *request) Describe() (d store.Description) {
	defer func() {
		if recover() != nil || d.Asks == "" {
			d.Asks = r.reads[0].Set
		}
		d.Statements, d.MaxKeys, d.Pages = max(d.Statements, 0), max(d.MaxKeys, 0), max(d.Pages, 0)
	}()
	return r.inner.Describe()
}

// Run runs the request. What it answers is copied into nothing, and so looked at as a
// whole before anybody reads it.
func (r *request) Run(ctx context.Context, caller *store.Caller, in []store.Input) (a *store.Answer, err error) {
	a, err = within(ctx, r.source, "Run", func(ctx context.Context) (*store.Answer, error) { return r.inner.Run(ctx, caller, in) })
	if err != nil {
		return nil, store.Fail(ctx, err, failed)
	}
	if wrong := a.Check(r.reads); wrong != nil {
		return nil, wrong
	}
	whole := *a
	whole.Requests = max(a.Requests, 1)
	if release := a.Release; release != nil {
		whole.Release = func() {
			defer func() { _ = recover() }() // its memory is its own business
			release()
		}
	}
	return &whole, nil
}
