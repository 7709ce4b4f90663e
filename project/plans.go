package project

import (
	"sync"
	"unsafe"

	"github.com/hashicorp/golang-lru/v2/simplelru"

	"osprey/core/plan"
)

// This file keeps what is known of operations, within a bound of memory: the
// texts that were found sound, and their plans. The ones that were not used for
// the longest time go first. It is safe for concurrent use.
//
// What something takes is estimated, from what decides it: for a text, the nodes
// of its tree; for a plan, its fields and columns. The estimate is held against
// the heap by a test.

// kept is the sound texts by the hash of the text.
type kept struct {
	most int64 // bytes

	mu    sync.Mutex // guards what follows
	known *simplelru.LRU[uint64, *parsed]
	bytes int64
}

func newKept(most int64) *kept {
	k := &kept{most: most}
	var err error
	k.known, err = simplelru.NewLRU[uint64, *parsed](1<<30, func(_ uint64, d *parsed) { k.bytes -= d.bytes })
	if err != nil {
		panic(err) // only for a size below 1
	}
	return k
}

func (k *kept) get(hash uint64) (*parsed, bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.known.Get(hash)
}

// add keeps a text. One that would take an eighth of the memory is not kept.
func (k *kept) add(hash uint64, d *parsed) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if d.bytes = bytesOfText + textFactor*int64(len(d.source.Text)); d.bytes > k.most/8 {
		return
	}
	k.known.Remove(hash)
	k.known.Add(hash, d)
	k.bytes += d.bytes
	k.trim()
}

// grow notes that a text that may be kept has got bytes more. It reports whether
// there is room for them.
func (k *kept) grow(hash uint64, d *parsed, bytes int64) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	if bytes > k.most/8 {
		return false
	}
	if now, ok := k.known.Peek(hash); ok && now == d {
		d.bytes += bytes
		k.bytes += bytes
		k.trim()
	}
	return true
}

func (k *kept) trim() {
	for k.bytes > k.most && k.known.Len() > 0 {
		k.known.RemoveOldest()
	}
}

// A PlansState is how much is kept of operations.
type PlansState struct {
	Texts int   `json:"texts"`
	Bytes int64 `json:"bytes"` // as estimated
	Most  int64 `json:"most"`
}

func (k *kept) state() PlansState {
	k.mu.Lock()
	defer k.mu.Unlock()
	return PlansState{k.known.Len(), k.bytes, k.most}
}

// What a text takes beside its plans, and what each of its bytes does: the tree
// of a dense text has a node for every two or three of them.
const (
	bytesOfText = 2 << 10
	textFactor  = 100
)

// bytesOf estimates what a plan takes.
func bytesOf(p *plan.Plan) int64 {
	n := int64(unsafe.Sizeof(*p)) + 2<<10
	for _, f := range p.Fields {
		n += int64(unsafe.Sizeof(*f)) + int64(len(f.Lead)+len(f.Text)) + 16
		if f.Object != nil {
			n += 160
		}
	}
	for _, s := range p.Steps {
		n += int64(unsafe.Sizeof(*s)) + 512
	}
	for _, f := range p.Fetches {
		n += int64(unsafe.Sizeof(*f)) + 4<<10
		for _, r := range f.Reads {
			n += int64(unsafe.Sizeof(*r)+unsafe.Sizeof(*r.Store)) + 1<<10
			// A column is in the read, in the statements of each form, and in what
			// reads its values.
			n += int64(len(r.Store.Columns)+len(r.Store.Where)) * 1200
		}
	}
	return n
}
