package console_test

import (
	"context"
	"fmt"
	"log/slog"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"osprey/console"
	"osprey/demo/demotest"
	"osprey/project"
	"osprey/service"
)

// serveTypes serves types without stores.
func serveTypes(t *testing.T, text string) (url string, p *project.Project) {
	t.Helper()
	return serveIn(t, demotest.Folder(t, map[string]string{"osprey.yaml": "sources: {}\n", "schema/a.graphql": text}))
}

// serveIn serves the project in a folder.
func serveIn(t *testing.T, dir string) (url string, p *project.Project) {
	t.Helper()
	p, findings, err := project.Open(context.Background(), dir, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatalf("%v: %v", err, findings)
	}
	t.Cleanup(p.Close)
	s := httptest.NewServer(service.New(service.Config{Project: p, Console: console.Handler(), Log: slog.New(slog.DiscardHandler)}))
	t.Cleanup(s.Close)
	return s.URL, p
}

// TestTypesPage finds types and fields, says where they come from and who uses them, and draws how they lead to each other.
func TestTypesPage(t *testing.T) {
	url := serve(t)
	ctx := browser(t, url+"/console/types/PortCall.craft")
	do(t, ctx, contains("[data-test=type]", "One stay of a craft at the port."), chromedp.WaitVisible("#field-craft.here"))
	if got := text(t, ctx, "#field-craft"); !strings.Contains(got, "registry · craft, imo = its craft_imo") || !strings.Contains(got, "used by") || !strings.Contains(got, "Board") {
		t.Errorf("of the field is told %q", got)
	}
	if got := text(t, ctx, "[data-test=type]"); !strings.Contains(got, "Leads here") || !strings.Contains(got, "Query.portCalls") {
		t.Errorf("of the type is told %.900q", got)
	}
	// By keyboard, what has the words.
	do(t, ctx, chromedp.Focus("[data-test=type-words]"), chromedp.KeyEvent("tide station"), contains("[data-test=type-entry]", "TideStation"), chromedp.KeyEvent(kb.ArrowDown), chromedp.KeyEvent(kb.ArrowUp), chromedp.KeyEvent(kb.Enter),
		until(`location.pathname.startsWith('/console/types/') && location.pathname !== '/console/types/PortCall.craft'`))
	// The map around a type, and the whole, without a source.
	do(t, ctx, chromedp.Navigate(url+"/console/types/Inspection"), until(`document.querySelectorAll('[data-test=map-type]').length > 3`))
	few := eval[int](t, ctx, `document.querySelectorAll('[data-test=map-type]').length`)
	do(t, ctx, chromedp.Click("[data-test=map-near]"), until(fmt.Sprintf(`document.querySelectorAll('[data-test=map-type]').length > %d`, few+20)))
	all := eval[int](t, ctx, `document.querySelectorAll('[data-test=map-type]').length`)
	if n := eval[int](t, ctx, `[...document.querySelectorAll('[data-test=map-type]')].filter((e) => { const r = e.getBoundingClientRect(); return r.width < 20 || r.height < 12 || r.right > innerWidth || r.bottom > innerHeight }).length`); n > 0 {
		t.Errorf("%d types on the map cannot be read", n)
	}
	do(t, ctx, chromedp.Click(`//button[@data-test='map-source' and contains(., 'registry')]`), until(fmt.Sprintf(`document.querySelectorAll('[data-test=map-type]').length < %d`, all-5)))
	do(t, ctx, chromedp.Navigate(url+"/console/types/Nothing"), contains("[data-test=type]", "There is no type Nothing"))
}

// TestManyTypes draws and lists four hundred types.
func TestManyTypes(t *testing.T) {
	var b strings.Builder
	b.WriteString("type Query { t0: T0 @computed(expr: \"{}\") }\n")
	for i := range 400 {
		fmt.Fprintf(&b, "type T%d { id: Int next: T%d far: T%d }\n", i, (i*7+1)%400, (i*13+5)%400)
	}
	// Fields of types that nothing is stored of have no binding: this schema is for the map alone.
	text := strings.ReplaceAll(b.String(), "@computed(expr: \"{}\")", "@computed(expr: \"{'id': 1}\")")
	url, _ := serveTypes(t, text)
	ctx := browser(t, url+"/console/types/T5")
	do(t, ctx, chromedp.WaitVisible("[data-test=map-near]"), chromedp.Click("[data-test=map-near]"), until(`document.querySelectorAll('[data-test=map-type]').length === 400`))
	if n := eval[int](t, ctx, `document.querySelectorAll('[data-test=type-entry]').length`); n < 400 {
		t.Errorf("%d types are listed", n)
	}
}
