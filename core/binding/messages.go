package binding

// This file has the wording of every problem that this package tells, by rule.
// docs/messages.md is made of it: go test . -run Reference -update

// argument
const (
	msgNothingUsesArgument   = "nothing uses the argument %q of %s"
	msgNothingUsesArgumentNo = "nothing uses the argument %q of %s: it is no field of %s%s"
	msgNothingUsesGiven      = "nothing of %s uses %s"
	msgFilterMustBeInput     = "the argument %s must be an input object that names fields to compare"
	msgSortKeyNoOrder        = "the sort key %s is %s.%s, and values of the type %s have no order"
	msgSortKeyNotOne         = "the sort key %s leads to %s, which is not one nested record or one related record of the same relational source"
	msgSortKeyOfParts        = "the sort key %s leads to other records, and %s sorts the records of several sets as one list"
	msgSortKeyApart          = "the sort key %s puts %s.%s, which is %s, and %s.%s, which is %s, into one list, and they have no common order"
	msgArgumentMustListOne   = "the argument %s must be a list of a one-of input object"
	msgSortKeyNoField        = "the sort key %s is no field of %s with a column of its own%s\n→ leave it out, or say with @at(path: \"…\") which stored field it is"
	msgSortKeyTypeDoes       = "the sort key %s is of the type %s, which does not say ascending or descending"
)

// column
const (
	msgNoneSampledRecordsHas = "%s is %q, which none of the sampled records of %s in %s has%s\n→ correct the name, or say with @at(path: \"…\") where the value is"
	msgDoesNotHave           = "%s is %q, which the %s %s in %s does not have%s\n→ correct the name, or say with @at(path: \"…\") where the value is"
	msgStoredValueNoValue    = "the enum %s has no value for %q, which %s in %s has; it will be an error where it is read"
	msgValueStoredAsNever    = "the value %s is stored as %q, which %s in %s never is%s"
	msgValuesAreBothStored   = "the values %s and %s are both stored as %q\n→ give each a spelling of its own with @at(path: \"…\")"
)

// computed
const (
	msgComputedHow       = "%s is computed, and @computed does not say how, or says it twice"
	msgComputedAnd       = "%s is computed, and cannot have a place in a store too"
	msgNeedsOfExpression = "%s is an expression, which needs what stands in it"
	msgNeeds             = "what %s needs is no selection of its type: %s\n→ name fields of the type, as in \"name craft { name }\""
	msgNoSelection       = "it is not the fields of one record"
	msgNeedsItself       = "%s needs itself: %s"
	msgExpressionStored  = "%s is made of values by an expression, and %s is stored in a record set"
	msgGivesSeveral      = "%s is of the type %s, and an expression gives records of one record set, as one list or one of them"
	msgMadeOfValues      = "%s has arguments, or says where it comes from, and the expression of %s makes it of values"
	msgEntryNoField      = "the expression of %s has the entry %q, which is no field of %s%s\n→ leave it out, or correct the name"
	msgEntryMissing      = "the expression of %s has no entry %q, which is required"
	msgExpression        = "the expression of %s cannot be used: %v\n→ write it as docs/resolvers.md has it, under Expressions"
	msgNoFunction        = "%s is computed by %q, which is no function of a source%s"
	msgFunction          = "%s is computed by %s: %v\n→ correct the name, or the types of the function"
	msgFunctionStored    = "%s is computed by a function, and %s is stored in a record set"
)

// crossing
const (
	msgRequiredElsewhere = "%s is required, and its value comes from %s: when that does not answer, the %s is lost with all that was answered of it"
	msgRequiredOfMany    = "%s is required, and its value comes from %s: when that does not answer, what other stores answer to the operation is lost, too"
)

// filter
const (
	msgTestMustBeInput     = "the predicate %s is not an input object of comparisons"
	msgTestNoField         = "the predicate %s is no field of %s%s"
	msgTestOfComputed      = "the predicate %s is of %s, which is computed and not stored"
	msgTestOfList          = "the predicate %s is of %s, which is a list of values, and lists cannot be compared"
	msgNoComparison        = "%s is no comparison%s"
	msgComparisonType      = "the comparison %s cannot be of the type %s\n→ give it the type of the field that it compares, or a list of it for in and notIn"
	msgComparisonNeedsText = "the predicate %s has %q, and %s is %s and not text\n→ leave it out"
	msgComparisonNoOrder   = "the predicate %s has %q, and the values of %s have no order\n→ leave it out"
	msgAmongType           = "the predicate %s asks about several records of %s, and %s is not with, without or only"
)

// write
const (
	msgNestsApart         = "%s adds to %s, which is not in one transaction with the rest of %s: if one fails, the other can be there"
	msgSetRecordApart     = "what %s is set to in %s looks at the record as it was, and in %s, which has no transactions, another change could come between"
	msgSetRecord          = "what %s is set to in %s looks at record.%s, which is not stored in the record itself"
	msgWithinNoWrite      = "%s has @within, and writes nothing\n→ leave it out, or let @computed name the function"
	msgWithinNoStore      = "%s has a function in its transaction, and the source %s has none that a function could take part in\n→ leave @within out, or write to a relational database"
	msgWithinNoFunction   = "the transaction of %s has %q in it, which is no function of a source%s"
	msgWithin             = "the transaction of %s has %s in it: %v\n→ correct the name, or the types of the function"
	msgWithinElsewhere    = "what the function in the transaction of %s needs is in %s, too, which is not in the transaction\n→ leave it out of needs"
	msgWriteElsewhere     = "%s has @%s, which is for fields of the mutation type\n→ move it there"
	msgWriteSeveral       = "%s writes records of several sets\n→ give it the type of one of them"
	msgWriteReadOnly      = "%s writes to %s, which cannot be written to: %s\n→ write to a table, or let a function make the change"
	msgWriteNoKey         = "%s writes to %s, and nothing tells its records apart\n→ say with @stored(key: …) what does"
	msgWriteList          = "%s is one record, and what it is given is a list, or the other way round"
	msgWriteKey           = "%s is a part of the key of %s, which does not change"
	msgWriteGenerated     = "%s gives %s.%s, which the store computes"
	msgWriteWhichType     = "%s adds a %s, and nothing says of which type"
	msgWriteUnfilled      = "%s adds to %s, and nothing fills %s, which it must have"
	msgWriteOfWhich       = "%s does not say which %s is meant: nothing gives %s"
	msgWriteNothing       = "%s changes nothing"
	msgWriteAdjust        = "%s is added to what is stored, and is no number"
	msgWriteExpect        = "%s is compared with what is stored, and is no single value"
	msgWriteArgument      = "%s has no argument %q, which its directive names%s\n→ name an argument of the field"
	msgWriteNoField       = "%s is no field of %s%s"
	msgWriteTwice         = "%s gives %s.%s twice: as %s and as %s"
	msgWriteWhichKey      = "%s could find its record by %s, and by %s"
	msgWriteInListAll     = "%s may be left out, and then all of %s are meant"
	msgWriteFilter        = "%s may be left out, and then all records are meant"
	msgWriteOfWhat        = "%s does not say of which type the records are that it writes"
	msgWriteOfNothing     = "%s writes records of the type %q, which is none of the schema's%s\n→ name the type of the records"
	msgWriteOfAndType     = "%s writes records of the type %s, and answers a %s"
	msgWriteListOfAnswers = "%s is a list of %s, which is what is answered of all that is written together"
	msgWriteTwoRecords    = "%s is a second field of records beside %s, and what is written is of one type"
	msgWriteAnswer        = "%s is of the type %s, which says nothing of what was written"
	msgWriteAnswerField   = "%s is neither the records that were written, nor how many, nor a field of the key of %s"
	msgSetForm            = "%s sets %q, which is not a field and what it gets"
	msgSetNoField         = "%s names %q, which is no field of %s%s\n→ name a field of the type, or a stored field"
	msgSetKey             = "%s sets %s, which is a part of the key of %s and does not change"
	msgSetAdjust          = "%s adds to %s, which is no number"
	msgSetExpression      = "what %s is set to in %s cannot be used: %s\n→ write it as docs/resolvers.md has it, under Expressions: over args, the arguments, and now"
	msgWriteReplaces      = "%s changes the record that has the same %s, and nothing tells that only one has: there is no such unique key"
	msgWriteReplacesGiven = "%s changes the record that has the same %s, which nothing gives"
	msgWriteReplacesOther = "%s changes the record that has the same %s, but %s would change the one with the same %s just as well"
	msgNestsItself        = "%s has records of the type %s within others of it"
	msgWriteNoList        = "%s writes to the list %q, and %s has no list of nested records of that name in a store that takes them one by one"
	msgWriteTakes         = "%s cannot be written to %s: %v"
	msgPairAnswer         = "%s pairs records, and answers something else than the record that has the field"
	msgPairField          = "%s pairs by %q, which is no relationship of %s over a join table%s\n→ name a field that has @related(through: …)"
	msgPairOfWhich        = "%s does not say which records are meant: nothing gives %s"
	msgPairKey            = "%s would write a pair twice when it is asked for twice: nothing in %s tells pairs apart"
	msgWriteExpectAll     = "%s writes all that its filter finds, and cannot expect something of each"
	msgWriteOfSeveral     = "%s may mean records of several types, but not of all that share their set"
)

// index
const (
	msgNoIndexBeginsEvery = "%s is looked up in %s by %s, with which no index begins: every lookup reads the whole %s"
)

// kind
const (
	msgStoredOneRecordSet = "%s is stored in one record set, and nothing says which record is of which type (%s)"
	msgToldValueNeverHas  = "%s is told by the value %q, which %s.%s never has%s"
	msgBothAreToldValue   = "both %s and %s are told by the value %q of %s\n→ give each a value of its own with @kind(is: \"…\")"
	msgNestedKind         = "%s is a nested %s, and nothing says which value is of which type (%s)"
	msgKindNeedsBy        = "@kind of %s does not say by which field types are told"
	msgReferenceTwice     = "%s leads both to %s and to %s by the value %q of %s\n→ give each a value of its own with @kind(is: \"…\")"
	msgReferenceUntold    = "%s leads to no type of %s for the records of %s whose %s is %q; they will be errors where they are read"
	msgReferenceList      = "%s is a list, and one value beside it cannot tell the types of its records"
	msgRecordsWhoseAreNo  = "%s has no type for the records of %s whose %s is %q; they will be errors where they are read"
)

// not-supported
const (
	msgListAmongKeys            = "%s relates %s to %s, one of which holds a list of keys"
	msgGoesThroughVersionOsprey = "%s goes through %s; this version of Osprey follows pairs only inside one relational source"
	msgTotalOfParts             = "%s is the total of %s, whose records are of several record sets"
	msgFilterAcross             = "the predicate %s is about %s, which is not in the same relational source"
	msgPairsInside              = "the pairs of %s in %s are told by %s, which is inside a column of JSON"
	msgFilterJSON               = "the predicate %s is about %s, which is a list inside a column of JSON"
	msgWriteNotYet              = "%s writes to %s, and this version of Osprey does not write to sources of the kind %s yet\n→ keep its records in a relational database, or let a function make the change"
	msgWriteNestedKinds         = "%s is of %s, which is of several types or a list of lists, and cannot be given yet"
	msgWriteInside              = "%s gives %s.%s, which is inside a column of JSON"
	msgDirectiveOspreySOwn      = "the directive @%s is Osprey's own and cannot be defined again"
)

// nullable
const (
	msgMayBeNull              = "%s is required, and %s in %s may be NULL"
	msgMissingInSample        = "%s is required, and %s in %s is missing in some of the sampled records"
	msgTrusted                = "%s is required, and %s in %s may be NULL: that every %s has it is taken on trust, and one without is an error where it is read"
	msgRequiredFollowsMayNull = "%s is required, and %s.%s, which it follows, may be NULL"
	msgTotalOfNone            = "%s is required, and the total of no values is null"
	msgRequiredWhenNoRecord   = "%s is required; when no record is found, that is an error and not null"
)

// one-key
const (
	msgCannotRead     = "%s cannot be read: %v"
	msgTakesOneAtTime = "%s is read from %s in %s, which takes one %s at a time: a list of records makes a request for each"
)

// page
const (
	msgListOfConnections = "%s is a list of %s, and a connection is a list already"
	msgConnectionField   = "%s is no part of a connection, which has edges, pageInfo and totalCount"
	msgEdgeField         = "%s is no part of an edge, which has node and cursor"
	msgPageType          = "%s cannot be of the type %s"
	msgPageNeedsKey      = "%s is read in pages, and nothing tells the records of %s apart"
)

// for
const (
	msgForNoWhen     = "the rule of %s has a condition, and there is no record that it could be of"
	msgForWhom       = "the rule of %s says nothing of whom it is for"
	msgForExpression = "the condition of the rule of %s is none: %s"
	msgForNotStored  = "the rule of %s has a condition, and its records are in no record set of their own"
	msgForSeveral    = "the rule of %s has a condition, and its types are stored apart"
	msgForReplaces   = "the rule of %s cannot be held to what %s replaces"
	msgForWrite      = "the rule of %s cannot be held to what %s writes: %s has no transactions"
	msgForFilter     = "the rule of %s cannot be held to what %s finds: %s cannot be asked it"
	msgForElsewhere  = "the rule of %s cannot be held to what %s adds to %s with the others"
	msgForNone       = "%s has no rule, and access.rules in osprey.yaml says that all types have one"
	msgForRole       = "the rule of %s names the role %q, which no key in osprey.yaml has%s"
	msgForNobody     = "nobody fits the rule of %s"
	msgForRows       = "the rule of %s is decided on the records, since no store is asked %s: lists are read as a whole, and put in order and cut here"
	msgForInterface  = "%s has a rule, and %s has none"
	msgForComputed   = "%s has no rule, and is computed of %s, which has one"
	msgForSame       = "%s has no rule, and shows what %s does: both are %s.%s"
	msgForMixed      = "of the conditions of %s, one is told from its records alone, and so all must be, and another looks at related ones"
	msgForFar        = "the condition of %s can neither be asked of %s nor be told from its records alone"
)

// relationship
const (
	msgSortedNoFieldColumn   = "%s is sorted by %q, which is no field of %s with a column of its own%s\n→ sort by a field of the type that is stored"
	msgRelatesFieldsFields   = "%s relates %d fields here (%s) to %d fields there (%s)"
	msgPairsNameFieldsRecord = "%s goes through %s, which has %d fields (%s) for %d here (%s) and %d (%s) for %d there (%s)\n→ name as many fields of the join table as identify each end"
	msgOneOrMany             = "nothing says whether %s holds one key or a list of keys: %s is read in a request of its own"
	msgNeverMeet             = "%s relates %s, which is %s, to %s, which is %s: the one is never equal to the other"
	msgListOfLists           = "%s is a list of lists, and what it reads is one list"
	msgRelatedTwice          = "%s says twice what is related to it"
	msgRelatedNoPart         = "%s says what of %q is related, which is no type that is stored by itself%s"
	msgRelatedNotPart        = "%s leads to %s too, and nothing says which are related"
	msgPartsOrder            = "the records of %s cannot be put in one order: those of %s are sorted by %s and those of %s by %s"
	msgSortKeyNotField       = "%s is sorted by %q, which is not a field with asc or desc behind it\n→ write a field and a direction, as in \"name desc\""
)

// source
const (
	msgStoredNoSource    = "%s is stored in %q, which is no source%s"
	msgSourceHasNoRecord = "%s is %q, which the source %s does not have%s\n→ correct the name in as: \"…\""
)

// total
const (
	msgTotalOfWhat   = "%s is the total of %q, which is no list with @related or @read of the same type%s"
	msgTotalNoField  = "%s is the total of %q, which is no field of %s with a column of its own%s\n→ name a field of the list's type that is stored"
	msgTotalNotOf    = "%s is the %s of %s.%s, which is %s and has none\n→ name a field that has one, or count instead"
	msgTotalIsOne    = "%s is one value and cannot be of the type %s\n→ make it no list"
	msgSeveralTotals = "%s names several totals"
)

// type-fits
const (
	msgListHoldsOneValue = "%s is a list, and %s.%s holds one value of the type %s\n→ make it no list"
	msgReadAsText        = "%s is %s.%s, whose type %s Osprey does not know; it is read as text"
	msgBeyondInt         = "%s is of the type %s, and %s.%s is %s; a value beyond 32 bits is an error where it is read"
	msgFractionAsInt     = "%s is of the type %s, and %s.%s is %s; a value with a fraction is an error where it is read"
	msgTotalType         = "%s is of the type %s, and the total is %s; %v\n→ give it that type"
	msgTypeHasNoFields   = "%s is of the type %s, and %s.%s is %s, which has no fields\n→ give it a scalar type, or lead to what has fields with @at(path: \"…\")"
	msgType              = "%s is of the type %s, and %s.%s is %s; %v\n→ give it that type"
	msgOneValueHoldsList = "%s is one value, and %s.%s holds a list"
	msgWriteNestedType   = "%s is of the type %s, and %s is of the type %s"
	msgArgumentType      = "the argument %s is of the type %s, and %s.%s is %s; %v\n→ give it that type"
)

// unbound
const (
	msgTypeNothingSaysWhere  = "%s is of the type %s, and nothing says where its records are"
	msgReadFieldsRootType    = "@read is for fields of the root type"
	msgNothingSaysWhereComes = "nothing says where %s comes from\n→ write @read, @related, @total or @computed behind it"
	msgNothingSaysBelong     = "nothing says which %s belong to %s"
)

// watch
const (
	msgWatchList         = "%s is a list, and tells of one record at a time"
	msgWatchSeveral      = "%s watches %s, whose records are in several sets"
	msgWatchNoKey        = "%s watches %s, whose records have no key by which they could be read"
	msgWatchType         = "%s watches records of the type %s, and says so otherwise"
	msgWatchTwo          = "%s is a record, and another field is one of the type %s"
	msgWatchWhat         = "nothing says which records %s watches"
	msgWatchNothing      = "%s watches %q, which is no type with records%s"
	msgWatchOn           = "%s watches for %q, which does not happen to records%s"
	msgWatchArgument     = "the argument %q of %s is about a list, and %[2]s tells of one record at a time"
	msgWatchRemoved      = "%s answers the record, and watches for REMOVED, when there is none"
	msgWatchNow          = "%s is required, and there is no record when it was removed"
	msgWatchBeforeNull   = "%s is required, and there is no record before one that was added"
	msgWatchBefore       = "%s is no stored field of %s, which is what is known of a record as it was"
	msgWatchHidden       = "%s shows what the rule of %s hides"
	msgWatchOther        = "%s notes changes of %s by %s, and the key of %s is %s"
	msgWatchTold         = "%s tells the changes of %s by itself, and nothing is looked at"
	msgWatchOwn          = "%s is told what this service writes; %s does not tell what others change in %s"
	msgWatchGrows        = "%s says what grows, and not how often it is looked at"
	msgWatchGrowsNothing = "%s has grows: %q, which is no field of %s with one value"
	msgWatchEvery        = "%s has every: %q, which is no time, or a shorter one than a second"
	msgWatchUnread       = "%s has every, and %s cannot be looked at as a whole: %s"
	msgWatchField        = "%s is nothing that is told of a change of %s"
)

// unique
const (
	msgGoesThroughPairsCan    = "%s goes through pairs, so there can be several %s"
	msgListOfKeys             = "%s promises one %s, and relates %s to %s, one of which holds a list of keys"
	msgPromisesOneNotUnique   = "%s promises one %s, and %s of %s is not unique"
	msgPromisesOneArgumentsDo = "%s promises one %s, and its arguments do not name a unique key of %s"
)
