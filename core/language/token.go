package language

// A Kind is the kind of a token: section 2.1.6 of the specification, Lexical
// Tokens.
type Kind uint8

const (
	EOF Kind = iota
	Invalid
	Bang      // !
	Dollar    // $
	Amp       // &
	ParenL    // (
	ParenR    // )
	Spread    // ...
	Colon     // :
	Equals    // =
	At        // @
	BracketL  // [
	BracketR  // ]
	BraceL    // {
	Pipe      // |
	BraceR    // }
	NameToken // a name or a keyword
	IntToken
	FloatToken
	StringToken
	BlockToken   // a block string
	CommentToken // given only to those who ask for comments
)

// kindNames is how messages name a kind of token.
var kindNames = [...]string{
	EOF: "the end of the document", Invalid: "a character that has no meaning here",
	Bang: `"!"`, Dollar: `"$"`, Amp: `"&"`, ParenL: `"("`, ParenR: `")"`, Spread: `"..."`,
	Colon: `":"`, Equals: `"="`, At: `"@"`, BracketL: `"["`, BracketR: `"]"`,
	BraceL: `"{"`, Pipe: `"|"`, BraceR: `"}"`, NameToken: "a name", IntToken: "a whole number",
	FloatToken: "a number", StringToken: "a string", BlockToken: "a block string", CommentToken: "a comment",
}

// String returns the kind as messages name it.
func (k Kind) String() string { return kindNames[k] }

// A token is a kind and the bytes from start to end of the source's text.
type token struct {
	kind       Kind
	start, end int32
}
