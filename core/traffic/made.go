package traffic

import (
	"regexp"
	"strings"
	"time"
)

// This file has what is known of an operation beyond how often it was asked: what stores were asked for it, and its last
// errors.

// A Request is one store request of an operation's plan.
type Request struct {
	ID     int // in the plan
	Wave   int
	Source string
	Asks   string
}

// Made is how often a store request was made, and what came of it, in all.
type Made struct {
	Asked    int64 // answers for which it was made
	Failed   int64
	Requests int64 // of the store: several where it takes some keys at a time
	Keys     int64
	Records  int64
	Bytes    int64         // of the values of the records
	At       time.Duration // when it began, since the first could
	Took     time.Duration
	Most     time.Duration // the longest that it took
}

// add adds what is known of others.
func (m *Made) add(o *Made) {
	m.Asked += o.Asked
	m.Failed += o.Failed
	m.Requests += o.Requests
	m.Keys += o.Keys
	m.Records += o.Records
	m.Bytes += o.Bytes
	m.At += o.At
	m.Took += o.Took
	m.Most = max(m.Most, o.Most)
}

// A Sample is an error of an answer, without values of callers.
type Sample struct {
	At      time.Time // by the clock of the service
	Code    string
	Message string // as [WithoutValues] has it
	Path    string // in JSON: response names and positions; "" if it is of no field
	Source  string
	Request string        // the id of the caller's request, by which the log is searched
	Took    time.Duration // of the answer
}

const (
	// MostSamples is how many errors of one code are kept.
	MostSamples = 5
	longest     = 400 // bytes of a text that is kept
)

var (
	quoted = regexp.MustCompile(`(?:\b\w+ )?(?:"[^"\n]*"|'[^'\n]*')`)
	name   = regexp.MustCompile(`^(field|argument|type|operation|fragment|directive) "[_A-Za-z][_0-9A-Za-z.]*"$`)
	found  = regexp.MustCompile(`(found|given|got|has no value) [^;:→\n]*[^;:→\n ]`)
	number = regexp.MustCompile(`[0-9]{5,}`)
)

// WithoutValues returns a message in which nothing of a caller's data is left: what was found in place of something
// else, what stands in quotes but for names, and long numbers.
//
//	expected Date!, found "1991-13-01"     expected Date!, found …
//	Query has no field "crafts"            Query has no field "crafts"
func WithoutValues(message string) string {
	if len(message) > 2*longest {
		message = strings.ToValidUTF8(message[:2*longest], "") + "…"
	}
	message = found.ReplaceAllString(message, "$1 …")
	message = quoted.ReplaceAllStringFunc(message, func(text string) string {
		if name.MatchString(text) {
			return text
		}
		return text[:strings.IndexAny(text, `"'`)] + "“…”"
	})
	return clip(number.ReplaceAllString(message, "…"))
}

// clip cuts a text that is too long to be kept.
func clip(text string) string {
	if len(text) > longest {
		return strings.ToValidUTF8(text[:longest], "") + "…"
	}
	return text
}

// clean makes what is told of a request fit to be kept.
func (a *Asked) clean() {
	for i := range a.Made {
		a.Made[i].Asks = clip(a.Made[i].Asks)
	}
	for i := range a.Samples {
		a.Samples[i].Message, a.Samples[i].Path = WithoutValues(a.Samples[i].Message), clip(a.Samples[i].Path)
	}
}

// know adds what stores were asked, and errors, as far as there is room.
func (t *Tally) know(e *Entry, a *Asked) {
	for i := range a.Made {
		of := &a.Made[i]
		m := e.Made[of.Request]
		if m == nil {
			if t.details > MostBytes || len(e.Made) >= mostMade {
				continue
			}
			if e.Made == nil {
				e.Made = map[Request]*Made{}
			}
			m = &Made{}
			e.Made[of.Request] = m
			t.details += 200 + len(of.Source) + len(of.Asks)
		}
		m.add(&of.Made)
	}
	for _, s := range a.Samples {
		if t.details > MostBytes {
			return
		}
		first, n := -1, 0
		for i := range e.Samples {
			if e.Samples[i].Code == s.Code {
				if n++; first < 0 {
					first = i
				}
			}
		}
		if n >= MostSamples { // the oldest of its code goes
			e.Samples = append(e.Samples[:first], e.Samples[first+1:]...)
		} else if len(e.Samples) >= MostSamples*10 {
			continue
		} else {
			t.details += 300 + longest
		}
		e.Samples = append(e.Samples, s)
	}
}

// mostMade is how many store requests of an operation are told apart.
const mostMade = 100

// An AskedOf is a store request that was made for one answer.
type AskedOf struct {
	Request
	Made
}
