package osprey_test

import (
	"context"
	"fmt"
	"iter"
	"slices"
	"strings"
	"sync"
	"testing"

	"osprey"
	"osprey/core/store"
)

// Lights is a source of one's own: the lights along the fairway, as a device in
// the harbour's tower tells them. It does nothing but find records by their
// keys; Osprey filters, sorts and cuts them.
type Lights struct {
	lit   map[string]string // colours by the names of lights
	mu    sync.Mutex        // guards asked
	asked []string
}

func (l *Lights) Catalogue(context.Context) (*store.Catalogue, error) {
	return &store.Catalogue{Sets: map[string]*store.Set{"lights": {
		Name: "lights", What: "list", Keys: [][]string{{"name"}},
		Fields: []store.Field{{Name: "name", Kind: store.Text, Type: "text"}, {Name: "colour", Kind: store.Text, Type: "text", Nullable: true}},
	}}}, nil
}

func (l *Lights) Capabilities() store.Capabilities { return store.Capabilities{} }
func (l *Lights) Ping(context.Context) error       { return nil }
func (l *Lights) Close() error                     { return nil }

func (l *Lights) Prepare(_ *store.Catalogue, reads []*store.Read) (store.Request, error) {
	return lightsRequest{l, reads[0]}, nil // each read is a request, by the capabilities
}

type lightsRequest struct {
	source *Lights
	read   *store.Read
}

func (r lightsRequest) Describe() store.Description { return store.Description{Asks: r.read.Set} }

// Run answers with the lights that have one of the keys, if there are any, and fit
// the predicates.
func (r lightsRequest) Run(_ context.Context, _ *store.Caller, in []store.Input) (*store.Answer, error) {
	r.source.mu.Lock()
	r.source.asked = append(r.source.asked, fmt.Sprintf("%s by %d keys", r.read.Set, len(slices.Collect(in[0].EachKey()))))
	r.source.mu.Unlock()
	return store.Select(r.read, &in[0], r.source.each(&in[0]))
}

// each looks lights up by their names where there are keys, as a device does, and goes
// through all of them where there are none.
func (l *Lights) each(in *store.Input) iter.Seq2[any, error] {
	return func(yield func(any, error) bool) {
		if len(in.Keys) == 0 {
			for name, colour := range l.lit {
				if !yield(map[string]string{"name": name, "colour": colour}, nil) {
					return
				}
			}
		}
		for key := range in.EachKey() {
			name, _ := key[0].(string)
			if colour, ok := l.lit[name]; ok && !yield(map[string]string{"name": name, "colour": colour}, nil) {
				return
			}
		}
	}
}

// TestOwnSource relates records of a source of one's own with those of files, in
// both directions, and asks it once for all of them.
func TestOwnSource(t *testing.T) {
	lights := &Lights{lit: map[string]string{"A": "red", "C": "green", "Z": "white"}}
	dir := berths(t, "", `light: Light @related(here: "name", there: "name")`,
		`lights(filter: LightFilter, sort: [LightSort!], limit: Int): [Light!]! @read`,
		`type Light @stored(in: "tower", as: "lights") { name: ID! colour: String berth: Berth @related(here: "name", there: "name") }`)
	const query = `{ berths { name light { colour } } lights(filter: {colour: {in: ["red", "white"]}}, sort: [{name: DESC}]) { name berth { lengthM } } }`
	const want = `{"berths":[{"name":"A","light":{"colour":"red"}},{"name":"B","light":null},{"name":"C","light":{"colour":"green"}}],` +
		`"lights":[{"name":"Z","berth":null},{"name":"A","berth":{"lengthM":140}}]}`
	if got := answer(t, dir, query, osprey.WithSource("tower", lights, "exact")); got != want {
		t.Errorf("answers\n%s\nwant\n%s", got, want)
	}
	slices.Sort(lights.asked)
	if got := strings.Join(lights.asked, ", "); got != "lights by 0 keys, lights by 3 keys" {
		t.Errorf("the source was asked %q", got)
	}
}
