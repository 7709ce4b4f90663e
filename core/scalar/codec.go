package scalar

// A Codec is how a stored value is written into an answer: chosen once, by the
// kind of the column and the scalar of the field.
type Codec uint8

const (
	NoCodec       Codec = iota
	Quoted              // bytes as a JSON string
	Number              // a whole number within 64 bits
	Number32            // a whole number that must be within 32 bits (Int)
	Fraction            // a float; NaN and infinities are errors
	Truth               // true or false
	QuotedInt           // a whole number as a JSON string (ID, Int64)
	NumberAsFloat       // a whole number where Float is wanted
	FloatAsNumber       // a float that must be whole and within 32 bits
	DecimalAsIs         // decimal text as a JSON number
	MomentText          // Time as RFC 3339
	DateText            // Date as 2006-01-02
	DayOfMoment         // Time as the day it falls on in UTC
	ClockText           // Clock as 15:04:05
	RawJSON             // JSON as it is stored
	EnumName            // a stored spelling as the enum's name
	Base64              // binary data as text
)
