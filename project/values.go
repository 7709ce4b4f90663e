package project

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"
)

// This file reads the bounds of osprey.yaml. What is no bound is told at its
// place: one that is silently taken for "none" is worse than none.

// A Size is a number of bytes, written as 512KB, 16MB or 1GB. Zero means the
// default.
type Size int64

// A Count is a number of things, 0 or more. Zero means the default.
type Count int64

// A Span is a length of time, written as 500ms, 3s or 2m. Zero means the default.
type Span time.Duration

var sizeUnits = []struct {
	suffix string
	bytes  int64
}{{"KB", 1 << 10}, {"MB", 1 << 20}, {"GB", 1 << 30}, {"B", 1}, {"", 1}}

// UnmarshalYAML reads a size.
func (s *Size) UnmarshalYAML(node ast.Node) error {
	text := strings.ToUpper(scalarOf(node))
	for _, u := range sizeUnits {
		number, ok := strings.CutSuffix(text, u.suffix)
		if !ok {
			continue
		}
		n, err := strconv.ParseInt(strings.TrimSpace(number), 10, 64)
		if err != nil || n <= 0 || n > math.MaxInt64/u.bytes {
			break
		}
		*s = Size(n * u.bytes)
		return nil
	}
	return atNode(node, "write it like 512KB, 16MB or 1GB", "is no number of bytes")
}

// UnmarshalYAML reads a count.
func (c *Count) UnmarshalYAML(node ast.Node) error {
	n, err := strconv.ParseInt(scalarOf(node), 10, 64)
	if err != nil || n < 0 || n > math.MaxInt32 {
		return atNode(node, "write a whole number such as 100", "is no number from 0 to %d", math.MaxInt32)
	}
	*c = Count(n)
	return nil
}

// UnmarshalYAML reads a length of time.
func (s *Span) UnmarshalYAML(node ast.Node) error {
	d, err := time.ParseDuration(scalarOf(node))
	if err != nil || d < 0 {
		if n, bare := strconv.Atoi(scalarOf(node)); bare == nil && n > 0 {
			return atNode(node, fmt.Sprintf("write %ds", n), "is no length of time")
		}
		return atNode(node, "write it like 500ms, 3s or 2m", "is no length of time")
	}
	*s = Span(d)
	return nil
}

func scalarOf(node ast.Node) string {
	if text, ok := node.(*ast.StringNode); ok {
		return strings.TrimSpace(text.Value) // with the environment's values in it
	}
	if _, ok := node.(ast.ScalarNode); !ok {
		return ""
	}
	return strings.Trim(strings.ReplaceAll(node.GetToken().Value, "_", ""), `"' `)
}

// ownWords begins the message of an error that is not the library's, and ends its fix.
const ownWords = "\x00"

// atNode makes an error at a place, as the library writes its own.
func atNode(node ast.Node, fix, format string, args ...any) error {
	at := node.GetToken().Position
	return fmt.Errorf("[%d:%d] %s%s%s%q %s", at.Line, at.Column, ownWords, fix, ownWords, node.String(), fmt.Sprintf(format, args...))
}
