// Package binding says where the data of a typed schema is: it reads the
// binding directives, fills in what the naming rules and defaults say, and
// checks the whole against the stores' catalogues.
//
// [Bind] returns a [Bound] schema, which tells for every field of every stored
// type how its value is found, and all findings at once. A source whose
// catalogue is not known, since the store did not answer, is bound as far as
// the schema alone allows; its fields cannot be asked for until it is.
package binding
