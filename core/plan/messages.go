package plan

// This file has the wording of what a plan refuses while it is made; the fields
// concerned are errors.
// docs/messages.md is made of it: go test . -run Reference -update

// LIMIT
const (
	msgIntrospectionTooLarge = "the operation asks for more of the schema than %d bytes; ask for each type once, and for less of the types inside it"
)

// INVALID
const (
	msgTogetherApart   = "%s writes to %s, which has no transactions, so that the mutation cannot be one"
	msgTogetherOthers  = "%s writes to other sources than %s, too, so that the mutation cannot be one"
	msgTogetherSources = "%s writes to %s, and %s to %s, so that the mutation cannot be one transaction"
	msgTogetherOther   = "%s does not write, so that it cannot be a part of one transaction"
)

// values
const (
	msgFilterRule       = "looks at records of %s, and the store cannot be asked which of them the caller may see"
	msgSortRule         = "sorts by records of %s, and the store cannot be asked which of them the caller may see"
	msgFilterTooDeep    = "is nested more than %d deep"
	msgFilterTooWide    = "makes more than %d comparisons; give many values to in"
	msgComparedWithNull = "compares %s with null by %s; only is and isNot can, and missing says it better"
	msgFirstAndLast     = "cannot be given together with last"
)
