// Package relay carries what one instance of a service has written to the others, for those who listen there. Of stores that
// tell their changes by themselves, each instance hears without it.
package relay

import (
	"bytes"
	"context"
	"encoding/json"
	"log/slog"
	"sync"
	"time"

	"github.com/google/uuid"

	"osprey/core/store"
	"osprey/project"
)

// A Relay carries texts from each instance to all.
type Relay interface {
	// Send sends a text, in the order in which it is called.
	Send(ctx context.Context, body []byte) error
	// Receive calls heard with each text that is sent, one's own, too, until ctx or the connection ends. Called again, it
	// goes on where it was. Began is called when nothing is missed from then on.
	Receive(ctx context.Context, began func(), heard func(body []byte)) error
}

// A message is what one instance tells.
type message struct {
	From   string        `json:"from"`
	Number int64         `json:"number"` // counts on, of each instance
	Source string        `json:"source"`
	Events []store.Event `json:"events"`
	Lost   bool          `json:"lost,omitempty"` // more was written than could be sent
}

const (
	mostWaiting = 10_000 // messages that wait to be sent
	atOnce      = 200    // messages that are sent together
)

// A carrier runs a relay for a project.
type carrier struct {
	relay   Relay
	project *project.Project
	log     *slog.Logger
	id      string

	mu      sync.Mutex // guards what follows
	waiting []message
	number  int64
	lost    bool
	wake    chan struct{}
}

// Run carries what a project's service writes, and tells it what others do, until stop is called. It returns when it hears,
// or ready ends.
func Run(ctx, ready context.Context, r Relay, p *project.Project, log *slog.Logger) (stop func()) {
	c := &carrier{relay: r, project: p, log: log, id: uuid.NewString(), wake: make(chan struct{}, 1)}
	ctx, cancel := context.WithCancel(ctx)
	began := make(chan struct{})
	var wait sync.WaitGroup
	wait.Go(func() { c.send(ctx) })
	wait.Go(func() { c.receive(ctx, sync.OnceFunc(func() { close(began) })) })
	p.Relay(c.wrote)
	select {
	case <-began:
	case <-ready.Done():
	}
	return func() {
		cancel()
		wait.Wait()
	}
}

// wrote takes what was written here.
func (c *carrier) wrote(source string, events []store.Event) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.waiting) >= mostWaiting {
		c.lost = true
		return
	}
	c.number++
	c.waiting = append(c.waiting, message{From: c.id, Number: c.number, Source: source, Events: events})
	select {
	case c.wake <- struct{}{}:
	default:
	}
}

// next returns what is to be sent.
func (c *carrier) next() []message {
	c.mu.Lock()
	defer c.mu.Unlock()
	n := min(len(c.waiting), atOnce)
	list := c.waiting[:n:n]
	c.waiting = c.waiting[n:]
	if c.lost && len(c.waiting) == 0 {
		c.number++
		c.lost = false
		list = append(list, message{From: c.id, Number: c.number, Lost: true})
	}
	return list
}

// send sends what waits.
func (c *carrier) send(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-c.wake:
		}
		for list := c.next(); len(list) > 0; list = c.next() {
			body, err := json.Marshal(list)
			if err != nil {
				c.log.Error("what was written cannot be told to others", "error", err)
				continue
			}
			for told := false; ctx.Err() == nil; {
				sending, cancel := context.WithTimeout(ctx, 5*time.Second)
				err := c.relay.Send(sending, body)
				cancel()
				if err == nil {
					break
				}
				if !told && ctx.Err() == nil {
					c.log.Error("what was written cannot be told to others, and is tried again", "error", err)
					told = true
				}
				pause(ctx, time.Second)
			}
		}
	}
}

// receive hears what others tell.
func (c *carrier) receive(ctx context.Context, began func()) {
	last := map[string]int64{} // by instance: what may come twice is told once
	for ctx.Err() == nil {
		err := c.relay.Receive(ctx, began, func(body []byte) {
			var list []message
			if err := decode(body, &list); err != nil {
				c.log.Error("what another instance tells cannot be read", "error", err)
				return
			}
			for _, m := range list {
				switch {
				case m.From == c.id || m.Number <= last[m.From]:
					continue
				case m.Lost:
					c.project.LostElsewhere()
				default:
					c.project.WroteElsewhere(m.Source, m.Events)
				}
				last[m.From] = m.Number
			}
		})
		if ctx.Err() == nil {
			c.log.Error("what others write is not heard, and is asked for again", "error", err)
			pause(ctx, time.Second)
		}
	}
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// decode reads JSON, and keeps all digits of its numbers.
func decode(body []byte, into any) error {
	d := json.NewDecoder(bytes.NewReader(body))
	d.UseNumber()
	return d.Decode(into)
}
