package project

import (
	"cmp"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"sort"

	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"osprey/core/binding"
	"osprey/core/language"
	"osprey/core/store"
)

// ConfigFile is the name of a project's configuration.
const ConfigFile = "osprey.yaml"

// Config is what osprey.yaml says.
type Config struct {
	Listen  string                   `yaml:"listen"`  // host:port of the service
	Sources map[string]*SourceConfig `yaml:"sources"` // by name
	Limits  Limits                   `yaml:"limits"`
	// Hosts are the names under which the service is asked, beside localhost and
	// the one in Listen.
	Hosts []string `yaml:"hosts"`
	// Statements says who is told what stores are sent: one of the constants.
	Statements string `yaml:"statements"`
	// Drain is how long the service still takes requests when it is told to stop;
	// nil is two seconds, and none where only this machine can ask.
	Drain *Span `yaml:"drain"`
	// Introspection says whether clients may ask for the schema; default true.
	Introspection *bool `yaml:"introspection"`

	broken map[string]bool // sources of which something wrong was told
}

// Who is told what stores are sent.
const (
	StatementsLoopback = "loopback" // callers on this machine; the default
	StatementsEveryone = "everyone"
	StatementsNobody   = "nobody"
)

// Limits bounds what one request may cost. Zero means the default.
type Limits struct {
	Body    Size  `yaml:"body"`    // largest request body
	Timeout Span  `yaml:"timeout"` // for a whole operation, its answer written
	Plans   Size  `yaml:"plans"`   // how much memory planned operations may keep
	Fields  Count `yaml:"fields"`  // most fields of an operation, see [validate.Exceeds]
	Answer  Size  `yaml:"answer"`  // largest answer to an operation
	Records Count `yaml:"records"` // most records that stores send for an operation
	// Page is the largest limit, first or last that an operation may give.
	Page Count `yaml:"page"`
	// Errors is how many errors of an answer are told one by one.
	Errors Count `yaml:"errors"`
	// StoreRequests is how many store requests an operation may take; an
	// operation that takes more is refused before it runs. Zero is no bound.
	StoreRequests Count `yaml:"storeRequests"`
}

// withDefaults returns the limits with the defaults for those that are not
// configured.
func (l Limits) withDefaults() Limits {
	return Limits{
		Body:    cmp.Or(l.Body, 1<<20),
		Timeout: cmp.Or(l.Timeout, Span(30*time.Second)),
		Plans:   cmp.Or(l.Plans, 64<<20),
		Fields:  cmp.Or(l.Fields, 20_000),
		Answer:  cmp.Or(l.Answer, 64<<20),
		Records: cmp.Or(l.Records, 1_000_000),
		Page:    cmp.Or(l.Page, 10_000),
		Errors:  cmp.Or(l.Errors, 1_000),

		StoreRequests: l.StoreRequests,
	}
}

// SourceConfig is one source of osprey.yaml.
type SourceConfig struct {
	Kind        string               `yaml:"kind"`
	URL         string               `yaml:"url"`
	Folder      string               `yaml:"folder"`
	Naming      string               `yaml:"naming"`
	Timeout     Span                 `yaml:"timeout"`
	Pool        Count                `yaml:"pool"`  // most requests at once
	Queue       Count                `yaml:"queue"` // most requests that wait for their turn
	Sample      Count                `yaml:"sample"`
	MaxRecords  Count                `yaml:"maxRecords"` // most records of an answer
	MaxAnswer   Size                 `yaml:"maxAnswer"`  // largest answer
	Concurrency Count                `yaml:"concurrency"`
	Headers     map[string]string    `yaml:"headers"`
	Forward     []string             `yaml:"forward"`
	Retries     *Count               `yaml:"retries"` // how often a failed request is made again
	Format      string               `yaml:"format"`  // json, which is the default, or jsonapi
	Sets        map[string]SetConfig `yaml:"sets"`
}

// SetConfig is one resource of a REST source.
type SetConfig struct {
	Key     Strings           `yaml:"key"`
	Fields  yaml.MapSlice     `yaml:"fields"`
	Related map[string]string `yaml:"related"` // of JSON:API: the sets that relationships lead to
	Reads   []ReadConfig      `yaml:"reads"`
}

// ReadConfig is one way to read a resource.
type ReadConfig struct {
	Get      string            `yaml:"get"`
	Many     string            `yaml:"many"`
	Pick     string            `yaml:"pick"`
	MaxKeys  Count             `yaml:"maxKeys"`
	Takes    map[string]string `yaml:"takes"` // comparisons by variable, such as "at atLeast"
	Sort     string            `yaml:"sort"`
	SortKeys map[string]string `yaml:"sortKeys"` // how the service names an order such as "at desc"
	Limit    string            `yaml:"limit"`
	Offset   string            `yaml:"offset"`
	Pages    *PagesConfig      `yaml:"pages"`
}

// PagesConfig is how a service answers in pages.
type PagesConfig struct {
	Link   bool   `yaml:"link"`
	Next   string `yaml:"next"`
	Cursor string `yaml:"cursor"`
	Number string `yaml:"number"`
	First  Count  `yaml:"first"`
	Count  string `yaml:"count"`
	Most   Count  `yaml:"most"`
}

// Strings is one string or a list of them.
type Strings []string

// UnmarshalYAML reads either form.
func (s *Strings) UnmarshalYAML(data []byte) error {
	var one string
	if yaml.Unmarshal(data, &one) == nil {
		*s = Strings{one}
		return nil
	}
	var many []string
	err := yaml.Unmarshal(data, &many)
	*s = many
	return err
}

// The rules under which problems of the configuration are told.
const (
	ruleConfig      = "configuration"
	ruleEnvironment = "environment"
)

// readConfig reads osprey.yaml. Places in its problems are in src.
func readConfig(src *language.Source, getenv func(string) (string, bool)) (*Config, language.Problems) {
	var problems language.Problems
	config := &Config{}
	body, broken := readLayout(src, getenv, &problems)
	if body != nil {
		if err := yaml.NodeToValue(body, config); err != nil && !problems.Failed() {
			addYAML(src, &problems, err)
		}
	}
	config.broken = broken
	config.Limits = config.Limits.withDefaults()
	config.Statements = cmp.Or(config.Statements, StatementsLoopback)
	if known := []string{StatementsLoopback, StatementsEveryone, StatementsNobody}; !slices.Contains(known, config.Statements) {
		problems.Add(ruleConfig, findText(src, "statements:"), "statements is %q; there are %s", config.Statements, strings.Join(known, ", "))
	}
	for _, host := range config.Hosts {
		if host == "" || strings.ContainsAny(host, "/:*") {
			problems.Add(ruleConfig, findText(src, "hosts:"), "hosts has %q, which is no name of a host such as port.example", host)
		}
	}
	for _, name := range sortedNames(config.Sources) {
		s := config.Sources[name]
		pos := findText(src, name+":")
		if s == nil {
			problems.Add(ruleConfig, pos, "the source %s is empty", name).Fix = "write { kind: postgres, url: … }"
			config.Sources[name], broken[name] = &SourceConfig{}, true
			continue
		}
		if s.Naming == "" {
			s.Naming = string(binding.Exact)
		}
		if !slices.Contains(binding.Namings, s.Naming) {
			problems.Add(ruleConfig, pos, "the source %s has the naming rule %q; there are %s", name, s.Naming, strings.Join(binding.Namings, ", "))
			broken[name] = true
		}
	}
	return config, problems
}

func sortedNames[T any](m map[string]T) []string {
	names := make([]string, 0, len(m))
	for name := range m {
		names = append(names, name)
	}
	sort.Strings(names)
	return names
}

// placeOf returns the place of a line and column.
func placeOf(src *language.Source, line, column int) language.Pos {
	offset := 0
	for range line - 1 {
		i := strings.IndexByte(src.Text[offset:], '\n')
		if i < 0 {
			break
		}
		offset += i + 1
	}
	return src.Pos(min(offset+column-1, len(src.Text)))
}

// findText returns the first place of a text, or the beginning.
func findText(src *language.Source, text string) language.Pos {
	return src.Pos(max(strings.Index(src.Text, text), 0))
}

// variable matches ${NAME} and ${NAME:-default}, as shells write them.
var variable = regexp.MustCompile(`\$\{([A-Za-z_][A-Za-z0-9_]*)(:-([^}]*))?\}`)

// expandVariables replaces environment variables; missing is told of those
// that are not set and have no default.
func expandVariables(text string, getenv func(string) (string, bool), missing func(name string)) string {
	return variable.ReplaceAllStringFunc(text, func(use string) string {
		m := variable.FindStringSubmatch(use)
		if v, ok := getenv(m[1]); ok && (v != "" || m[2] == "") {
			return v
		}
		if m[2] == "" {
			missing(m[1])
		}
		return m[3]
	})
}

// restFields reads the fields of a resource: name: kind, with "?" behind it
// for what may be missing and brackets around it for a list.
func restFields(list yaml.MapSlice) ([]fieldConfig, error) {
	var fields []fieldConfig
	var wrong []error
	for _, item := range list {
		name, word := fmt.Sprint(item.Key), fmt.Sprint(item.Value)
		f := fieldConfig{name: name}
		word, f.nullable = strings.CutSuffix(word, "?")
		if inner, ok := strings.CutPrefix(word, "["); ok {
			f.list, word = true, strings.TrimSuffix(inner, "]")
		} else if l, ok := item.Value.([]any); ok && len(l) == 1 {
			f.list, word = true, fmt.Sprint(l[0]) // [text] is a list in YAML too
		}
		var known bool
		if f.kind, known = store.KindNamed(word); !known {
			wrong = append(wrong, fmt.Errorf("the field %s is of the kind %q; there are bool, int, float, text, decimal, time, date, clock, uuid, json", name, word))
			continue
		}
		fields = append(fields, f)
	}
	return fields, errors.Join(wrong...)
}

type fieldConfig struct {
	name     string
	kind     store.Kind
	list     bool
	nullable bool
}
