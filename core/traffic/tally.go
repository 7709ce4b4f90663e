package traffic

import (
	"sync"
	"sync/atomic"
	"time"
)

// An Asked is one request for an operation that was answered, or refused. A stream is one when it begins, with each answer
// that it tells, and now and then while it is open.
type Asked struct {
	Operation *Operation    // nil if it was refused before it was known what it asks
	Client    string        // the name of the program that asked; "" of none
	Took      time.Duration // below 0 if nobody waited
	// Apart says that it is what stores were asked for several answers, which are counted by themselves.
	Apart    bool
	Codes    []string // of its errors, each once; none if it had none
	Requests int64    // store requests
	Records  int64    // that stores sent for it
	Made     []AskedOf
	Samples  []Sample // an error of each code
}

// A Key says of what an [Entry] is.
type Key struct {
	Operation ID // the zero ID of those that are not told apart
	Client    string
	Slot      int64 // a span of time, as the caller numbers them
}

// An Entry is what was asked under a key.
type Entry struct {
	Asked    int64
	Failed   int64            // of these, how many had errors
	Codes    map[string]int64 // how many had an error of this code
	Times    Times
	Requests int64
	Records  int64
	Made     map[Request]*Made
	Samples  []Sample // the last of each code, the oldest first
}

// A Batch is what a tally has counted, to be written somewhere.
type Batch struct {
	Entries    map[Key]*Entry
	Operations map[ID]*Operation // those of the entries
}

// Other stands for the names of clients when there are too many of them.
const Other = "(other)"

// The bounds of a tally: it must not grow by what strangers send.
const (
	// MostPairs is how many operations with their clients are told apart in a slot; those beyond
	// are counted together.
	MostPairs = 10_000
	// MostEntries is how many entries wait to be written; what would be one more is not counted, but
	// for how many they are.
	MostEntries = 40_000
	// MostBytes is about how many bytes of operations wait to be written, and as many of what stores were asked and of errors.
	MostBytes = 16 << 20
	// MostCodes is how many codes of errors are told apart; programs have codes of their own.
	MostCodes = 200
)

// A Tally counts what is asked, within bounds, until it is taken. It is safe for concurrent use.
type Tally struct {
	dropped atomic.Int64

	mu      sync.Mutex // guards what follows
	slot    int64
	pairs   map[Key]bool // those of this slot
	codes   map[string]bool
	bytes   int
	details int
	batch   Batch
}

// NewTally returns one that has counted nothing.
func NewTally() *Tally {
	return &Tally{pairs: map[Key]bool{}, codes: map[string]bool{}, batch: emptyBatch()}
}

func emptyBatch() Batch { return Batch{map[Key]*Entry{}, map[ID]*Operation{}} }

// Dropped returns how many requests were not counted, since too much waits to be written.
func (t *Tally) Dropped() int64 { return t.dropped.Load() }

// Drop says that so many requests that were taken could not be kept.
func (t *Tally) Drop(requests int64) { t.dropped.Add(requests) }

// Waiting returns how many entries wait to be taken.
func (t *Tally) Waiting() int {
	t.mu.Lock()
	defer t.mu.Unlock()
	return len(t.batch.Entries)
}

// Add counts a request, in a slot that is not before those that it was given before. It takes well
// below a microsecond, of one that went well.
func (t *Tally) Add(slot int64, a *Asked) {
	key := Key{Client: a.Client, Slot: slot}
	if a.Operation != nil {
		key.Operation = a.Operation.ID
	}
	a.clean()
	t.mu.Lock()
	defer t.mu.Unlock()
	if slot != t.slot {
		t.slot = slot
		clear(t.pairs)
	}
	shared := false // the entry stands for many
	if !t.pairs[key] {
		if shared = len(t.pairs) >= MostPairs; shared {
			key = Key{Client: Other, Slot: slot}
		}
		t.pairs[key] = true
	}
	e := t.entry(key, a.Operation)
	if e == nil {
		t.dropped.Add(1)
		return
	}
	if !a.Apart {
		e.Asked++
	}
	if !a.Apart && a.Took >= 0 {
		e.Times.Add(a.Took)
	}
	e.Requests += a.Requests
	e.Records += a.Records
	if !shared {
		t.know(e, a)
	}
	if len(a.Codes) == 0 {
		return
	}
	e.Failed++
	if e.Codes == nil {
		e.Codes = map[string]int64{}
	}
	for _, code := range a.Codes {
		if !t.codes[code] {
			if len(t.codes) >= MostCodes {
				code = Other
			}
			t.codes[code] = true
		}
		e.Codes[code]++
	}
}

// entry returns the entry of a key; nil if there is no room for one more.
func (t *Tally) entry(key Key, o *Operation) *Entry {
	if e := t.batch.Entries[key]; e != nil {
		return e
	}
	known := o == nil || key.Operation == ID{} || t.batch.Operations[key.Operation] != nil
	more := 0
	if !known {
		more = o.bytes()
	}
	if len(t.batch.Entries) >= MostEntries || t.bytes+more > MostBytes {
		return nil
	}
	if !known {
		t.batch.Operations[key.Operation] = o
		t.bytes += more
	}
	e := &Entry{}
	t.batch.Entries[key] = e
	return e
}

// bytes returns about how much memory an operation takes.
func (o *Operation) bytes() int {
	n := 200 + len(o.Name) + len(o.Text)
	for _, u := range o.Uses {
		n += 16 + len(u)
	}
	return n
}

// Take returns what was counted since it was last called, and is empty then.
func (t *Tally) Take() Batch {
	t.mu.Lock()
	defer t.mu.Unlock()
	b := t.batch
	t.batch, t.bytes, t.details = emptyBatch(), 0, 0
	return b
}
