package validate

// This file has the wording of every problem that this package tells, by rule.
// docs/messages.md is made of it: go test . -run Messages -update

// All Variable Usages Are Allowed
const (
	msgVariableTypeCannotStand = "the variable $%s is of the type %s and cannot stand where %s is expected"
)

// All Variable Uses Defined
const (
	msgNoVariables = "the variable $%s: there are no variables here"
)

// All Variables Used
const (
	msgVariableDeclaredNotUsed = "the variable $%s is declared and not used"
)

// Executable Definitions
const (
	msgDefinitionTypeSystemCannot = "a definition of the type system cannot stand among operations; it belongs into the schema"
)

// effort
const (
	msgTooMuchWork = "the document takes more work to check than is done for one (%d steps)"
)

// Field Selection Merging
const (
	msgNameUsedTwoFields = "the name %q is used for two fields that cannot be one: %s"
)

// Field Selections
const (
	msgHasNoField = "%s has no field %q%s"
)

// Fragment Name Uniqueness
const (
	msgAnotherFragmentCalled = "there is another fragment called %s"
)

// Fragment Spread Is Possible
const (
	msgCanNeverApplyValue = "%s can never apply: a value of the type %s is never of the type %s"
)

// Fragment Spread Target Defined
const (
	msgFragmentNotDefined = "the fragment %s is not defined%s"
)

// Fragment Spread Type Existence
const (
	msgTypeNotDefined = "the type %s is not defined%s"
)

// Fragment Spreads Must Not Form Cycles
const (
	msgFragmentContainsItself = "the fragment %s contains itself: %s"
)

// Fragments Must Be Used
const (
	msgNoOperationUsesFragment = "no operation uses the fragment %s"
)

// Fragments on Object, Interface or Union Types
const (
	msgFragmentCannot = "a fragment cannot be on %s, which is %s"
)

// Leaf Field Selections
const (
	msgTypeFieldsMustSelected = "%s is of the type %s, so its fields must be selected"
	msgTypeHasNoFields        = "%s is of the type %s, which has no fields to select"
)

// Lone Anonymous Operation
const (
	msgOperationWithoutNameMust = "an operation without a name must be the only one of its document; give it a name"
)

// Operation Name Uniqueness
const (
	msgAnotherOperationCalled = "there is another operation called %s"
)

// Operation Type Existence
const (
	msgSchemaHasNoType = "the schema has no type for a %s"
)

// Single Root Field
const (
	msgCannotStandAtRoot        = "@%s cannot stand at the root of a subscription"
	msgSubscriptionAsksOneField = "a subscription asks for one field of %s; this is the second"
	msgSubscriptionCannotAskAt  = "a subscription cannot ask for %s at its root"
)

// Values of Correct Type
const (
	msgDefaultDoesNotFit = "the default of $%s does not fit: %s"
)

// Variable Uniqueness
const (
	msgVariableDeclaredTwice = "the variable $%s is declared twice"
)

// Variables Are Input Types
const (
	msgVariableCannotTypeOnly = "the variable $%s cannot be of the type %s, which is %s: only scalars, enums and input objects can be given"
)
