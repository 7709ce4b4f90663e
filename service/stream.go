package service

import (
	"encoding/json"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"osprey/core/store"
	"osprey/project"
)

// This file answers subscriptions, and queries that are answered again, as server-sent events (the HTML standard,
// section 9.2):
//
//	event: next
//	id: 1790000000|…
//	data: {"data":{"movements":{"what":"CHANGED"}}}
//
//	event: complete
//	data: {"errors":[{"message":"another revision of the schema is served now",…}]}

const (
	mediaEvents = "text/event-stream"
	// liveHeader asks with "on" for a query to be answered again when something that it has read has changed, and with
	// "patch" for what is otherwise then.
	liveHeader = "Osprey-Live"
	// lastHeader says where a stream has stood, with the id of its last event.
	lastHeader = "Last-Event-ID"
	// comeBack is when a client should connect again, in milliseconds.
	comeBack = 1000
)

// asksEvents reports whether a request asks for a stream: by a media type that it names.
func asksEvents(accept []string) bool {
	for _, r := range rangesOf(accept) {
		if r.media == mediaEvents && r.q > 0 {
			return true
		}
	}
	return false
}

// open counts the streams that callers have open.
type open struct {
	mu      sync.Mutex // guards what follows
	callers map[string]int
}

// add counts one more, if there are less than most.
func (o *open) add(caller string, most int) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.callers == nil {
		o.callers = map[string]int{}
	}
	if most > 0 && o.callers[caller] >= most {
		return false
	}
	o.callers[caller]++
	return true
}

// done counts one less.
func (o *open) done(caller string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.callers[caller]--; o.callers[caller] <= 0 {
		delete(o.callers, caller)
	}
}

// tooManyStreams refuses one more.
func tooManyStreams(most int) project.Fault {
	return project.Fault{Message: "this caller has " + strconv.Itoa(most) + " streams open, which is the limit", Code: project.CodeRate, Fix: "end one of them, or raise limits.streams in osprey.yaml"}
}

// begin begins a stream of an operation, or says why not. Done must be called at its end.
func (s *Service) begin(r *http.Request, revision *project.Revision, q *project.Request, live bool, last string) (stream *project.Stream, no *project.Answer, done func()) {
	caller := q.Caller.ID
	if most := int(revision.Config.Limits.Streams); !s.open.add(caller, most) {
		return nil, &project.Answer{Refused: true, Faults: []project.Fault{tooManyStreams(most)}}, nil
	}
	after := 0
	q.Client = clientOf(r)
	q.Admit = s.admission.of(r.Context(), caller, &after)
	q.Spend = func(limit, cost int64) bool { return s.admission.spend(caller, limit, cost) == 0 }
	began := time.Now()
	if live {
		stream, no = revision.Follow(r.Context(), q)
	} else {
		stream, no = revision.Subscribe(r.Context(), q, last)
	}
	if no != nil {
		s.open.done(caller)
		s.count(no, q, time.Since(began))
		return nil, no, nil
	}
	if !live { // whose beginning is its first answer
		s.count(stream.Answer(nil), q, time.Since(began))
	}
	return stream, nil, func() {
		stream.Close()
		s.open.done(caller)
	}
}

// stream answers an operation as a stream.
func (s *Service) stream(w http.ResponseWriter, r *http.Request, q *project.Request, revision *project.Revision, release func(), live bool) {
	stream, no, done := s.begin(r, revision, q, live, r.Header.Get(lastHeader))
	release() // the stream holds it for itself
	if no != nil {
		status := http.StatusBadRequest
		if own := statusOf(no); own != 0 {
			status = own
		} else if len(no.Faults) > 0 && no.Faults[0].Code == string(store.Down) {
			status = http.StatusServiceUnavailable
		}
		if status != http.StatusBadRequest {
			w.Header().Set("Retry-After", "1")
		}
		write(w, status, mediaResponse+"; charset=utf-8", no.AppendJSON(nil, false))
		return
	}
	defer done()
	h := w.Header()
	h.Set("Content-Type", mediaEvents)
	h.Set("Cache-Control", "no-store")
	h.Add("Vary", "Accept")
	e := &eventWriter{service: s, patches: strings.EqualFold(r.Header.Get(liveHeader), "patch"), w: w, out: http.NewResponseController(w), calls: strings.EqualFold(r.Header.Get(callsHeader), "on")}
	e.line("retry: ", strconv.Itoa(comeBack))
	e.end()
	s.tellAll(r, q, stream, e)
}

// A teller writes what a stream tells.
type teller interface {
	next(m project.Message) error
	// here says that the stream is there still, and where it stands.
	here(at string) error
	// over says why the stream has ended.
	over(why *project.Fault)
}

// countsAgain is how often a stream that is open is counted, whether it tells anything or not.
var countsAgain = time.Hour

// count counts something of a stream.
func (s *Service) count(a *project.Answer, q *project.Request, took time.Duration) {
	if s.Keeper != nil {
		s.Keeper.Count(a, q.Client, q.RequestID(), took)
	}
}

// tellAll writes what a stream tells until it ends.
func (s *Service) tellAll(r *http.Request, q *project.Request, stream *project.Stream, to teller) {
	beat := time.NewTicker(heartbeat)
	defer beat.Stop()
	open := time.NewTicker(countsAgain)
	defer open.Stop()
	var known <-chan time.Time
	if s.access != nil && whoOf(r) != nil {
		again := time.NewTicker(stillKnown)
		defer again.Stop()
		known = again.C
	}
	for {
		for {
			m, end, some := stream.Take()
			if !some {
				break
			}
			if end != nil {
				if end.Code != project.CodeReplaced {
					s.count(stream.Answer(end), q, -1)
				}
				to.over(end)
				return
			}
			s.count(m.Answer(), q, m.Took)
			if to.next(m) != nil {
				return
			}
		}
		select {
		case <-stream.Wake():
		case <-r.Context().Done():
			return
		case <-s.ends:
			to.over(&project.Fault{Message: "the service stops", Code: project.CodeReplaced, Fix: "subscribe again in a moment"})
			return
		case <-known:
			if why := s.unknownNow(r); why != "" {
				to.over(&project.Fault{Message: why, Code: project.CodeUnknown})
				return
			}
		case <-open.C:
			s.count(stream.Answer(nil), q, -1)
		case <-beat.C:
			if to.here(stream.At()) != nil {
				return
			}
		}
	}
}

// An eventWriter writes server-sent events.
type eventWriter struct {
	service *Service
	patches bool   // what is otherwise is told, where that is shorter
	last    []byte // what was told last
	w       http.ResponseWriter
	out     *http.ResponseController
	calls   bool
	buf     []byte
}

func (e *eventWriter) line(name, value string) {
	e.buf = append(append(append(e.buf, name...), value...), '\n')
}

// end ends an event, and sends it.
func (e *eventWriter) end() error {
	e.buf = append(e.buf, '\n')
	_, err := e.w.Write(e.buf)
	if e.buf = e.buf[:0]; err == nil {
		err = e.out.Flush()
	}
	return err
}

func (e *eventWriter) next(m project.Message) error {
	if e.patches {
		patch := e.service.patches.between(e.last, m.Data)
		if e.last = m.Data; patch != nil {
			e.line("event: ", "patch")
			e.line("data: ", string(patch))
			return e.end()
		}
	}
	e.line("event: ", "next")
	if m.At != "" {
		e.line("id: ", m.At)
	}
	e.line("data: ", string(m.JSON(e.calls)))
	return e.end()
}

func (e *eventWriter) here(at string) error {
	if at != "" {
		e.line("id: ", at)
	}
	e.line(": ", "still here")
	return e.end()
}

func (e *eventWriter) over(why *project.Fault) {
	text, err := json.Marshal(map[string]any{"errors": []*project.Fault{why}})
	if err != nil {
		panic(err) // it is made of texts
	}
	e.line("event: ", "complete")
	e.line("data: ", string(text))
	_ = e.end() // whoever has gone does not need it
}
