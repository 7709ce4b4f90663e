package relational

import "osprey/core/store"

// A dialect is what is a database's own in the statements, and in what comes
// back.
type dialect interface {
	// ordered reports whether rows come in the order of the SELECT that they are
	// of, also out of a UNION ALL and a join, and whether LATERAL is known. Where
	// not, every row has a number, and bounds are those of a window.
	ordered() bool
	quote(name string) string
	// intType and typeOf name the types in which values are sent; values of one
	// type share their place in the rows of a UNION ALL.
	intType() string
	typeOf(t store.Total, f *store.Field) string
	null(typ string) string
	sent(expr string, o *out) string
	total(t store.Total, expr string) string
	// param writes the n-th parameter.
	param(n int, p *param) string
	// anyOf writes that a value is one of many, which are one parameter.
	anyOf(own, values string) string
	// comparable writes a value so that it can be compared with a parameter.
	comparable(own string, f *store.Field) string
	// bytes writes a text so that it is put in order by its bytes.
	bytes(own string) string
	// same is the operator that takes NULL for equal to NULL.
	same() string
	// within writes what a text has in it, letter by letter.
	within(op store.Op, own string, value func() string) string
	order(expr string, o store.Order, nullable bool) string
	readInt(v []byte) (int64, error)
	decoder(f *store.Field, w *store.Wanted) decoder
}
