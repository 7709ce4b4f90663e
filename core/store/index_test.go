package store

import (
	"fmt"
	"testing"
)

// TestIndex adds many keys, some twice, and some that are parts of others.
func TestIndex(t *testing.T) {
	var x Index
	if n := x.Find([]byte("a")); n != -1 {
		t.Errorf("an empty index finds %d", n)
	}
	for round := range 3 {
		for i := range 5000 {
			key := fmt.Appendf(nil, "%d\x00%d\x00", i%1000, round)
			n, isNew := x.Add(key)
			if n != int32(i%1000) || isNew != (i < 1000) {
				t.Fatalf("round %d: Add(%q) = %d, %t; want %d, %t", round, key, n, isNew, i%1000, i < 1000)
			}
			if found := x.Find(key); found != n {
				t.Fatalf("Find(%q) = %d, want %d", key, found, n)
			}
		}
		if n := x.Find([]byte("1")); n != -1 {
			t.Errorf("a part of a key is found as %d", n)
		}
		if x.Len() != 1000 {
			t.Errorf("Len() = %d, want 1000", x.Len())
		}
		x.Reset()
		if x.Len() != 0 || x.Find([]byte("1\x000\x00")) != -1 {
			t.Errorf("a reset index is not empty")
		}
	}
}
