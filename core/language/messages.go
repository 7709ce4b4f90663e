package language

// This file has the wording of every problem that this package tells, by rule.
// docs/messages.md is made of it: go test . -run Reference -update

// more
const (
	msgMore = "there may be more than these %d problems; mend these first"
)

// syntax
const (
	msgExpectedQueryMutationOr         = "expected query, mutation or subscription, found %q"
	msgCannotExtendedSchemaScalar      = "%q cannot be extended; schema, scalar, type, interface, union, enum and input can"
	msgNotEscapeSequenceThose          = `%s is not an escape sequence; those are \" \\ \/ \b \f \n \r \t \uXXXX and \u{X}`
	msgDescriptionNeedsOperationS      = `a description needs the operation's keyword after it: write "query" before "{"`
	msgDirectiveCannotStand            = "a directive cannot stand on %q%s"
	msgNumberCannotFollowed            = "a number cannot be followed by %q"
	msgNumberCannotBeginUnneeded       = "a number cannot begin with an unneeded 0"
	msgNumberNeedsDigitBefore          = "a number needs a digit before its decimal point"
	msgVariableCannotStandExpected     = "a variable cannot stand here; expected a constant value"
	msgEnumSValueCannot                = "an enum's value cannot be called %s"
	msgExtensionHasNoDescription       = "an extension has no description; the type it extends has one"
	msgExpectedFragmentFound           = `expected "..." for a fragment, found %q`
	msgExpectedTypeAfterFragment       = `expected "on" and a type after the fragment's name, found %s`
	msgExpectedPlacesWhereDirective    = `expected "on" and the places where the directive may stand, found %s`
	msgExpectedFound                   = "expected %s %s, found %s"
	msgExpectedFoundLeaveBraces        = `expected %s, found "}"; leave the braces out if there are none`
	msgExpectedFound2                  = "expected %s, found %s"
	msgExpectedDefinitionSuchAs2       = "expected a definition such as query, fragment or type, found %q%s"
	msgExpectedDefinitionSuchAs        = "expected a definition such as query, fragment or type, found %s"
	msgExpectedDigitAfter              = `expected a digit after "-"`
	msgExpectedDigitAfterDecimal       = "expected a digit after the decimal point"
	msgExpectedDigitExponent           = "expected a digit in the exponent"
	msgExpectedFieldOrFragment         = "expected a field or a fragment, found %s"
	msgExpectedFieldFoundSelection     = `expected a field, found "}"; a selection set cannot be empty`
	msgExpectedFragmentSName2          = `expected a fragment's name, "on" and a type, or "{" after "...", found %s`
	msgExpectedValueFound              = "expected a value, found %s"
	msgExpectedVariableSuchAs          = `expected a variable such as $id: ID!, found ")"; leave the parentheses out if there are none`
	msgExpectedArgumentFoundLeave      = `expected an argument, found ")"; leave the parentheses out if there are none`
	msgExpectedDirectivesOrRoot        = "expected directives or root types in the extension, found %s"
	msgExpectedFragmentSName           = `expected the fragment's name, found "on"; a fragment cannot be called "on"`
	msgExpectedWhatExtendedSuch        = "expected what is extended, such as type or interface, found %s"
	msgNestedMoreThanLevels            = "nested more than %d levels deep"
	msgOneEnough                       = `one "!" is enough`
	msgBlockStringNotClosed            = `the block string is not closed; it ends with """`
	msgCharacterHasNoMeaning           = "the character %s has no meaning here%s"
	msgDocumentEmptyExpectedDefinition = "the document is empty; expected a definition or an operation such as { field }"
	msgExtensionAddsNothingExpected    = "the extension of %s adds nothing; expected what it adds, found %s"
	msgStringNotClosedLine             = `the string is not closed on its line; strings of several lines stand in """`
	msgTextNotValidUtf                 = "the text is not valid UTF-8 here (byte 0x%02X)"
)
