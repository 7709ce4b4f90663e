// Package schema is the type system: it builds types from documents, checks
// them, coerces input values, prints the schema and answers introspection.
//
// It implements section 3 (Type System) and section 4 (Introspection) of the
// GraphQL specification, September 2025 edition. [Build] works in phases, so
// that neither the order of definitions nor the number of files matters:
//
//  1. collect: every definition by name, duplicates told;
//  2. extend: extensions join the definition they extend;
//  3. resolve: references to names become references to types;
//  4. check: the rules that need the whole schema.
//
// A name that is not defined is told once, and rules that would only repeat
// the complaint stay silent.
package schema
