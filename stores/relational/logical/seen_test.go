package logical

import "testing"

// TestSnapshots tells by the lower halves of their numbers which transactions can be seen, also where these begin again.
func TestSnapshots(t *testing.T) {
	for _, c := range []struct {
		snapshot string
		low      uint32
		want     bool
	}{
		{"700:709:702,705", 699, true},
		{"700:709:702,705", 702, false},
		{"700:709:702,705", 703, true},
		{"700:709:702,705", 708, true},
		{"700:709:702,705", 709, false},
		{"700:700:", 699, true},
		{"700:700:", 700, false},
		{"4294967290:4294967300:4294967295,4294967297", 4294967294, true},
		{"4294967290:4294967300:4294967295,4294967297", 4294967295, false},
		{"4294967290:4294967300:4294967295,4294967297", 0, true},
		{"4294967290:4294967300:4294967295,4294967297", 1, false},
		{"4294967290:4294967300:4294967295,4294967297", 4, false},
		{"4294967290:4294967294:", 3, false}, // it has begun behind all that is known
		{"", 5, false},
		{"nonsense", 5, false},
	} {
		if got := snapshotOf(c.snapshot).sees(c.low); got != c.want {
			t.Errorf("%s sees %d: %v", c.snapshot, c.low, got)
		}
	}
}
