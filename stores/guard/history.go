package guard

import (
	"sync"
	"time"
)

// This file remembers how a source was asked in the last hour, minute by minute.

// minutes is how many are remembered.
const minutes = 60

// A Minute is how a source was asked in one.
type Minute struct {
	At       time.Time `json:"at"`
	Requests int       `json:"requests"`
	Failed   int       `json:"failed,omitempty"`
	Mean     float64   `json:"mean"` // milliseconds
	Most     float64   `json:"most"` // milliseconds of the slowest
}

type history struct {
	mu    sync.Mutex // guards what follows
	kept  [minutes]Minute
	total [minutes]time.Duration
}

// note notes a request.
func (h *history) note(now time.Time, took time.Duration, failed bool) {
	at := now.Truncate(time.Minute)
	i := int(at.Unix()/60) % minutes
	h.mu.Lock()
	defer h.mu.Unlock()
	m := &h.kept[i]
	if !m.At.Equal(at) {
		*m, h.total[i] = Minute{At: at}, 0
	}
	m.Requests++
	if failed {
		m.Failed++
	}
	h.total[i] += took
	m.Mean = millis(h.total[i]) / float64(m.Requests)
	m.Most = max(m.Most, millis(took))
}

func millis(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// since returns the minutes of the last hour in which the source was asked, the oldest first.
func (h *history) since(now time.Time) []Minute {
	list := []Minute{}
	h.mu.Lock()
	defer h.mu.Unlock()
	for back := minutes - 1; back >= 0; back-- {
		at := now.Truncate(time.Minute).Add(-time.Duration(back) * time.Minute)
		if m := h.kept[int(at.Unix()/60)%minutes]; m.At.Equal(at) {
			list = append(list, m)
		}
	}
	return list
}

// History returns how the source was asked in the last hour.
func (s *Source) History() []Minute { return s.history.since(time.Now()) }
