package scalar

// This file has the wording of what is wrong with a value, beyond what it should
// be; the problem is told under the rules of package schema.
// docs/messages.md is made of it: go test . -run Reference -update

// Values of Correct Type
const (
	msgBeyondInt   = "found %s, and Int holds whole numbers of at most 32 bits, from -2147483648 to 2147483647"
	msgBeyondFloat = "the number %s is too large for Float"
)
