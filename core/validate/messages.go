package validate

// This file has the wording of every problem that this package tells, by rule.
// docs/messages.md is made of it: go test . -run Reference -update

// All Variable Usages Are Allowed
const (
	msgVariableTypeCannotStand = "the variable $%s is of the type %s and cannot stand where %s is expected"
)

// All Variable Uses Defined
const (
	msgVariableNotDeclared = "the variable $%s is not declared by %s%s\n→ declare it behind the operation's name, as in ($%[1]s: Int), or correct the name"
	msgNoVariables         = "the variable $%s: there are no variables here\n→ write the value"
)

// All Variables Used
const (
	msgVariableDeclaredNotUsed = "the variable $%s is declared and not used"
)

// Executable Definitions
const (
	msgDefinitionTypeSystemCannot = "a definition of the type system cannot stand among operations; it belongs into the schema\n→ move it to a file of the schema"
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
	msgHasNoField = "%s has no field %q%s\n→ leave it out, or correct the name"
)

// Fragment Name Uniqueness
const (
	msgAnotherFragmentCalled = "there is another fragment called %s\n→ rename one of them"
)

// Fragment Spread Is Possible
const (
	msgCanNeverApplyValue = "%s can never apply: a value of the type %s is never of the type %s\n→ leave it out, or name a type that the value can be of"
)

// Fragment Spread Target Defined
const (
	msgFragmentNotDefined = "the fragment %s is not defined%s\n→ define it, or correct the name"
)

// Fragment Spread Type Existence
const (
	msgTypeNotDefined = "the type %s is not defined%s\n→ correct the name"
)

// Fragment Spreads Must Not Form Cycles
const (
	msgFragmentContainsItself = "the fragment %s contains itself: %s\n→ leave one of these spreads out"
)

// Fragments Must Be Used
const (
	msgNoOperationUsesFragment = "no operation uses the fragment %s"
)

// Fragments on Object, Interface or Union Types
const (
	msgFragmentCannot = "a fragment cannot be on %s, which is %s\n→ name an object type, an interface or a union"
)

// Leaf Field Selections
const (
	msgTypeFieldsMustSelected = "%s is of the type %s, so its fields must be selected"
	msgTypeHasNoFields        = "%s is of the type %s, which has no fields to select"
)

// Lone Anonymous Operation
const (
	msgOperationWithoutNameMust = "an operation without a name must be the only one of its document; give it a name\n→ give it a name"
)

// Operation Name Uniqueness
const (
	msgAnotherOperationCalled = "there is another operation called %s\n→ rename one of them"
)

// Operation Type Existence
const (
	msgSchemaHasNoType = "the schema has no type for a %s\n→ ask for what the schema has"
)

// Single Root Field
const (
	msgCannotStandAtRoot        = "@%s cannot stand at the root of a subscription\n→ leave it out"
	msgSubscriptionAsksOneField = "a subscription asks for one field of %s; this is the second\n→ ask for it in a subscription of its own"
	msgSubscriptionCannotAskAt  = "a subscription cannot ask for %s at its root\n→ leave it out"
)

// Values of Correct Type
const (
	msgDefaultDoesNotFit = "the default of $%s does not fit: %s\n→ give a default of its type"
)

// Variable Uniqueness
const (
	msgVariableDeclaredTwice = "the variable $%s is declared twice\n→ leave one of them out"
)

// Variables Are Input Types
const (
	msgVariableCannotTypeOnly = "the variable $%s cannot be of the type %s, which is %s: only scalars, enums and input objects can be given\n→ declare it as what is given: a scalar, an enum or an input object"
)
