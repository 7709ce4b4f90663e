// Package store is the port between the engine and the stores that hold the
// data: what a store tells about itself (its [Catalogue] and [Capabilities]),
// what it is asked ([Read]) and what it answers ([Table]).
//
// A store is asked for sets of records at once. All reads that the engine can
// make together are one [Request], prepared once and run many times. Answers
// are columns, not objects: a [Column] holds one value of every row, so that a
// thousand values cost a few slices.
//
// # A source of one's own
//
// A kind of store implements [Source], whose smallest form is below; the package
// docs/examples/shelf is the whole of it, with its test by the suite of
// stores/conform. It tells its record sets and does nothing but find records by
// keys and predicates; the engine sorts, cuts, counts and relates them.
//
//	type Shelf struct{ Lights []Light }
//
//	func (s *Shelf) Catalogue(context.Context) (*store.Catalogue, error) {
//		return &store.Catalogue{Sets: map[string]*store.Set{"lights": {Name: "lights", Keys: [][]string{{"name"}},
//			Fields: []store.Field{{Name: "name", Kind: store.Text}, {Name: "range", Kind: store.Int, Nullable: true}}}}}, nil
//	}
//	func (s *Shelf) Capabilities() store.Capabilities { return store.Capabilities{} }
//	func (s *Shelf) Ping(context.Context) error       { return nil }
//	func (s *Shelf) Close() error                     { return nil }
//	func (s *Shelf) Prepare(_ *store.Catalogue, reads []*store.Read) (store.Request, error) {
//		return request{s, reads[0]}, nil // without capabilities, a request is one read
//	}
//
//	type request struct {
//		shelf *Shelf
//		read  *store.Read
//	}
//
//	func (r request) Describe() store.Description { return store.Description{Asks: r.read.Set} }
//
//	func (r request) Run(_ context.Context, _ *store.Caller, in []store.Input) (*store.Answer, error) {
//		return store.Select(r.read, &in[0], func(yield func(any, error) bool) {
//			for _, light := range r.shelf.Lights {
//				if !yield(light, nil) {
//					return
//				}
//			}
//		})
//	}
//
// From there it grows as the store can do more:
//
//   - One that can look records up asks by [Input.EachKey], and gives [Select] what it
//     found: keys that are of another type there, or written in another way, are
//     compared as everywhere ([Members]).
//   - One that sorts, cuts, counts or folds says so in its [Capabilities], reads
//     [Read.Sort], [Read.Where], [Input.Limit] and the like, and fills a [NewTable] with
//     the Append methods of [Column].
//
// # Rules
//
//   - Every row of a keyed read carries its key columns; rows come in any order.
//   - Predicates hold for every row that is answered. Sorting and paging are
//     done by the store as far as its capabilities say, and by the engine beyond.
//   - A row of a folded read names the row of the read above that it belongs to.
//   - A failure is an [*Error], whose message may be shown to callers: no
//     statement, address or secret is in it. Any other error goes to the log, and
//     callers learn that the source failed.
//   - What does not fit, in the catalogue, in an answer, or a panic, is an error of the
//     source ([Catalogue.Check], [Answer.Check]) and ends nothing else.
package store
