package main_test

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"osprey/demo/demotest"
)

// TestHelp finds by the words of a stranger what a stranger looks for: the first line is
// the heading of the part that tells it, and the README leads there, too.
func TestHelp(t *testing.T) {
	readme, err := os.ReadFile(filepath.Join(demotest.Root(), "README.md"))
	if err != nil {
		t.Fatal(err)
	}
	for words, want := range map[string]struct{ heading, link string }{
		"join table":         {"### Many-to-many: a join table", "bindings.md#many-to-many-a-join-table"},
		"count related rows": {"## Aggregates: count related rows", "lists.md#aggregates-count-related-rows"},
		"page backwards":     {"## Pagination", "lists.md#pagination"},
		"require a header":   {"### Require a header", "deployment.md#require-a-header"},
		"behind a proxy":     {"## Run behind a proxy: names of hosts", "deployment.md#run-behind-a-proxy-names-of-hosts"},
		"slow":               {"## It is slow", "troubleshooting.md#it-is-slow"},
		"write a source":     {"## Write a source of your own", "embedding.md#write-a-source-of-your-own"},
		"report a fault":     {"## Report a fault", "contributing.md#report-a-fault"},
		"STORE_DOWN":         {"### STORE_DOWN", "errors.md"},
		"related":            {"## @related", "directives.md"},
		"lists#filters":      {"## Filters", "lists.md"},
		"lists":              {"# Lists: filters, sorting, pagination, aggregates", "lists.md"},
	} {
		out, errs, code := osprey(t, append([]string{"help"}, strings.Fields(words)...)...)
		if first, _, _ := strings.Cut(out, "\n"); code != 0 || first != want.heading {
			t.Errorf("osprey help %s exits with %d: %.200s%s", words, code, out, errs)
		}
		if !strings.Contains(string(readme), "(docs/"+want.link+")") {
			t.Errorf("the README does not lead to %s", want.link)
		}
		if strings.Contains(out, "<!--") || regexp.MustCompile(`\]\([\w-]+\.md`).MatchString(out) {
			t.Errorf("osprey help %s shows what is for viewers of Markdown:\n%s", words, out)
		}
	}
	if out, _, code := osprey(t, "help"); code != 0 || !strings.Contains(out, "TOPICS:") || !strings.Contains(out, "batching         How batching works") {
		t.Errorf("osprey help: %d %s", code, out)
	}
	if out, _, code := osprey(t, "help", "explain"); code != 0 || !strings.Contains(out, "osprey explain - show the store requests") {
		t.Errorf("osprey help explain: %d %s", code, out)
	}
	if out, _, code := osprey(t, "help", "require", "header"); code != 0 || !strings.HasPrefix(out, `### Require a header`) {
		t.Errorf("osprey help require header: %d %s", code, out)
	}
	if out, _, code := osprey(t, "help", "forward"); code != 0 || !strings.Contains(out, "osprey help sources#rest") {
		t.Errorf("osprey help forward: %d %s", code, out)
	}
	if _, errs, code := osprey(t, "help", "zzz", "qqq"); code != 2 || !strings.Contains(errs, `nothing is known of "zzz qqq"; osprey help lists the topics`) {
		t.Errorf("osprey help of nothing: %d %s", code, errs)
	}
}
