package service

import (
	"maps"
	"net/http"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/go-chi/chi/v5"

	"osprey/project"
)

// TestReferenceOfHTTP holds the table of docs/http.md to have every path that is served.
func TestReferenceOfHTTP(t *testing.T) {
	text, err := os.ReadFile("../docs/http.md")
	if err != nil {
		t.Fatal(err)
	}
	told := map[string]bool{}
	for _, m := range regexp.MustCompile("(?m)^\\| ([A-Z, ]+) \\| `([^`]+)` \\|").FindAllStringSubmatch(string(text), -1) {
		for _, method := range strings.Split(m[1], ", ") {
			told[method+" "+m[2]] = true
		}
	}
	served := map[string]bool{}
	s := New(Config{Project: &project.Project{Own: &project.Config{}}, Console: http.NotFoundHandler()})
	err = chi.Walk(s.router.(chi.Routes), func(method, route string, _ http.Handler, _ ...func(http.Handler) http.Handler) error {
		switch route {
		case "/", "/console", "/api/v1/pages/screenshots/{name}": // which lead on, or belong to a page
			return nil
		case "/console/*":
			method, route = "GET", "/console/"
		}
		served[method+" "+route] = true
		return nil
	})
	if err != nil || !maps.Equal(told, served) {
		t.Errorf("served are\n%s\nand docs/http.md tells\n%s %v", strings.Join(slices.Sorted(maps.Keys(served)), "\n"), strings.Join(slices.Sorted(maps.Keys(told)), "\n"), err)
	}
}
