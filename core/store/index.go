package store

import "hash/maphash"

// An Index numbers the distinct keys it is given, in their order, from 0. It
// keeps its memory when it is reset, so that matching rows by key costs no
// allocation for each. The zero Index is empty.
type Index struct {
	slots []int32  // numbers + 1 by hash, a power of two of them; 0 is free
	hash  []uint32 // of each key
	ends  []uint32 // where each key ends in text
	text  []byte
}

var indexSeed = maphash.MakeSeed()

// Reset makes the index empty.
func (x *Index) Reset() {
	clear(x.slots)
	x.hash, x.ends, x.text = x.hash[:0], x.ends[:0], x.text[:0]
}

// Len returns the number of keys.
func (x *Index) Len() int { return len(x.ends) }

// Add returns the number of a key, and whether it is new.
func (x *Index) Add(key []byte) (n int32, isNew bool) {
	if len(x.slots) < 2*len(x.ends)+2 {
		x.grow()
	}
	hash := uint32(maphash.Bytes(indexSeed, key))
	slot := x.find(key, hash)
	if n := x.slots[slot]; n > 0 {
		return n - 1, false
	}
	x.hash = append(x.hash, hash)
	x.text = append(x.text, key...)
	x.ends = append(x.ends, uint32(len(x.text)))
	x.slots[slot] = int32(len(x.ends))
	return int32(len(x.ends) - 1), true
}

// Find returns the number of a key, or -1.
func (x *Index) Find(key []byte) int32 {
	if len(x.ends) == 0 {
		return -1
	}
	return x.slots[x.find(key, uint32(maphash.Bytes(indexSeed, key)))] - 1
}

// find returns the slot that has the key, or the free one where it belongs.
func (x *Index) find(key []byte, hash uint32) uint32 {
	mask := uint32(len(x.slots) - 1)
	for slot := hash & mask; ; slot = (slot + 1) & mask {
		n := x.slots[slot]
		if n == 0 || x.hash[n-1] == hash && string(x.key(n-1)) == string(key) {
			return slot
		}
	}
}

func (x *Index) key(n int32) []byte {
	start := uint32(0)
	if n > 0 {
		start = x.ends[n-1]
	}
	return x.text[start:x.ends[n]]
}

// grow doubles the slots, of which at most half are taken.
func (x *Index) grow() {
	x.slots = make([]int32, max(64, 2*len(x.slots)))
	mask := uint32(len(x.slots) - 1)
	for n, hash := range x.hash {
		slot := hash & mask
		for x.slots[slot] != 0 {
			slot = (slot + 1) & mask
		}
		x.slots[slot] = int32(n + 1)
	}
}
