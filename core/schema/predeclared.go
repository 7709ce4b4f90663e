package schema

import (
	"fmt"
	"strings"

	"osprey/core/scalar"
)

// predeclaredScalars writes the definitions of the scalars that every schema has.
func predeclaredScalars() string {
	var b strings.Builder
	for _, s := range scalar.Predeclared() {
		fmt.Fprintf(&b, "%q\nscalar %s\n", s.Description, s.Name)
	}
	return b.String()
}

// predeclared has the types and directives that every schema has (sections
// 3.5.1 to 3.5.5, 3.13 and 4.2).
var predeclared = predeclaredScalars() + `
"Leaves the field or fragment out when the condition is true."
directive @skip("Left out when true." if: Boolean!) on FIELD | FRAGMENT_SPREAD | INLINE_FRAGMENT
"Takes the field or fragment in only when the condition is true."
directive @include("Taken in when true." if: Boolean!) on FIELD | FRAGMENT_SPREAD | INLINE_FRAGMENT
"Marks what should no longer be used."
directive @deprecated(
  "Why, and what to use instead."
  reason: String! = "No longer supported"
) on FIELD_DEFINITION | ARGUMENT_DEFINITION | INPUT_FIELD_DEFINITION | ENUM_VALUE
"Names the specification of a scalar."
directive @specifiedBy("The address of the specification." url: String!) on SCALAR
"Exactly one field of the input object must be given."
directive @oneOf on INPUT_OBJECT

"What can be asked of this service."
type __Schema {
  description: String
  types: [__Type!]!
  queryType: __Type!
  mutationType: __Type
  subscriptionType: __Type
  directives: [__Directive!]!
}
"A type of the schema."
type __Type {
  kind: __TypeKind!
  name: String
  description: String
  specifiedByURL: String
  fields(includeDeprecated: Boolean! = false): [__Field!]
  interfaces: [__Type!]
  possibleTypes: [__Type!]
  enumValues(includeDeprecated: Boolean! = false): [__EnumValue!]
  inputFields(includeDeprecated: Boolean! = false): [__InputValue!]
  ofType: __Type
  isOneOf: Boolean
}
"The kinds of types."
enum __TypeKind { SCALAR OBJECT INTERFACE UNION ENUM INPUT_OBJECT LIST NON_NULL }
"A field of an object or interface type."
type __Field {
  name: String!
  description: String
  args(includeDeprecated: Boolean! = false): [__InputValue!]!
  type: __Type!
  isDeprecated: Boolean!
  deprecationReason: String
}
"An argument, or a field of an input object."
type __InputValue {
  name: String!
  description: String
  type: __Type!
  defaultValue: String
  isDeprecated: Boolean!
  deprecationReason: String
}
"A value of an enum."
type __EnumValue {
  name: String!
  description: String
  isDeprecated: Boolean!
  deprecationReason: String
}
"A directive that the service knows."
type __Directive {
  name: String!
  description: String
  isRepeatable: Boolean!
  locations: [__DirectiveLocation!]!
  args(includeDeprecated: Boolean! = false): [__InputValue!]!
}
"The places where a directive may stand."
enum __DirectiveLocation {
  QUERY MUTATION SUBSCRIPTION FIELD FRAGMENT_DEFINITION FRAGMENT_SPREAD INLINE_FRAGMENT VARIABLE_DEFINITION
  SCHEMA SCALAR OBJECT FIELD_DEFINITION ARGUMENT_DEFINITION INTERFACE UNION ENUM ENUM_VALUE INPUT_OBJECT INPUT_FIELD_DEFINITION
}
`
