package store

// A Kind is how a column's values are held.
type Kind uint8

const (
	Unknown Kind = iota
	Bool         // Ints: 0 or 1
	Int          // Ints: a whole number of at most 64 bits
	Float        // Floats
	Text         // Bytes: UTF-8
	Decimal      // Bytes: an exact number as text
	Time         // Ints: microseconds since 1970-01-01T00:00:00Z
	Date         // Ints: days since 1970-01-01
	Clock        // Ints: microseconds since midnight
	UUID         // Bytes: 36 lower-case characters
	JSON         // Bytes: one JSON value
	Binary       // Bytes: as they are
	List         // Elem, cut by Ends
	Record       // Rows: a nested record for each row
)

var kindNames = [...]string{
	"unknown", "bool", "int", "float", "text", "decimal", "time", "date", "clock", "uuid", "json", "binary", "list", "record",
}

// String returns the kind's name as configuration and catalogues write it.
func (k Kind) String() string { return kindNames[k] }

// KindNamed returns the kind of a name as [Kind.String] writes it.
func KindNamed(name string) (Kind, bool) {
	for k, n := range kindNames {
		if n == name && k != 0 {
			return Kind(k), true
		}
	}
	return Unknown, false
}

// inInts and inBytes tell where a kind keeps its values.
func (k Kind) inInts() bool {
	return k == Bool || k == Int || k == Time || k == Date || k == Clock
}
func (k Kind) inBytes() bool {
	return k == Text || k == Decimal || k == UUID || k == JSON || k == Binary
}

// Numeric reports whether the values of a kind are numbers.
func Numeric(k Kind) bool { return k == Int || k == Float || k == Decimal }

// Moment reports whether the values of a kind are moments or days.
func Moment(k Kind) bool { return k == Time || k == Date }
