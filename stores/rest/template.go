package rest

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// This file implements URI templates: RFC 6570, level 4 but for associative
// arrays, which no value of ours is. Values are sent as UTF-8, percent-encoded
// byte by byte (section 3.2.1).

// A template is a checked URI template.
type template struct {
	text  string
	parts []part
}

// A part is a literal, or an expression with at least one variable.
type part struct {
	literal string // encoded already
	op      operator
	vars    []variable
}

// A variable of an expression with its modifier: section 2.4.
type variable struct {
	name    string
	explode bool
	prefix  int // most characters; 0 for all
}

// An operator says how an expression is written: the table of appendix A.
type operator struct {
	sign     byte // 0 for simple expansion
	first    string
	sep      string
	named    bool
	ifEmpty  string
	reserved bool // reserved characters stand for themselves
}

var expressions = map[byte]operator{
	0:   {0, "", ",", false, "", false},
	'+': {'+', "", ",", false, "", true},
	'#': {'#', "#", ",", false, "", true},
	'.': {'.', ".", ".", false, "", false},
	'/': {'/', "/", "/", false, "", false},
	';': {';', ";", ";", true, "", false},
	'?': {'?', "?", "&", true, "=", false},
	'&': {'&', "&", "&", true, "=", false},
}

// optional reports whether what an expression writes is a query, which is left
// out with its variables.
func (o operator) optional() bool { return o.sign == '?' || o.sign == '&' }

// A value of a variable: one text, or a list of them.
type value struct {
	list  bool
	items []string
}

func text(s string) value         { return value{items: []string{s}} }
func listOf(items []string) value { return value{list: true, items: items} }

type values map[string]value

// varName is a variable's name: section 2.3.
var varName = regexp.MustCompile(`^(?:[A-Za-z0-9_]|%[0-9A-Fa-f]{2})(?:\.?(?:[A-Za-z0-9_]|%[0-9A-Fa-f]{2}))*$`)

func newTemplate(source string) (*template, error) {
	t := &template{text: source}
	for rest := source; rest != ""; {
		open := strings.IndexByte(rest, '{')
		literal := rest
		if open >= 0 {
			literal = rest[:open]
		}
		if strings.ContainsAny(literal, "}\"'<>\\^`| ") {
			return nil, fmt.Errorf("the literal %q has a character that cannot stand in an address", literal)
		}
		if literal != "" {
			t.parts = append(t.parts, part{literal: encode(literal, true)})
		}
		if open < 0 {
			break
		}
		inside, after, closed := strings.Cut(rest[open+1:], "}")
		if !closed {
			return nil, errors.New("a brace is not closed")
		}
		rest = after
		p, err := newExpression(inside)
		if err != nil {
			return nil, err
		}
		t.parts = append(t.parts, p)
	}
	return t, nil
}

func newExpression(inside string) (part, error) {
	p := part{op: expressions[0]}
	if inside != "" {
		if op, ok := expressions[inside[0]]; ok && inside[0] != 0 {
			p.op, inside = op, inside[1:]
		}
	}
	for _, spec := range strings.Split(inside, ",") {
		v := variable{name: spec}
		if name, ok := strings.CutSuffix(spec, "*"); ok {
			v.name, v.explode = name, true
		} else if name, most, ok := strings.Cut(spec, ":"); ok {
			v.name = name
			if _, err := fmt.Sscanf(most, "%d", &v.prefix); err != nil || v.prefix < 1 || v.prefix > 9999 || fmt.Sprint(v.prefix) != most {
				return p, fmt.Errorf("the prefix of {%s} is no number from 1 to 9999", spec)
			}
		}
		if !varName.MatchString(v.name) {
			return p, fmt.Errorf("{%s} is no expression", inside)
		}
		p.vars = append(p.vars, v)
	}
	return p, nil
}

// variables returns the names of all variables, or of those without which there
// is no address.
func (t *template) variables(needed bool) []string {
	var names []string
	for _, p := range t.parts {
		for _, v := range p.vars {
			if !slices.Contains(names, v.name) && !(needed && p.op.optional()) {
				names = append(names, v.name)
			}
		}
	}
	return names
}

// expand writes the address for some values. It returns false for one that must
// not be sent: where a value makes a segment of the path that leads elsewhere,
// "", "." or "..".
func (t *template) expand(given values) (string, bool) {
	var b strings.Builder
	var written [][2]int // where in the path values stand
	path := true
	for _, p := range t.parts {
		start := b.Len()
		if p.vars == nil {
			b.WriteString(p.literal)
			path = path && !strings.ContainsAny(p.literal, "?#")
			continue
		}
		path = path && !p.op.optional() && p.op.sign != '#'
		if p.expand(&b, given) && path {
			written = append(written, [2]int{start, b.Len()})
		}
	}
	address := b.String()
	end := len(address)
	if i := strings.IndexAny(address, "?#"); i >= 0 {
		end = i
	}
	for _, w := range written {
		from := strings.LastIndexByte(address[:min(w[0], end)], '/') + 1
		to := end
		if i := strings.IndexByte(address[min(w[1], end):end], '/'); i >= 0 {
			to = w[1] + i
		}
		segments := address[from:to]
		if address[w[0]:w[1]] != "" && address[w[0]] == '/' && from == w[0] {
			segments = segments[1:] // the slash is the expression's own
		}
		for _, segment := range strings.Split(segments, "/") {
			if segment == "" || segment == "." || segment == ".." {
				return "", false
			}
		}
	}
	return address, true
}

// expand writes an expression: section 3.2.1. It reports whether any of its
// variables is given.
func (p *part) expand(b *strings.Builder, given values) bool {
	some := false
	for _, v := range p.vars {
		value, ok := given[v.name]
		if !ok || value.list && len(value.items) == 0 {
			continue
		}
		if some {
			b.WriteString(p.op.sep)
		} else {
			b.WriteString(p.op.first)
		}
		some = true
		items := make([]string, len(value.items))
		for i, item := range value.items {
			if v.prefix > 0 && !value.list {
				item = firstCharacters(item, v.prefix)
			}
			items[i] = encode(item, p.op.reserved)
		}
		sep := ","
		if v.explode && value.list {
			sep = p.op.sep
		}
		for i, item := range items {
			if i > 0 {
				b.WriteString(sep)
			}
			if p.op.named && (i == 0 || sep != ",") {
				b.WriteString(v.name)
				if item != "" || i == 0 && len(items) > 1 && sep == "," {
					b.WriteByte('=')
				} else {
					b.WriteString(p.op.ifEmpty)
				}
			}
			b.WriteString(item)
		}
	}
	return some
}

func firstCharacters(text string, n int) string {
	for i := range text {
		if n == 0 {
			return text[:i]
		}
		n--
	}
	return text
}

const hexDigits = "0123456789ABCDEF"

// encode writes a text so that it can stand in an address: unreserved characters
// as they are, others as the bytes of their UTF-8. Where reserved ones may stand,
// so may what is encoded already (section 3.2.3).
func encode(s string, reserved bool) string {
	plain := true
	for i := range len(s) {
		plain = plain && isUnreserved(s[i])
	}
	if plain {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		c := s[i]
		switch {
		case isUnreserved(c), reserved && strings.IndexByte(":/?#[]@!$&'()*+,;=", c) >= 0:
			b.WriteByte(c)
		case reserved && c == '%' && i+2 < len(s) && isHex(s[i+1]) && isHex(s[i+2]):
			b.WriteByte(c)
		default:
			b.WriteByte('%')
			b.WriteByte(hexDigits[c>>4])
			b.WriteByte(hexDigits[c&15])
		}
	}
	return b.String()
}

func isUnreserved(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '-' || c == '.' || c == '_' || c == '~'
}

func isHex(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F'
}

// aParameter finds the parameters of a query that a template gives a value of its
// own, which may be a secret.
var aParameter = regexp.MustCompile(`([?&][^=&{}?]+)=([^&{}]+)`)

// shown returns the template without the values of its own.
func (t *template) shown() string { return aParameter.ReplaceAllString(t.text, "$1=…") }

// hidden returns the names of the parameters that have a value of their own.
func (t *template) hidden() []string {
	var names []string
	for _, m := range aParameter.FindAllStringSubmatch(t.text, -1) {
		names = append(names, m[1][1:])
	}
	return names
}
