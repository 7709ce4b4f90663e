package project

import (
	"fmt"
	"regexp"
	"strings"

	"osprey/core/language"
)

// This file tells what is no YAML in our own words: those of the library speak of
// tokens and flow mappings.

// A slip is a mistake in YAML, by a part of the library's message.
type slip struct{ part, msg, fix string }

// slips are looked through in their order. In msg, %s stands for the character that
// stands at the place.
var slips = []slip{
	{"sequence end token", "the bracket [ is not closed", "close it with ]"},
	{"flow mapping end token", "the brace { is not closed", "close it with }"},
	{"flow map content", "an entry in braces is empty", "leave one of the commas out"},
	{"end character of", "the quote is not closed", "close it with the same quote"},
	{"cannot start any token", "a tab stands where YAML has spaces only", "indent with spaces"},
	{"mapping value is not allowed", "a key with a value cannot stand here", "give it a line of its own, indented as its neighbours; a text that has \": \" in it stands in quotes"},
	{"block sequence entries", "a list cannot begin on the line of its key", "write it in brackets, or on the lines below"},
	{"reserved character", "a text cannot begin with %s", "put it in quotes"},
	{"unexpected directive", "a text cannot begin with %s", "put it in quotes"},
	{"escape character", "there is no such escape sequence", "use single quotes, in which \\ is itself"},
	{"undefined anchor", "the anchor has no value", "write the value behind it"},
	{"could not find alias", "the alias has no anchor", "write &name before the value that it stands for"},
	{"could not find '['", "a bracket is closed here that was not opened", "leave it out"},
	{"non-map value", "this is no key with a value", "write key: value, indented as its neighbours"},
	{"unexpected key name", "this is no key with a value", "write key: value"},
	{"value is not allowed", "this does not belong to what stands above it", "indent it as its neighbours are"},
}

// twice is how the library tells of a key that stands twice.
var twice = regexp.MustCompile(`mapping key "(.*)" already defined at \[(\d+):`)

// yamlPlace finds the place in an error of the YAML library.
var yamlPlace = regexp.MustCompile(`^\[(\d+):(\d+)\] `)

// addYAML tells an error of the library, or one that [atNode] made, whose form is
// [line:column] message.
func addYAML(src *language.Source, problems *language.Problems, err error) {
	msg := strings.SplitN(err.Error(), "\n", 2)[0]
	pos := src.Pos(0)
	var line, column int
	if m := yamlPlace.FindStringSubmatch(msg); m != nil {
		fmt.Sscan(m[1], &line)
		fmt.Sscan(m[2], &column)
		msg, pos = msg[len(m[0]):], placeOf(src, line, column)
	}
	if strings.HasPrefix(msg, ownWords) {
		fix, msg, _ := strings.Cut(msg[len(ownWords):], ownWords)
		problems.Add(ruleConfig, pos, "%s", msg).Fix = fix
		return
	}
	if m := twice.FindStringSubmatch(msg); m != nil {
		problems.Add(ruleConfig, pos, "the key %s stands here again; it is on line %s", m[1], m[2]).Fix = "leave one of them out"
		return
	}
	for _, s := range slips {
		if strings.Contains(msg, s.part) {
			here := strings.TrimSpace(src.Text[src.Offset(pos):])
			problems.Add(ruleConfig, pos, "%s", strings.ReplaceAll(s.msg, "%s", here[:min(1, len(here))])).Fix = s.fix
			return
		}
	}
	problems.Add(ruleConfig, pos, "this is no YAML (version 1.2)").Fix = "look at the indentation, the quotes and the brackets before it"
}
