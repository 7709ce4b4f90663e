package console_test

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"osprey/access"
	"osprey/console"
	"osprey/demo/demotest"
	"osprey/project"
	"osprey/publishing"
	"osprey/records"
	"osprey/service"
)

func TestMain(m *testing.M) { demotest.Main(m) }

// serve serves the harbour with its console.
func serve(t *testing.T) string {
	t.Helper()
	if _, err := os.Stat(filepath.Join(demotest.Root(), "console/dist/index.html")); err != nil {
		t.Fatal("the console is not built; run: make console")
	}
	demotest.Setenv(t)
	p, findings, err := project.Open(context.Background(), filepath.Join(demotest.Root(), "demo/harbour"), slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatalf("%v: %v", err, findings)
	}
	t.Cleanup(p.Close)
	s := httptest.NewServer(service.New(service.Config{Project: p, Console: console.Handler(), Log: slog.New(slog.DiscardHandler)}))
	t.Cleanup(s.Close)
	return s.URL
}

// browser opens a page in headless Chromium.
func browser(t *testing.T, url string) context.Context {
	t.Helper()
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.DisableGPU, chromedp.WindowSize(1280, 800),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true))
	ctx, cancel := chromedp.NewExecAllocator(context.Background(), options...)
	t.Cleanup(cancel)
	ctx, cancel = chromedp.NewContext(ctx)
	t.Cleanup(cancel)
	if err := chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800), chromedp.Navigate(url)); err != nil {
		t.Fatal(err)
	}
	return ctx
}

func do(t *testing.T, ctx context.Context, steps ...chromedp.Action[chromedp.Void]) {
	t.Helper()
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	if err := chromedp.Do(ctx, steps...); err != nil {
		t.Fatal(err)
	}
}

// text returns the text of an element when it is there.
func text(t *testing.T, ctx context.Context, selector string) string {
	t.Helper()
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	got, err := chromedp.Run(ctx, chromedp.Text(selector))
	if err != nil {
		t.Fatalf("%s: %v", selector, err)
	}
	return got
}

// eval evaluates an expression of JavaScript.
func eval[T any](t *testing.T, ctx context.Context, expression string) T {
	t.Helper()
	got, err := chromedp.Run(ctx, chromedp.Evaluate[T](expression))
	if err != nil && strings.Contains(err.Error(), "Cannot find context") { // the page was being left
		time.Sleep(200 * time.Millisecond)
		got, err = chromedp.Run(ctx, chromedp.Evaluate[T](expression))
	}
	if err != nil {
		t.Fatalf("%s: %v", expression, err)
	}
	return got
}

// until waits until an expression of JavaScript is true.
func until(expression string) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
		for {
			_, err := chromedp.Poll[bool](expression)(ctx, target)
			if err == nil || ctx.Err() != nil || !strings.Contains(err.Error(), "Cannot find context") && !strings.Contains(err.Error(), "navigated or closed") { // the page before was being left
				return err
			}
			time.Sleep(50 * time.Millisecond)
		}
	})
}

// write replaces the operation by typing.
func write(t *testing.T, ctx context.Context, operation string) {
	t.Helper()
	do(t, ctx,
		chromedp.Click(`[aria-label=Operation]`),
		chromedp.KeyEvent("a", chromedp.KeyModifiers(2)), // Ctrl
		chromedp.KeyEvent(kb.Backspace),
		chromedp.KeyEvent(operation),
	)
}

const (
	run     = `[data-test=run]`
	summary = `[data-test=wave-summary]`
)

// TestAsk writes an operation, runs it, and reads the answer and the strip.
func TestAsk(t *testing.T) {
	url := serve(t)
	ctx := browser(t, url+"/") // the root leads to the console
	do(t, ctx, chromedp.WaitVisible(run))
	// Brackets are closed while typing, so only the opening ones are typed.
	write(t, ctx, `{ quays { name station { name events(limit: 1) { at `)
	do(t, ctx, chromedp.Click(run), chromedp.WaitVisible(summary))
	if got := text(t, ctx, summary); got != "asked 3 store requests in 2 waves" {
		t.Errorf("the strip says %q", got)
	}
	if got := text(t, ctx, `[data-test=answer]`); !strings.Contains(got, "quays 6 items") || !strings.Contains(got, "name Old Quay") {
		t.Errorf("the answer shows %.300q", got)
	}
	if n := eval[int](t, ctx, `document.querySelectorAll('[data-test=wave]').length`); n != 2 {
		t.Errorf("the strip has %d waves, want 2", n)
	}
	if n := eval[int](t, ctx, `document.querySelectorAll('[data-test=request]').length`); n != 3 {
		t.Errorf("the strip has %d requests, want 3", n)
	}
	do(t, ctx, chromedp.Click(`[data-test=raw]`), chromedp.WaitVisible(`[data-test=answer] .cm-content`))
	if got := text(t, ctx, `[data-test=answer] .cm-content`); !strings.Contains(got, `"name": "Old Quay"`) {
		t.Errorf("the raw answer is %.300q", got)
	}
	// By keyboard, with another operation.
	write(t, ctx, `{ craft(imo: 9100112) { name `)
	do(t, ctx, chromedp.KeyEvent(kb.Enter, chromedp.KeyModifiers(2)),
		until(`document.querySelector('`+summary+`')?.textContent.includes('1 store request in 1 wave')`))
	if got := text(t, ctx, `[data-test=answer] .cm-content`); !strings.Contains(got, `"name": "Old Undertow"`) {
		t.Errorf("the answer by keyboard is %.300q", got)
	}
}

// TestPlanBeforeRunning asks for the waves without asking the stores.
func TestPlanBeforeRunning(t *testing.T) {
	url := serve(t)
	ctx := browser(t, url+"/console/")
	do(t, ctx, chromedp.WaitVisible(run))
	write(t, ctx, `{ stations { contact { officer `)
	demotest.Harbour().Tides.Requests()
	do(t, ctx, chromedp.Click(`[data-test=plan]`), chromedp.WaitVisible(summary))
	if got := text(t, ctx, summary); got != "would ask at least 2 store requests in 2 waves" {
		t.Errorf("the strip says %q", got)
	}
	if asked := demotest.Harbour().Tides.Requests(); len(asked) > 0 {
		t.Errorf("planning asked %q", asked)
	}
}

// TestErrorsPointIntoTheText runs an operation with faults.
func TestErrorsPointIntoTheText(t *testing.T) {
	url := serve(t)
	ctx := browser(t, url+"/console/")
	do(t, ctx, chromedp.WaitVisible(run))
	write(t, ctx, `{ quayz { name `)
	do(t, ctx, chromedp.Click(run), chromedp.WaitVisible(`[data-test=fault]`), until(`document.querySelector('.cm-lintRange-error')?.textContent === 'quayz'`))
	if got := text(t, ctx, `[data-test=fault]`); !strings.Contains(got, `did you mean "quays"?`) || !strings.Contains(got, "line 1, column 3") {
		t.Errorf("the error is %q", got)
	}
}

// TestHelpWhileWriting completes a field, underlines a fault as it is typed, and
// tells what a word means.
func TestHelpWhileWriting(t *testing.T) {
	url := serve(t)
	ctx := browser(t, url+"/console/")
	do(t, ctx, chromedp.WaitVisible(run))
	write(t, ctx, `{ q`)
	do(t, ctx, until(`[...document.querySelectorAll('.cm-completionLabel')].some((e) => e.textContent === 'quays')`), chromedp.Sleep(200*time.Millisecond), chromedp.KeyEvent(kb.Enter))
	do(t, ctx, until(`document.querySelector('[aria-label=Operation]').textContent.includes('{ quays}')`))
	do(t, ctx, chromedp.KeyEvent(` { nam `))
	do(t, ctx, until(`[...document.querySelectorAll('.cm-lintRange-error')].some((e) => e.textContent === 'nam')`))
	if n := eval[int](t, ctx, `document.querySelectorAll('[data-test=fault]').length`); n != 0 {
		t.Errorf("%d errors are shown before anything was run", n)
	}
	// Point at the word quays: the middle of its characters.
	place := eval[[]float64](t, ctx, `(() => { const walk = document.createTreeWalker(document.querySelector('[aria-label=Operation]'), NodeFilter.SHOW_TEXT);
		for (let n = walk.nextNode(); n; n = walk.nextNode()) { const i = n.data.indexOf('quays'); if (i >= 0) { const r = document.createRange(); r.setStart(n, i); r.setEnd(n, i + 5);
		const b = r.getBoundingClientRect(); return [b.x + b.width / 2, b.y + b.height / 2] } } return [0, 0] })()`)
	do(t, ctx, chromedp.MouseEvent(input.DispatchMouseEventTypeMouseMoved, place[0]-4, place[1]), chromedp.Sleep(100*time.Millisecond), chromedp.MouseEvent(input.DispatchMouseEventTypeMouseMoved, place[0], place[1]),
		until(`document.querySelector('.meaning')?.textContent.includes('Query.quays: [Quay!]')`))
}

// TestVariablesAndSavedOperations opens a saved operation and gives it a
// variable, first a wrong one.
func TestVariablesAndSavedOperations(t *testing.T) {
	url := serve(t)
	ctx := browser(t, url+"/console/")
	do(t, ctx, chromedp.WaitVisible(`[data-test=saved]`), chromedp.Click(`[data-test=saved]`), chromedp.WaitVisible(`.v-list-item`), chromedp.Sleep(300*time.Millisecond), chromedp.Click(`//*[contains(@class, 'v-list-item') and contains(., 'Board')]`), chromedp.Click(`[data-test=drawer-variables]`), chromedp.WaitVisible(`[aria-label=Variables]`), chromedp.Sleep(300*time.Millisecond),
		chromedp.Click(`[aria-label=Variables]`), chromedp.KeyEvent("a", chromedp.KeyModifiers(2)), chromedp.KeyEvent(`{"limit": `), chromedp.Click(run), chromedp.WaitVisible(`[data-test=trouble]`))
	if got := text(t, ctx, `[data-test=trouble]`); !strings.Contains(got, "The variables are not JSON") {
		t.Errorf("broken variables: %q", got)
	}
	do(t, ctx, chromedp.Click(`[aria-label=Variables]`), chromedp.KeyEvent("a", chromedp.KeyModifiers(2)), chromedp.KeyEvent(`{"limit": 3`), chromedp.Click(run), chromedp.WaitVisible(summary))
	if got := text(t, ctx, `[data-test=answer]`); !strings.Contains(got, "portCalls 3 items") {
		t.Errorf("the answer shows %.300q", got)
	}
	if got := text(t, ctx, summary); got != "asked 4 store requests in 2 waves" {
		t.Errorf("the strip says %q", got)
	}
}

// TestWriting runs a mutation, looks what it was, and breaks a rule.
func TestWriting(t *testing.T) {
	demotest.KeepRegistry(t)
	url := serve(t)
	ctx := browser(t, url+"/console/")
	do(t, ctx, chromedp.WaitVisible(run))
	write(t, ctx, `mutation { license(pilot: {name: "Wren Halloway", licence: "SK-900"}) { name licence } }`)
	do(t, ctx, chromedp.Click(run), chromedp.WaitVisible(summary))
	if got := text(t, ctx, `[data-test=answer]`); !strings.Contains(got, "Wren Halloway") {
		t.Errorf("the answer shows %.300q", got)
	}
	if got := text(t, ctx, summary); got != "asked 2 store requests in 2 waves" {
		t.Errorf("the strip says %q", got)
	}
	do(t, ctx, chromedp.Click(run), until(`document.querySelector('[data-test=fault]')?.textContent.includes('Pilot.licence "SK-900" is taken: another record has it')`))
}

// TestThemeIsKept changes the theme and loads the page again.
func TestThemeIsKept(t *testing.T) {
	url := serve(t)
	ctx := browser(t, url+"/console/")
	do(t, ctx, chromedp.WaitVisible(`[data-test=theme]`))
	theme := `document.querySelector('.v-application').className.match(/v-theme--(\w+)/)[1]`
	before := eval[string](t, ctx, theme)
	do(t, ctx, chromedp.Click(`[data-test=theme]`), chromedp.Sleep(200*time.Millisecond))
	after := eval[string](t, ctx, theme)
	do(t, ctx, chromedp.Reload(), chromedp.WaitVisible(`[data-test=theme]`))
	if kept := eval[string](t, ctx, theme); before == after || kept != after {
		t.Errorf("the theme was %s, then %s, and %s after loading again", before, after, kept)
	}
}

// TestConsoleFiles checks how the files are served.
func TestConsoleFiles(t *testing.T) {
	url := serve(t)
	res, err := http.Get(url + "/console/some/page")
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	page, _ := io.ReadAll(res.Body)
	if res.StatusCode != http.StatusOK || !strings.Contains(string(page), `<div id="app">`) || !strings.Contains(res.Header.Get("Content-Security-Policy"), "default-src 'self'") {
		t.Errorf("a page of the console answers %d %.200s", res.StatusCode, page)
	}
	if strings.Contains(string(page), "//") && strings.Contains(string(page), "http:") {
		t.Errorf("the console loads something from elsewhere:\n%s", page)
	}
}

// TestPlanWithoutStores plans an operation that asks for the schema alone.
func TestPlanWithoutStores(t *testing.T) {
	url := serve(t)
	ctx := browser(t, url+"/console/")
	do(t, ctx, chromedp.WaitVisible(`[data-test=plan]`))
	write(t, ctx, `{ __schema { queryType { name `)
	do(t, ctx, chromedp.Click(`[data-test=plan]`), chromedp.WaitVisible(summary))
	if got := text(t, ctx, summary); got != "would ask no store" {
		t.Errorf("the strip says %q", got)
	}
}

// TestTrouble shows what is wrong with saved files that cannot be served, until it is mended.
func TestTrouble(t *testing.T) {
	url, p := serveTypes(t, "type Query { answer: Int @computed(expr: \"1\") }")
	ctx := browser(t, url+"/console/")
	do(t, ctx, chromedp.WaitVisible("[data-test=run]"), chromedp.WaitNotPresent("[data-test=trouble]"))
	demotest.Write(t, p.Dir, map[string]string{"schema/a.graphql": "type Query { answer: Strng }"})
	if _, err := p.Reload(t.Context()); err == nil {
		t.Fatal("what is wrong is served")
	}
	do(t, ctx, chromedp.WaitVisible("[data-test=trouble]"))
	if got := text(t, ctx, "[data-test=trouble]"); !strings.Contains(got, "schema/a.graphql:1:22") || !strings.Contains(got, `the type Strng is not defined; did you mean "String"?`) {
		t.Errorf("shown is %q", got)
	}
	demotest.Write(t, p.Dir, map[string]string{"schema/a.graphql": "type Query { answer: Int @computed(expr: \"2\") }"})
	if _, err := p.Reload(t.Context()); err != nil {
		t.Fatal(err)
	}
	do(t, ctx, chromedp.WaitNotPresent("[data-test=trouble]"))
}

// TestRecords shows which revision is served, follows what is published without being loaded again,
// and saves operations for everybody.
func TestRecords(t *testing.T) {
	url, keeper := keep(t, "type Query { answer: Int @computed(expr: \"1\") }")
	ctx := browser(t, url+"/console/")
	const revision = "[data-test=revision]"
	do(t, ctx, chromedp.WaitVisible(revision))
	if got := text(t, ctx, revision); got != "revision 1" {
		t.Errorf("shown is %q", got)
	}
	files := project.Files{"osprey.yaml": "", "schema/a.graphql": "type Query { answer: Int @computed(expr: \"2\") }"}
	if _, err := keeper.Publish(t.Context(), &publishing.Publication{Files: files, By: "ann", Onto: records.Any}); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(20 * time.Second); text(t, ctx, revision) != "revision 2"; time.Sleep(50 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("shown is %q", text(t, ctx, revision))
		}
	}
	do(t, ctx, chromedp.Click("[data-test=save]"), chromedp.WaitVisible("[data-test=name] input"), chromedp.SendKeys("[data-test=name] input", strings.Repeat(kb.Backspace, 20)+"My board"), chromedp.Sleep(400*time.Millisecond), chromedp.Click("[data-test=keep]"), chromedp.WaitNotPresent("[data-test=keep]"))
	list, err := keeper.Records.Saved(t.Context())
	if err != nil || len(list) != 1 || list[0].Name != "My board" || !strings.Contains(list[0].Text, "answer") {
		t.Errorf("kept are %+v: %v", list, err)
	}
	do(t, ctx, chromedp.WaitVisible("[data-test=saved]"), chromedp.Click("[data-test=saved]"), chromedp.WaitVisible("[data-test=kept]"), chromedp.Sleep(300*time.Millisecond), chromedp.Click("[data-test=drop]"), chromedp.WaitNotPresent("[data-test=kept]"))
	if list, err := keeper.Records.Saved(t.Context()); err != nil || len(list) != 0 {
		t.Errorf("kept are %+v: %v", list, err)
	}
}

// TestKey asks for a key where the service does not know who asks, and uses it from then on, also for
// what is told while it happens.
func TestKey(t *testing.T) {
	key, screen := access.Make(), access.Make()
	dir := demotest.Folder(t, map[string]string{
		"osprey.yaml":      fmt.Sprintf("access:\n  console: [office]\n  keys:\n    %s: { name: Ada, hash: %q, roles: [office] }\n    %s: { name: Board, hash: %q, roles: [screen] }\n", key.ID, key.Hash, screen.ID, screen.Hash),
		"schema/a.graphql": "type Query { me: String @computed(expr: \"caller.name\") }",
	})
	p, findings, err := project.Open(context.Background(), dir, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatalf("%v: %v", err, findings)
	}
	t.Cleanup(p.Close)
	own := service.New(service.Config{Project: p, Console: console.Handler(), Log: slog.New(slog.DiscardHandler)})
	s := httptest.NewServer(own)
	t.Cleanup(s.Close)
	t.Cleanup(own.End)
	ctx := browser(t, s.URL+"/console/")
	const field = "[data-test=key] input"
	do(t, ctx, chromedp.WaitVisible(field), chromedp.Sleep(400*time.Millisecond), chromedp.SendKeys(field, "osprey_wrong_key"), chromedp.Click("[data-test=use]"), chromedp.Sleep(500*time.Millisecond), chromedp.WaitVisible(field))
	if got := text(t, ctx, "[data-test=key]"); !strings.Contains(got, "is not taken") {
		t.Errorf("shown is %q", got)
	}
	again := func(with string) {
		do(t, ctx, chromedp.Sleep(400*time.Millisecond), chromedp.SendKeys(field, with), chromedp.Click("[data-test=use]"), chromedp.Sleep(500*time.Millisecond))
	}
	again(screen.String())
	if got := text(t, ctx, "[data-test=key]"); !strings.Contains(got, "not for this caller") {
		t.Errorf("shown to a screen is %q", got)
	}
	do(t, ctx, chromedp.Sleep(400*time.Millisecond), chromedp.SendKeys(field, key.String()), chromedp.Click("[data-test=use]"), chromedp.WaitVisible("[data-test=other-key]"), chromedp.WaitNotPresent(field), chromedp.Sleep(300*time.Millisecond))
	do(t, ctx, chromedp.Click("[data-test=run]"), chromedp.WaitVisible("[data-test=answer]"))
	demotest.Write(t, dir, map[string]string{"schema/a.graphql": "type Query { me: Strng }"})
	if _, err := p.Reload(t.Context()); err == nil {
		t.Fatal("what is wrong is served")
	}
	do(t, ctx, chromedp.WaitVisible("[data-test=trouble]"))
}
