package docs

import (
	"context"
	"log/slog"
	"os"
	"regexp"
	"strings"
	"testing"

	"osprey"
	"osprey/demo/demotest"
)

func TestMain(m *testing.M) { demotest.Main(m) }

var block = regexp.MustCompile("(?s)```graphql\n(.*?)```")

// TestResolvers asks every question of the page about resolvers, with the types
// that stand there added to the harbour: each is answered without an error, and
// costs what its first line says.
func TestResolvers(t *testing.T) {
	demotest.Setenv(t)
	page, err := os.ReadFile("resolvers.md")
	if err != nil {
		t.Fatal(err)
	}
	options := []osprey.Option{osprey.WithLog(slog.New(slog.DiscardHandler))}
	var questions []string
	for _, m := range block.FindAllStringSubmatch(string(page), -1) {
		if strings.HasPrefix(m[1], "# ") {
			questions = append(questions, m[1])
		} else {
			options = append(options, osprey.WithSchema("resolvers.md", m[1]))
		}
	}
	service, err := osprey.Open(context.Background(), "../demo/harbour", options...)
	if err != nil {
		t.Fatal(err)
	}
	defer service.Close()
	for _, q := range questions {
		cost, _, _ := strings.Cut(strings.TrimPrefix(q, "# "), "\n")
		plan, err := service.Explain(osprey.Operation{Text: q})
		if err != nil {
			t.Errorf("%s\n%v", q, err)
			continue
		}
		if got, _, _ := strings.Cut(plan, "\n"); got != cost {
			t.Errorf("%s\ncosts %s", q, got)
		}
		a, err := service.Ask(context.Background(), osprey.Operation{Text: q})
		if err != nil || len(a.Errors) > 0 || strings.Contains(string(a.Data), `"mishaps":[]`) {
			t.Errorf("%s\ngives %s %v %v", q, a.Data, a.Errors, err)
		}
	}
	if len(questions) < 12 {
		t.Errorf("the page has %d questions", len(questions))
	}
}
