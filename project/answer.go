package project

import (
	"encoding/json"
	"slices"
	"strconv"
	"time"

	"osprey/core/execute"
	"osprey/core/language"
	"osprey/core/plan"
	"osprey/core/traffic"
)

// A Fault is an error as the answer tells it: section 7.1.2.
type Fault struct {
	Message    string
	Locations  []language.Position
	Path       []any
	Code       string
	Source     string
	Rule       string
	Coordinate string
	Fix        string
	Input      []any // where what is wrong was given, of a field that writes
	More       int   // how many further fields have the same error
}

// An Answer is the response to a request.
type Answer struct {
	// Refused says that the request could not be run at all: the answer has
	// no data (section 7.1.1, request errors).
	Refused bool
	Data    []byte // JSON; without its beginning if that was sent
	Sent    bool   // the response has begun
	Faults  []Fault
	// Requests are the store requests that were made.
	Requests []execute.StoreRequest
	Plan     *plan.Plan // nil if refused
	// Broken says that what was sent is no beginning of an answer: the caller must
	// see that it breaks off.
	Broken bool

	asked  *asked // nil if it is not known what is asked
	by     *Revision
	result *execute.Result
	whole  []byte // the response, if it was given before
}

// Operation returns what is known of the operation that was asked; nil of a request that was refused
// before it was known.
func (a *Answer) Operation() *traffic.Operation {
	if a.asked == nil {
		return nil
	}
	o := a.asked.operation
	o.counted.Do(func() { o.known = traffic.NewOperation(a.by.Schema, a.asked.doc, o.def) })
	return o.known
}

// Codes returns the codes of the errors, each once.
func (a *Answer) Codes() (codes []string) {
	for i := range a.Faults {
		if !slices.Contains(codes, a.Faults[i].Code) {
			codes = append(codes, a.Faults[i].Code)
		}
	}
	return codes
}

// Free gives the memory of the answer to later ones; neither its data nor its
// calls may be used afterwards. It may be left out, and further calls do nothing.
func (a *Answer) Free() {
	if a.result != nil {
		a.result.Free()
		a.Data, a.Requests = nil, nil
	}
}

// beforeData is how a response without errors begins.
const beforeData = `{"data":`

// AppendJSON appends the response as JSON: section 7.2. With calls, it tells
// the store requests under extensions. No part of the response may have been
// sent.
func (a *Answer) AppendJSON(buf []byte, calls bool) []byte {
	if a.whole != nil {
		return append(buf, a.whole...)
	}
	buf = append(buf, '{')
	buf = a.appendFaults(buf, "", ",")
	if !a.Refused {
		buf = append(append(buf, `"data":`...), a.Data...)
	}
	return a.appendEnd(buf, calls)
}

// Rest returns what is left of the response: all of it, as AppendJSON does, or
// what follows on the parts that were sent. Errors stand in front of the data,
// where readers find them, unless its beginning was sent when they were found.
// It may be called once, and what it returns used until Free.
func (a *Answer) Rest(calls bool) []byte {
	switch {
	case a.Sent:
		return a.appendEnd(a.appendFaults(a.result.Whole, ",", ""), calls)
	case a.Refused || a.whole != nil || len(a.Faults) > 0:
		return a.AppendJSON(nil, calls)
	}
	return a.appendEnd(a.result.Whole, calls)
}

func (a *Answer) appendEnd(buf []byte, calls bool) []byte {
	if calls && !a.Refused {
		text, _ := json.Marshal(a.RequestsJSON())
		buf = append(append(append(buf, `,"extensions":{"calls":`...), text...), `,"cost":`...)
		buf = append(strconv.AppendInt(buf, a.asked.cost(a.by.allowed(nil)), 10), '}')
	}
	return append(buf, '}')
}

func (a *Answer) appendFaults(buf []byte, before, after string) []byte {
	if len(a.Faults) == 0 {
		return buf
	}
	list := make([]faultJSON, len(a.Faults))
	for i := range a.Faults {
		list[i] = a.Faults[i].json()
	}
	text, _ := json.Marshal(list)
	buf = append(append(append(buf, before...), `"errors":`...), text...)
	if a.Refused {
		return buf
	}
	return append(buf, after...)
}

type faultJSON struct {
	Message    string         `json:"message"`
	Locations  []locationJSON `json:"locations,omitempty"`
	Path       []any          `json:"path,omitempty"`
	Extensions extensionsJSON `json:"extensions"`
}

type locationJSON struct {
	Line   int `json:"line"`
	Column int `json:"column"`
}

type extensionsJSON struct {
	Code       string `json:"code"`
	Source     string `json:"source,omitempty"`
	Rule       string `json:"rule,omitempty"`
	Coordinate string `json:"coordinate,omitempty"`
	Fix        string `json:"fix,omitempty"`
	More       int    `json:"more,omitempty"`
	Input      []any  `json:"input,omitempty"`
}

// MarshalJSON writes an error as an answer tells it.
func (f *Fault) MarshalJSON() ([]byte, error) { return json.Marshal(f.json()) }

func (f *Fault) json() faultJSON {
	j := faultJSON{Message: f.Message, Path: f.Path, Extensions: extensionsJSON{f.Code, f.Source, f.Rule, f.Coordinate, f.Fix, f.More, f.Input}}
	for _, l := range f.Locations {
		j.Locations = append(j.Locations, locationJSON{l.Line, l.Column})
	}
	return j
}

// RequestJSON is a store request as extensions.calls tells it.
type RequestJSON struct {
	ID       int     `json:"id"` // in the plan
	Wave     int     `json:"wave"`
	Source   string  `json:"source"`
	Asks     string  `json:"asks"`
	Requests int     `json:"requests"`
	Keys     int     `json:"keys"`
	Calls    int     `json:"calls,omitempty"` // of a function; Records is then what it gave
	Records  int     `json:"records"`
	Bytes    int64   `json:"bytes"` // of the values of the records
	At       float64 `json:"at"`    // milliseconds since the first could be made
	Millis   float64 `json:"ms"`
	Failed   bool    `json:"failed,omitempty"`
}

func millis(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// RequestsJSON returns the store requests in the order of their waves.
func (a *Answer) RequestsJSON() []RequestJSON { return requestsJSON(a.Requests) }

func requestsJSON(made []execute.StoreRequest) []RequestJSON {
	list := []RequestJSON{}
	for _, c := range made {
		list = append(list, RequestJSON{c.ID, c.Wave, c.Source, c.Asks, c.RoundTrips, c.Keys, c.Calls, c.Records, c.Bytes,
			millis(c.At), millis(c.Time), c.Err != nil})
	}
	return list
}
