// Package language reads and writes documents in the GraphQL language: query
// documents and type-system documents alike.
//
// It implements section 2 (Language) and the grammar of section 3 (Type
// System) of the GraphQL specification, September 2025 edition. [Parse] turns
// a [Source] into a [Document], a tree of plain data that refers to the text
// by [Pos]; it reports every fault it finds in one pass as [Problems]. The
// package knows what may be written, not what it means: types are package
// schema's, soundness is package validate's.
package language
