package service

import (
	"encoding/json"
	"sync"

	"github.com/wI2L/jsondiff"
)

// This file tells answers as what is otherwise in them than in those before (JSON Patch, RFC 6902), to clients that ask for it.

// patches makes patches, and remembers some: many who are told the same have been told the same before.
type patches struct {
	mu    sync.Mutex // guards what follows
	known map[pair][]byte
}

// A pair is two answers, by their memory, which they share with all who are told them.
type pair struct{ before, now *byte }

// mostPatches is how many patches are remembered.
const mostPatches = 64

// between returns the patch that makes an answer of the one before; nil where the answer itself is shorter.
func (p *patches) between(before, now []byte) []byte {
	if len(before) == 0 || len(now) == 0 {
		return nil
	}
	key := pair{&before[0], &now[0]}
	p.mu.Lock()
	patch, ok := p.known[key]
	p.mu.Unlock()
	if ok {
		return patch
	}
	if list, err := jsondiff.CompareJSON(before, now); err == nil {
		patch, _ = json.Marshal(list)
	}
	if len(patch) >= len(now) {
		patch = nil
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.known == nil || len(p.known) >= mostPatches {
		p.known = map[pair][]byte{}
	}
	p.known[key] = patch
	return patch
}
