package schema

// This file has the wording of every problem that this package tells, by rule.
// docs/messages.md is made of it: go test . -run Reference -update

// Argument Names
const (
	msgHasNoArgument = "%s has no argument \"%s\"%s\n→ leave it out, or declare it"
)

// Argument Uniqueness
const (
	msgArgumentGivenTwice = "the argument \"%s\" is given twice\n→ leave one of them out"
)

// Default Values
const (
	msgDefaultDoesNotFit = "the default of %s does not fit its type: %s\n→ give a default of its type"
)

// Deprecation
const (
	msgDeprecatedImplementsNot      = "%s is deprecated, and %s, which it implements, is not\n→ deprecate the interface's, too, or neither"
	msgRequiredCannotDeprecatedMake = "the %s %s is required and cannot be deprecated\n→ make it optional or give it a default first"
)

// Directive Definition Validation
const (
	msgNamesPlaceTwice        = "@%s names the place %s twice\n→ leave one of them out"
	msgDirectiveCannotUsedOwn = "the directive @%s cannot be used in its own definition\n→ leave it out there"
)

// Directives Are Defined
const (
	msgDirectiveNotDefined = "the directive @%s is not defined%s\n→ define it, or leave it out"
)

// Directives Are Unique per Location
const (
	msgStandsTwiceNotRepeatable = "@%s stands here twice, and it is not repeatable\n→ leave one of them out"
)

// Directives Are in Valid Locations
const (
	msgCannotStandCan = "@%s cannot stand on %s; it can on %s\n→ put it where it can stand, or leave it out"
)

// Enum Type Validation
const (
	msgEnumHasNoValues = "the enum %s has no values\n→ give it at least one value in braces"
)

// Input Coercion
const (
	msgNotInputType              = "%s is not an input type\n→ give it the type of a scalar, an enum or an input object"
	msgExactlyOneFieldMust       = "exactly one field of %s must be given, found %d\n→ leave all but one out"
	msgExpectedEnumString        = "expected a value of the enum %s, found the string %s"
	msgExpectedFound             = "expected %s, found %s"
	msgExpectedValueEnumFound    = "expected a value of the enum %s, found %s\n→ write one of its values, without quotes"
	msgExpectedValueTypeFound2   = "expected a value of the type %s, found %s\n→ write a single value"
	msgExpectedValueTypeFound    = "expected a value of the type %s, found null\n→ give a value"
	msgExpectedInputObjectFound  = "expected an input object %s, found %s\n→ write its fields in braces"
	msgNullGivenWhereExpected    = "null is given where %s is expected\n→ give a value"
	msgEnumHasNoValue            = "the enum %s has no value %s%s\n→ write one of its values"
	msgFieldCannotNullSince      = "the field %q of %s cannot be null, since exactly one field is given\n→ give it a value, or give another field"
	msgFieldRequired             = "the field %q of %s is required\n→ give it"
	msgInputObjectHasNo2         = "the input object %s has no field %q%s\n→ leave it out"
	msgVariableNullWhereExpected = "the variable $%s is null where %s is expected\n→ give it a value"
)

// Input Object Type Validation
const (
	msgDefaultNeedsItselfNever   = "the default of %s needs itself, so it never ends: %s\n→ leave one of these defaults out"
	msgFieldOneInputObject       = "the field %q of the one-of input object %s cannot be required: exactly one field is given\n→ leave out its \"!\""
	msgFieldOneInputObject2      = "the field %q of the one-of input object %s cannot have a default: exactly one field is given\n→ leave its default out"
	msgInputObjectHasNo          = "the input object %s has no fields\n→ give it at least one field in braces"
	msgInputObjectRequiresItself = "the input object %s requires itself, so it can never be given: %s\n→ make one of these fields optional"
)

// Interface Implementation
const (
	msgImplementEachOther             = "%s and %s implement each other\n→ let only one of them implement the other"
	msgCannotImplement                = "%s cannot implement %s, which is %s\n→ name an interface"
	msgHasTypeInterfacePromises       = "%s has the type %s; the interface %s promises %s\n→ make it %[4]s"
	msgImplementsLacksField           = "%s implements %s and lacks its field %q"
	msgImplementsImplementsMustSay    = "%s implements %s, which implements %s; so it must say that it implements %s too"
	msgLacksArgumentInterfacePromises = "%s lacks the argument %q, which the interface %s promises\n→ add the argument, with the type that it has there"
	msgSaysTwiceImplements            = "%s says twice that it implements %s\n→ leave one of them out"
	msgArgumentHasTypeInterface       = "the argument %s has the type %s; the interface %s promises %s\n→ make it %[4]s"
	msgArgumentRequiredInterfaceDoes  = "the argument %s is required, and the interface %s does not have it; callers who see the interface could not call the field"
	msgInterfaceCannotImplementItself = "the interface %s cannot implement itself\n→ leave it out behind \"implements\""
)

// IsInputType
const (
	msgCannotHaveTypeOnly = "the %s %s cannot have the type %s: only scalars, enums and input objects can be given\n→ give it the type of an input object, with the fields that are given"
)

// IsOutputType
const (
	msgFieldCannotHaveType = "the field %s cannot have the type %s: an input object is given, never answered\n→ give it an object type with the fields that are answered"
)

// Known Type Names
const (
	msgTypeNotDefined = "the type %s is not defined%s\n→ define it, or correct the name"
)

// Possible Type Extensions
const (
	msgCannotExtendedAs       = "%s is %s and cannot be extended as %s\n→ extend it as what it is"
	msgTypeExtendedNotDefined = "the type %s is extended and not defined%s\n→ define it, or correct the name"
)

// Required Arguments
const (
	msgNeedsArgumentType = "%s needs the argument \"%s\" of the type %s\n→ give it"
)

// Reserved Names
const (
	msgCannotBeginTwoUnderscores = "the name of the %s %s begins with two underscores; such names are for introspection\n→ rename it"
)

// Root Operation Types
const (
	msgCannotRootTypeBoth   = "%s cannot be the root type for both %s and %s\n→ give each a type of its own"
	msgRootTypeGivenAlready = "the root type for %s is given already: %s\n→ leave one of them out"
	msgRootTypeMustObject   = "the root type for %s must be an object type; %s is %s\n→ name an object type"
	msgSchemaHasNoType      = "the schema has no type Query, so nothing can be asked"
	msgSchemaDefinedAlready = "the schema is defined already"
)

// Type System Documents
const (
	msgSchemaHoldsDefinitionsTypes = "a schema holds definitions of types; operations and fragments belong into files of their own"
)

// Type Validation
const (
	msgHasNoFields = "%s has no fields"
)

// Union Type Validation
const (
	msgUnionCanHoldObject = "the union %s can hold object types only; %s is %s\n→ leave it out, or name an object type"
	msgUnionHasNoTypes    = "the union %s has no types\n→ write its types behind \"=\""
	msgUnionHoldsAlready  = "the union %s holds %s already\n→ leave one of them out"
)

// Unique Directive Names
const (
	msgDirectiveDefinedAlready = "the directive @%s is defined already\n→ leave one of them out"
)

// Unique Member Names
const (
	msgDeclaredAlready     = "%s is declared already\n→ rename one of them"
	msgHasFieldAlready     = "%s has a field %q already\n→ rename one of them"
	msgEnumHasValueAlready = "the enum %s has a value %s already\n→ leave one of them out"
	msgInputObjectHasField = "the input object %s has a field %q already\n→ rename one of them"
)

// Unique Type Names
const (
	msgTypeDefinedAlready = "the type %s is defined already"
)

// Values of Correct Type
const (
	msgVariableCannotStand = "a variable cannot stand here\n→ write the value"
	msgArgumentDoesNotFit  = "the argument \"%s\" of %s does not fit: %s\n→ give a value of its type"
	msgFieldGivenTwice     = "the field %q is given twice\n→ leave one of them out"
)
