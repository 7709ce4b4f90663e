package execute

// This file has the wording of every problem that this package tells, by rule.
// docs/messages.md is made of it: go test . -run Reference -update

// BAD_VALUE
const (
	msgBeyondBitsInt             = "%d is beyond the 32 bits of Int"
	msgBeyondYears               = "it is beyond the years 0 to 9999, which are all that can be written"
	msgNotNumber                 = "%s is not a number"
	msgNotNumberJsonCan          = "%v is not a number that JSON can hold"
	msgNotWholeNumberBits        = "%v is not a whole number of 32 bits"
	msgCannotComparedStoredValue = "cannot be compared with a stored value"
	msgDoesNotFit                = "does not fit: %v"
	msgMustOrMoreFound           = "must be 0 or more, found %d"
	msgMustAtMost                = "must be at most %d, found %d; limits.page in osprey.yaml says so"
	msgNoCursor                  = "is no cursor of this list in this order"
	msgNoCursorOf                = "%s: the record is sorted by a value that cannot be read: %s"
	msgNotComparable             = "cannot be compared with a stored value of the kind %s"
	msgExpression                = "the expression of %s cannot be evaluated: %v"
	msgTotalBeyond               = "the total is beyond what the field can hold"
	msgArgument                  = "the argument %q "
	msgSource                    = "the source %s %s"
	msgSourceFailed              = "the source %s failed; the service's log has the details"
	msgStoredValueNoValue        = "the stored value %q is no value of the enum"
	msgRecordHasNothingTells     = "a record of %s has nothing that tells its type"
	msgRecordKindNoType          = "a record of %s is of the kind %q, which no type of the schema claims"
)

// LIMIT
const (
	msgAnswerTooLarge  = "the answer would be larger than %s, which is the limit; ask for less at once, or raise limits.answer in osprey.yaml"
	msgTooManyRecords  = "the operation takes more than %d records, which is the limit; ask for less at once, or raise limits.records in osprey.yaml"
	msgTooManyRequests = "the operation takes more than %d store requests, which is the limit; ask for less at once, or raise limits.storeRequests in osprey.yaml"
	msgTookTooLong     = "the answer was not written within the time limit of the operation; ask for less at once, or raise limits.timeout in osprey.yaml"
)

// DENIED
const (
	msgDenied      = "%s is not for this caller"
	msgDeniedWrite = "%s writes what this caller may not see; nothing is done"
	msgDeniedValue = "the value is not for this caller"
)

// CANCELLED
const (
	msgNobodyWaits = "nobody waits for the answer any more"
)

// NOT_FOUND
const (
	msgRequiredNoValue = "%s is required, and there is no value for it"
)

// NOT_UNIQUE
const (
	msgPromisesOneRecordWere = "%s promises one record, and %d were found"
)

// REFUSED FUNCTION
const (
	msgRefused = "%s is refused, and nothing of it is done: %s"
)

// CONSTRAINT
const (
	msgTaken            = "%s is taken: another record has it"
	msgTakenTogether    = "%s are taken together: another record has them"
	msgLost             = "%s leads to no record"
	msgLostTogether     = "%s lead to no record together"
	msgLostSomewhere    = "a foreign key of %s leads to no record"
	msgUsed             = "the record is still referred to, by %s"
	msgUsedSomewhere    = "the record is still referred to"
	msgRequired         = "%s is required"
	msgTooLong          = "%s holds at most %s"
	msgTooLongSomewhere = "a text is too long for %s"
	msgOutOfRange       = "%s does not fit into its field"
	msgOutOfRangeOf     = "a number or moment of %s does not fit into its field"
	msgNotText          = "%s cannot hold the character U+0000"
	msgTooFine          = "%s holds at most %s behind the point"
	msgOtherRule        = "the record breaks a rule of %s"
	msgNamedRule        = "the record breaks the rule %[2]q of %[1]s"
)

// CONFLICT
const (
	msgConflict = "%s met another change of the same records several times, and nothing of it is done"
)

// CONFLICT, of what is expected
const (
	msgOutdated         = "%s is not what is stored any more: another change came first, and nothing of this one is done"
	msgOutdatedTogether = "%s are not what is stored any more: another change came first, and nothing of this one is done"
)

// BAD_VALUE, of what is written
const (
	msgWriteValue      = "%s %v"
	msgNoJSON          = "cannot be written as JSON"
	msgCannotBeWritten = "cannot be stored as %s"
	msgTooManyFound    = "finds more than %d records, which is the most that one field may write; limits.writes in osprey.yaml says so"
	msgHalf            = "; written all the same, since it is not one transaction: %s"
	msgBefore          = "; the first %d of the list are written, since this store has no transactions"
	msgWritten         = "has made the change, and could not be asked for the answer: it "
	msgUndone          = "%s is undone: it is one transaction with %s, which failed"
	msgTwice           = "two of the records in the list would be the same record"
	msgSetFailed       = "%s is not set: %v"
	msgTooManyWritten  = "has more than %d records, which is the most that one field may write: found %d; limits.writes in osprey.yaml says so"
)
