// Package store is the port between the engine and the stores that hold the
// data: what a store tells about itself (its [Catalogue] and [Capabilities]),
// what it is asked ([Read]) and what it answers ([Table]).
//
// A store is asked for sets of records at once. All reads that the engine can
// make together are one [Request], prepared once and run many times. Answers
// are columns, not objects: a [Column] holds one value of every row, so that a
// thousand values cost a few slices.
//
// A new kind of store implements [Source]. Its rules:
//
//   - Every row of a keyed read carries its key columns; rows come in any order.
//   - Predicates hold for every row that is answered. Sorting and paging are
//     done by the store as far as its capabilities say, and by the engine beyond.
//   - A row of a folded read names the row of the read above that it belongs to.
//   - A failure is an [*Error], whose message may be shown to callers: no
//     statement, address or secret is in it.
package store
