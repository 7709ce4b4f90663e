// Package execute runs plans: it asks the stores wave by wave, matches what
// they answer by key, and writes the answer.
//
// It implements sections 6 (Execution) and 7 (Response) of the GraphQL
// specification, September 2025 edition, for operations planned by package
// plan: value completion, errors with their paths, and null propagation. There
// is no function per field and no goroutine per record: a goroutine per store
// request of a wave, and one walk that appends the answer's bytes.
package execute
