package guard

import (
	"testing"
	"time"
)

// TestHistory remembers an hour by its minutes, and forgets what is older.
func TestHistory(t *testing.T) {
	var h history
	start := time.Date(2026, 12, 1, 10, 0, 30, 0, time.UTC)
	h.note(start, 10*time.Millisecond, false)
	h.note(start.Add(10*time.Second), 30*time.Millisecond, true)
	h.note(start.Add(5*time.Minute), 2*time.Millisecond, false)
	list := h.since(start.Add(5 * time.Minute))
	if len(list) != 2 || list[0].Requests != 2 || list[0].Failed != 1 || list[0].Mean != 20 || list[0].Most != 30 || list[1].Requests != 1 {
		t.Errorf("remembered is %+v", list)
	}
	if list := h.since(start.Add(61 * time.Minute)); len(list) != 1 {
		t.Errorf("an hour later it is %+v", list)
	}
	h.note(start.Add(time.Hour), time.Millisecond, false) // in the place of the first
	if list := h.since(start.Add(time.Hour)); len(list) != 2 || list[1].Requests != 1 || list[1].Most != 1 {
		t.Errorf("in its place is %+v", list)
	}
}
