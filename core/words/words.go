// Package words makes names of names: those of types, fields and arguments of what stores and
// people call things.
package words

import (
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"
)

// Of splits a name into its words, in small letters: at what is no letter or digit, and where
// capitals begin a word. Letters with marks are written without; what has no letter of the
// English alphabet is left out.
//
//	PortCalls, port_calls, "Port Calls"   port calls
//	HTTPServer2                           http server2
//	Größe                                 groesse
func Of(name string) []string {
	runes := []rune(plain(name))
	var list []string
	word := ""
	end := func() {
		if word != "" {
			list = append(list, strings.ToLower(word))
		}
		word = ""
	}
	for i, c := range runes {
		letter := c < 128 && (unicode.IsLetter(c) || unicode.IsDigit(c))
		switch {
		case !letter:
			end()
			continue
		case unicode.IsUpper(c) && i > 0 && (!unicode.IsUpper(runes[i-1]) || i+1 < len(runes) && unicode.IsLower(runes[i+1])):
			end()
		}
		word += string(c)
	}
	end()
	return list
}

var spelled = strings.NewReplacer("ä", "ae", "ö", "oe", "ü", "ue", "Ä", "Ae", "Ö", "Oe", "Ü", "Ue", "ß", "ss", "æ", "ae", "Æ", "Ae", "ø", "oe", "Ø", "Oe", "å", "aa", "Å", "Aa", "œ", "oe", "þ", "th", "ð", "d", "ł", "l", "Ł", "L")

// plain writes letters without marks.
func plain(name string) string {
	name = spelled.Replace(norm.NFC.String(name))
	var b strings.Builder
	for _, c := range norm.NFD.String(name) {
		if !unicode.Is(unicode.Mn, c) {
			b.WriteRune(c)
		}
	}
	return b.String()
}

// Camel joins words as the name of a field or argument: quayCode.
func Camel(words []string) string {
	var b strings.Builder
	for i, w := range words {
		if i > 0 {
			w = strings.ToUpper(w[:1]) + w[1:]
		}
		b.WriteString(w)
	}
	return b.String()
}

// Pascal joins words as the name of a type: PortCall.
func Pascal(words []string) string {
	name := Camel(words)
	if name == "" {
		return ""
	}
	return strings.ToUpper(name[:1]) + name[1:]
}

// Constant joins words as the name of an enum's value: LAY_UP.
func Constant(words []string) string { return strings.ToUpper(strings.Join(words, "_")) }

// Lower returns a name of a type as that of a field: portCall.
func Lower(name string) string {
	r := []rune(name)
	r[0] = unicode.ToLower(r[0])
	return string(r)
}

// Spoken writes a name as people say it: PortCalls as port calls.
func Spoken(name string) string {
	var b strings.Builder
	for i, c := range name {
		if unicode.IsUpper(c) && i > 0 {
			b.WriteByte(' ')
		}
		b.WriteRune(unicode.ToLower(c))
	}
	return b.String()
}

// odd are plurals that no rule makes, by their singulars.
var odd = map[string]string{
	"person": "people", "child": "children", "man": "men", "woman": "women", "foot": "feet", "tooth": "teeth", "mouse": "mice", "index": "indexes",
	"datum": "data", "criterion": "criteria", "half": "halves", "leaf": "leaves", "shelf": "shelves",
}

// same are words whose plural is the same, and others that only look like one.
var same = map[string]bool{"series": true, "species": true, "status": true, "news": true, "data": true, "staff": true, "equipment": true, "information": true, "analysis": true, "basis": true, "address": true, "access": true, "process": true, "class": true, "business": true, "bus": true, "gas": true, "virus": true, "campus": true, "bonus": true, "corpus": true, "canvas": true, "atlas": true, "lens": true}

// Plural returns the plural of an English word, or of a name that ends with one.
func Plural(name string) string {
	head, last := lastWord(name)
	if many, ok := odd[last]; ok && many != last {
		return head + like(name[len(head):], many)
	}
	for _, end := range []string{"s", "x", "ch", "sh", "z"} {
		if strings.HasSuffix(name, end) {
			return name + "es"
		}
	}
	if inner, ok := strings.CutSuffix(name, "y"); ok && inner != "" && !strings.ContainsAny(inner[len(inner)-1:], "aeiou") {
		return inner + "ies"
	}
	return name + "s"
}

// Singular returns the singular of an English word that may be a plural.
func Singular(word string) string {
	for one, many := range odd {
		if word == many {
			return one
		}
	}
	switch {
	case same[word], len(word) < 4, !strings.HasSuffix(word, "s"), strings.HasSuffix(word, "ss"), strings.HasSuffix(word, "us"), strings.HasSuffix(word, "is"):
		return word
	case strings.HasSuffix(word, "ies"):
		return strings.TrimSuffix(word, "ies") + "y"
	}
	for _, end := range []string{"ses", "xes", "zes", "ches", "shes"} {
		inner := strings.TrimSuffix(word, "es")
		if strings.HasSuffix(word, end) && (same[inner] || end != "ses" && end != "zes") {
			return inner
		}
	}
	return strings.TrimSuffix(word, "s")
}

// lastWord parts the last word of a name, in small letters, from what comes before it.
func lastWord(name string) (head, last string) {
	for i := len(name) - 1; i > 0; i-- {
		if name[i] >= 'A' && name[i] <= 'Z' {
			return name[:i], strings.ToLower(name[i:])
		}
	}
	return "", strings.ToLower(name)
}

// like writes a word with a capital where another one has it.
func like(other, word string) string {
	if other != "" && unicode.IsUpper(rune(other[0])) {
		return strings.ToUpper(word[:1]) + word[1:]
	}
	return word
}
