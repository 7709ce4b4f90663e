package relational

import "testing"

// TestDatabases holds that every kind of database has all that statements need: a
// new one that forgets a part is told here, and not by its first request.
func TestDatabases(t *testing.T) {
	for kind, d := range databases {
		if d.dialect == nil || d.open == nil || d.ready == nil || d.catalogue == nil || d.fail == nil {
			t.Errorf("%s lacks a part: %+v", kind, d)
		}
		if (d.union == nil) == (d.windowed == nil) {
			t.Errorf("%s is asked neither in one statement nor in stages, or both", kind)
		}
		if d.windowed != nil && (d.dead == nil || d.transaction.begin == "" || d.transaction.end == "") {
			t.Errorf("%s does not say how the state of several statements is one", kind)
		}
	}
}
