package binding

import (
	"strings"
	"unicode"
)

// A Naming is a source's rule from the schema's names to stored names.
type Naming string

const (
	Exact Naming = "exact" // as in the schema
	Camel Naming = "camel" // as in the schema: lengthM
	Snake Naming = "snake" // lower case, words joined by _: length_m
)

// Namings has every rule, as osprey.yaml writes it.
var Namings = []string{string(Exact), string(Camel), string(Snake)}

// Apply returns the stored name of a name of the schema.
func (n Naming) Apply(name string) string {
	if n != Snake {
		return name
	}
	var b strings.Builder
	runes := []rune(name)
	for i, r := range runes {
		upper := unicode.IsUpper(r)
		if upper && i > 0 && (!unicode.IsUpper(runes[i-1]) || i+1 < len(runes) && unicode.IsLower(runes[i+1])) && runes[i-1] != '_' {
			b.WriteByte('_')
		}
		b.WriteRune(unicode.ToLower(r))
	}
	return b.String()
}
