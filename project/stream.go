package project

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"sync"
	"time"

	"osprey/core/execute"
)

// This file is one who is told what happens: a bounded queue of what is to be told, and why it ends.

// A Message is what a stream tells.
type Message struct {
	// Data is a response as JSON; nil of a message that only says where the stream stands.
	Data []byte
	// At is where another stream can go on behind this message; "" if it cannot.
	At string
	// Requests are the store requests that were made for it, and for all that was told together with it.
	Requests []execute.StoreRequest
	// Cost is what that was estimated to cost.
	Cost int64
	// Took is how long the answering of all that took.
	Took   time.Duration
	answer *Answer
}

// Answer returns what is told as it is counted: without the store requests, which [Project.Spends] tells.
func (m Message) Answer() *Answer { return m.answer }

// JSON returns the response; with calls, it tells the store requests under extensions.
func (m Message) JSON(calls bool) []byte {
	if !calls || len(m.Data) == 0 {
		return m.Data
	}
	text, err := json.Marshal(requestsJSON(m.Requests))
	if err != nil {
		panic(err) // they are texts and numbers
	}
	out := append(slices.Clone(m.Data[:len(m.Data)-1]), `,"extensions":{"calls":`...)
	return fmt.Appendf(append(out, text...), `,"cost":%d}}`, m.Cost)
}

// A Stream is what one subscriber is told. Its methods may be called at the same time.
type Stream struct {
	hub   *hub
	group *group // guarded by hub.mu

	answer *Answer
	newest bool // only the newest message is kept
	most   int  // messages that wait at most

	mu     sync.Mutex  // guards what follows
	last   []byte      // what was told last; guarded by hub.mu
	charge func() bool // of a live query: whether its caller may cost another answer; nil if it may
	queue  []Message
	ended  *Fault
	wake   chan struct{}
	told   string // where it stands, of what was taken from the queue
}

// mostWaiting is how many messages wait for a slow reader.
const mostWaiting = 512

func newStream(h *hub, a *Answer, newest bool) *Stream {
	return &Stream{hub: h, answer: a, newest: newest, most: mostWaiting, wake: make(chan struct{}, 1)}
}

// Answer returns what is known of the stream, as it is counted: with why it has ended, if that is given.
func (s *Stream) Answer(why *Fault) *Answer {
	a := *s.answer
	if why != nil {
		a.Faults = []Fault{*why}
	}
	return &a
}

// Next returns the next message, as soon as there is one. At the end of the stream, and of what it has told before, it
// returns why it has ended. The error is that of ctx.
func (s *Stream) Next(ctx context.Context) (Message, *Fault, error) {
	for {
		if m, end, ok := s.Take(); ok {
			return m, end, nil
		}
		select {
		case <-s.wake:
		case <-ctx.Done():
			return Message{}, nil, ctx.Err()
		}
	}
}

// Take returns the next message, or why there is none any more; false if there is nothing yet.
func (s *Stream) Take() (m Message, end *Fault, ok bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.queue) > 0 {
		m = s.queue[0]
		s.queue[0] = Message{}
		s.queue = s.queue[1:]
		if m.At != "" {
			s.told = m.At
		}
		return m, nil, true
	}
	return m, s.ended, s.ended != nil
}

// Wake returns a channel that tells when it is worth to call Next.
func (s *Stream) Wake() <-chan struct{} { return s.wake }

// At returns where the stream stands, if nothing waits to be taken: another stream can go on there.
func (s *Stream) At() string {
	s.hub.mu.Lock()
	at := ""
	if g := s.group; g != nil && !g.busy() {
		at = g.at
	}
	s.hub.mu.Unlock()
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.queue) > 0 || at == "" {
		return s.told
	}
	return at
}

// Close ends the stream: nothing is told any more.
func (s *Stream) Close() { s.hub.leave(s) }

// tell gives the stream a message. It ends a stream whose reader is too slow.
func (s *Stream) tell(m Message) {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case s.ended != nil:
		return
	case s.newest:
		clear(s.queue)
		s.queue = s.queue[:0]
	case len(s.queue) >= s.most:
		s.ended = &Fault{Message: "what is told is not read fast enough", Code: CodeSlow, Fix: "read faster, or ask for less; the stream goes on where it stood with Last-Event-ID"}
		return
	}
	s.queue = append(s.queue, m)
	s.rouse()
}

// hasRoom reports whether the stream can take more messages, or takes none any more.
func (s *Stream) hasRoom(n int) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.ended != nil || len(s.queue)+n <= s.most
}

// end ends the stream behind what it has told.
func (s *Stream) end(why *Fault) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ended == nil {
		s.ended = why
	}
	s.rouse()
}

// rouse wakes who waits.
func (s *Stream) rouse() {
	select {
	case s.wake <- struct{}{}:
	default:
	}
}

// moment is how long events are collected, to be answered together.
const moment = 10 * time.Millisecond
