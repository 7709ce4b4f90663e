package console_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"osprey/demo/demotest"
)

// press presses a key with modifiers: 1 is Alt, 2 is Ctrl, 8 is Shift.
func press(key string, modifiers chromedp.Modifier) chromedp.Action[chromedp.Void] {
	return chromedp.KeyEvent(key, chromedp.KeyModifiers(modifiers))
}

// operation returns the text of the operation, line by line.
func operation(t *testing.T, ctx context.Context) string {
	t.Helper()
	return eval[string](t, ctx, `[...document.querySelectorAll('[aria-label=Operation] .cm-line')].map((l) => l.textContent).join('\n')`)
}

// contains waits until an element has a text.
func contains(selector, want string) chromedp.Action[chromedp.Void] {
	return until(fmt.Sprintf(`document.querySelector(%q)?.textContent.includes(%q)`, selector, want))
}

// TestFirstVisit begins with an operation of the project, of which at least 25 lines can be read beside 25 of its answer.
func TestFirstVisit(t *testing.T) {
	url := serve(t)
	ctx := browser(t, url+"/console/")
	do(t, ctx, contains("[aria-label=Operation]", "query Board"), chromedp.Click(run), contains("[data-test=answer]", "portCalls 25 items"))
	lines := eval[float64](t, ctx, `document.querySelector('.operation .cm-scroller').clientHeight / document.querySelector('[aria-label=Operation] .cm-line').getBoundingClientRect().height`)
	rows := eval[float64](t, ctx, `document.querySelector('[data-test=answer] .rows').clientHeight / document.querySelector('[data-test=answer] [role=treeitem]').getBoundingClientRect().height`)
	if lines < 25 || rows < 25 {
		t.Errorf("%.1f lines of the operation are in sight, and %.1f of the answer", lines, rows)
	}
	// It is there again, though the page is loaded anew; and so is another one, with its variables.
	do(t, ctx, chromedp.Click("[data-test=add-sheet]"))
	write(t, ctx, `query Mine($n: Int) { portCalls(limit: $n) { id `)
	do(t, ctx, chromedp.Click("[data-test=drawer-variables]"), chromedp.WaitVisible("[aria-label=Variables]"), chromedp.Click("[data-test=as-form]"), chromedp.WaitVisible("[data-test=variable-n]"),
		chromedp.SendKeys("[data-test=variable-n]", "7"+kb.Enter), chromedp.Click(run), contains("[data-test=answer]", "portCalls 7 items"))
	do(t, ctx, chromedp.Reload(), contains("[aria-label=Operation]", "query Mine"), until(`document.querySelectorAll('[data-test=sheet]').length === 2`), chromedp.Click(run), contains("[data-test=answer]", "portCalls 7 items"))
	do(t, ctx, chromedp.Click("[data-test=close-sheet]"), until(`document.querySelectorAll('[data-test=sheet]').length === 1`))
}

// TestPointing lights up in operation and answer what a request is for, and the request that a field came of.
func TestPointing(t *testing.T) {
	url := serve(t)
	ctx := browser(t, url+"/console/")
	do(t, ctx, chromedp.WaitVisible(run))
	write(t, ctx, `{ portCalls(limit: 2) { id craft { name inspections(limit: 1) { outcome `)
	do(t, ctx, chromedp.Click(run), until(`document.querySelectorAll('[data-test=request]').length === 2`), until(`document.querySelectorAll('.cm-from').length === 3`))
	do(t, ctx, chromedp.Click(`[data-test=request][aria-label^=inspections]`), chromedp.WaitVisible("[data-test=request-told]"))
	if got := text(t, ctx, "[data-test=request-told]"); !strings.Contains(got, "portCalls.craft.inspections") || !strings.Contains(got, "find inspections filter") || !strings.Contains(got, "planned ≤ 2") {
		t.Errorf("of the request is told %q", got)
	}
	if got := eval[string](t, ctx, `[...document.querySelectorAll('.cm-lit')].map((e) => e.textContent).join(' ')`); got != "inspections outcome" {
		t.Errorf("in the operation, %q is lit", got)
	}
	if n := eval[int](t, ctx, `document.querySelectorAll('[role=treeitem].lit').length`); n == 0 {
		t.Error("in the answer, nothing is lit")
	}
	// The other way round, with the cursor in the text.
	do(t, ctx, chromedp.Click(`[data-test=request][aria-label^=inspections]`), chromedp.Click("[aria-label=Operation]"), press(kb.Home, 2))
	for range 4 {
		do(t, ctx, chromedp.KeyEvent(kb.ArrowRight))
	}
	do(t, ctx, until(`document.querySelector('[data-test=request].lit')?.ariaLabel.startsWith('registry')`))
}

// TestMends does by keys what a message says, formats, and gives a variable another name.
func TestMends(t *testing.T) {
	url := serve(t)
	ctx := browser(t, url+"/console/")
	do(t, ctx, chromedp.WaitVisible(run))
	write(t, ctx, `query A($n: Int) { portCalls(limit: $n) { idd craft { name `)
	do(t, ctx, contains(".cm-lintRange-error", "idd"), press(".", 2), until(`!document.querySelector('[aria-label=Operation]').textContent.includes('idd')`), press("f", 9), contains("[aria-label=Operation]", "} } }"))
	if got := operation(t, ctx); got != "query A($n: Int) { portCalls(limit: $n) { id craft { name } } }\n" {
		t.Errorf("it is\n%s", got)
	}
	do(t, ctx, chromedp.Click("[aria-label=Operation]"), press(kb.Home, 2))
	for range 10 {
		do(t, ctx, chromedp.KeyEvent(kb.ArrowRight))
	}
	do(t, ctx, chromedp.KeyEvent(kb.F2), chromedp.WaitVisible("[data-test=rename] input"), chromedp.Sleep(400*time.Millisecond), chromedp.SendKeys("[data-test=rename] input", kb.Backspace+"most"+kb.Enter), contains("[aria-label=Operation]", "$most: Int"))
	if got := operation(t, ctx); strings.Count(got, "$most") != 2 || strings.Contains(got, "$n") {
		t.Errorf("it is\n%s", got)
	}
	// A text that cannot be formatted stays as it is, and why is told.
	write(t, ctx, `{ quays(`)
	do(t, ctx, press("f", 9), contains("[data-test=said]", "line 1, column"))
}

// TestAnswerViews shows an answer as a table, sorted and unfolded, as a chart, and finds values in it.
func TestAnswerViews(t *testing.T) {
	url := serve(t)
	ctx := browser(t, url+"/console/")
	do(t, ctx, chromedp.WaitVisible(run))
	write(t, ctx, `{ portCalls(limit: 30) { id cargoT craft { name } pilots { name `)
	do(t, ctx, chromedp.Click(run), contains("[data-test=answer]", "portCalls 30 items"), chromedp.Click("[data-test=table]"), until(`document.querySelectorAll('[data-test=table-row]').length === 30`))
	if got := eval[string](t, ctx, `[...document.querySelectorAll('[data-test=table-column]')].map((e) => e.textContent).join(' ')`); got != "id cargoT craft.name pilots" {
		t.Errorf("the columns are %s", got)
	}
	do(t, ctx, chromedp.Click(`//button[@data-test='table-column' and contains(., 'craft.name')]`), until(`document.querySelector('[aria-sort=ascending]')?.textContent.includes('craft.name')`), chromedp.Sleep(200*time.Millisecond))
	names := `[...document.querySelectorAll('[data-test=table-row]')].map((r) => r.children[3].textContent)`
	if !eval[bool](t, ctx, names+`.every((n, i, all) => i === 0 || all[i - 1].localeCompare(n) <= 0)`) {
		t.Error("the rows are not in order")
	}
	do(t, ctx, chromedp.Click("[data-test=table-row] button"), contains("[data-test=table-inner]", ".pilots"))
	do(t, ctx, chromedp.Click("[data-test=chart]"), until(`document.querySelector('[data-test=chart][role=img] canvas')?.width > 100`))
	do(t, ctx, chromedp.Click("[data-test=tree]"), chromedp.SendKeys("[data-test=search]", "cargot"), contains("[data-test=hits]", "30 found"))
	// What has changed since the run before is marked.
	do(t, ctx, chromedp.Click(run), contains("[data-test=changed]", "as before"))
}

// TestPicking writes fields that are marked in the tree of fields, and takes them out again.
func TestPicking(t *testing.T) {
	url := serve(t)
	ctx := browser(t, url+"/console/")
	do(t, ctx, chromedp.WaitVisible(run))
	write(t, ctx, `{ quays { name `)
	do(t, ctx, chromedp.Click("[data-test=drawer-fields]"), chromedp.WaitVisible("[data-test='pick-quays']"), until(`document.querySelector("[data-test='pick-quays']").checked`),
		chromedp.Click(`[aria-label="Open quays"]`), chromedp.WaitVisible("[data-test='pick-quays.station']"), chromedp.Click("[data-test='pick-quays.station']"), until(`document.querySelector("[data-test='pick-quays.station.code']")?.checked`))
	do(t, ctx, contains("[aria-label=Operation]", "station { code }"), chromedp.Click("[data-test='pick-quays.name']"), until(`!document.querySelector("[data-test='pick-quays.name']").checked`))
	do(t, ctx, chromedp.Click(run), contains("[data-test=answer]", "quays 6 items"))
	if got := operation(t, ctx); strings.Contains(got, "name") {
		t.Errorf("it is\n%s", got)
	}
}

// TestPast takes a question up again, with what was answered; and a link has an operation.
func TestPast(t *testing.T) {
	url := serve(t)
	ctx := browser(t, url+"/console/")
	do(t, ctx, chromedp.WaitVisible(run))
	write(t, ctx, `query Quays { quays { name `)
	do(t, ctx, chromedp.Click(run), contains("[data-test=answer]", "Old Quay"))
	write(t, ctx, `query Fleet { fleetSize `)
	do(t, ctx, chromedp.Click(run), contains("[data-test=answer]", "fleetSize"), chromedp.Click("[data-test=drawer-history]"), until(`document.querySelectorAll('[data-test=past]').length === 2`))
	demotest.Statements(t)
	do(t, ctx, chromedp.Click(`//button[@data-test='past' and contains(., 'Quays')]`), contains("[data-test=answer]", "Old Quay"), contains("[aria-label=Operation]", "query Quays"))
	do(t, ctx, chromedp.Navigate(url+"/console/#operation=%7B+fleetSize+%7D"), contains("[aria-label=Operation]", "{ fleetSize }"))
	if got := eval[string](t, ctx, "location.hash"); got != "" {
		t.Errorf("the address is %s still", got)
	}
}

// TestByKeyboard goes to a type, and runs an operation, without a pointer.
func TestByKeyboard(t *testing.T) {
	url := serve(t)
	ctx := browser(t, url+"/console/")
	do(t, ctx, chromedp.WaitVisible(run), press("k", 2), chromedp.WaitVisible("[data-test=palette-words]"), chromedp.Sleep(400*time.Millisecond), chromedp.KeyEvent("berth"), contains("[data-test=palette-entry]", "Berth"),
		chromedp.KeyEvent(kb.Enter), until(`location.pathname === '/console/types/Berth'`))
	do(t, ctx, press("k", 2), chromedp.WaitVisible("[data-test=palette-words]"), chromedp.Sleep(400*time.Millisecond), chromedp.KeyEvent("Run the"), contains("[data-test=palette-entry]", "Run the operation"), chromedp.KeyEvent(kb.Enter),
		contains("[data-test=answer]", "portCalls 25 items"))
	do(t, ctx, chromedp.KeyEvent("?"), chromedp.WaitVisible("[data-test=key-list]"), chromedp.Sleep(300*time.Millisecond), chromedp.KeyEvent(kb.Escape), chromedp.WaitNotPresent("[data-test=key-list]"))
	// The divider moves, and stays where it was left.
	do(t, ctx, chromedp.Focus("[data-test=divide-ask]"), chromedp.KeyEvent(kb.ArrowLeft), chromedp.KeyEvent(kb.ArrowLeft), until(`document.querySelector('[data-test=divide-ask]').ariaValueNow === '42'`), chromedp.Reload(), until(`document.querySelector('[data-test=divide-ask]')?.ariaValueNow === '42'`))
}

// TestLargeAnswer shows an answer of more than ten megabytes, searches it and scrolls in it, and draws no more than what is in sight.
func TestLargeAnswer(t *testing.T) {
	url := serve(t)
	ctx := browser(t, url+"/console/")
	do(t, ctx, chromedp.WaitVisible(run))
	var query strings.Builder
	query.WriteString("{ ")
	for i := range 14 {
		fmt.Fprintf(&query, "a%d: portCalls(limit: 4000) { id arrivedAt departedAt purpose cargoT craft { name imo lengthM operator { name country } } berth { name number quay { code name } } } ", i)
	}
	query.WriteString("}")
	eval[any](t, ctx, fmt.Sprintf(`location.hash = 'operation=' + encodeURIComponent(%q)`, query.String()))
	do(t, ctx, contains("[aria-label=Operation]", "a13: portCalls"))
	eval[any](t, ctx, `window.held = 0; new PerformanceObserver((l) => { for (const e of l.getEntries()) held = Math.max(held, e.duration) }).observe({ type: 'longtask' }); 1`)
	do(t, ctx, chromedp.Click(run), contains("[data-test=answer]", "a0 4000 items"))
	if size := eval[int](t, ctx, `Number(/ ([0-9.]+) KB/.exec(document.querySelector('[data-test=figures]').textContent)[1])`); size < 10_000 {
		t.Errorf("the answer has %d KB", size)
	}
	do(t, ctx, chromedp.SendKeys("[data-test=search]", "3999"), until(`/^\d+ found/.test(document.querySelector('[data-test=hits]')?.textContent)`))
	eval[any](t, ctx, `document.querySelector('[data-test=answer] .rows').scrollTop = 1e7`)
	do(t, ctx, until(`document.querySelectorAll('[data-test=answer] [role=treeitem]').length > 10`), chromedp.Click("[data-test=table]"), until(`document.querySelectorAll('[data-test=table-row]').length > 10`))
	if rows := eval[int](t, ctx, `document.querySelectorAll('[data-test=table-row]').length`); rows > 200 {
		t.Errorf("%d rows are drawn", rows)
	}
	t.Logf("the page was held up for %.0f ms at most", eval[float64](t, ctx, "held"))
}

// TestVariables completes variables by their types, tells what does not fit before anything is sent, writes them by a form that unfolds, and
// says what other limits would cost.
func TestVariables(t *testing.T) {
	url := serve(t)
	ctx := browser(t, url+"/console/")
	do(t, ctx, chromedp.WaitVisible(run))
	eval[any](t, ctx, fmt.Sprintf(`location.hash = 'operation=' + encodeURIComponent(%q)`, `query Filtered($filter: CraftFilter, $sort: [CraftSort!], $limit: Int! = 5) { fleet(filter: $filter, sort: $sort, limit: $limit) { name } }`))
	do(t, ctx, contains("[aria-label=Operation]", "query Filtered"), chromedp.Click("[data-test=drawer-variables]"), chromedp.WaitVisible("[aria-label=Variables]"), chromedp.Click("[aria-label=Variables]"), press("a", 2), chromedp.KeyEvent(kb.Backspace))
	given := `[...document.querySelectorAll('[aria-label=Variables] .cm-line')].map((l) => l.textContent).join('\n')`
	chosen := func(want string) chromedp.Action[chromedp.Void] {
		return until(fmt.Sprintf(`document.querySelector('.cm-tooltip-autocomplete [aria-selected]')?.textContent.startsWith(%q)`, want))
	}
	do(t, ctx, chromedp.KeyEvent(`{"`), chosen("filter"), chromedp.Sleep(200*time.Millisecond), enter, chosen("{}"), chromedp.Sleep(200*time.Millisecond), enter, chosen("all"), chromedp.KeyEvent(`"na`), chosen("name"), chromedp.Sleep(200*time.Millisecond),
		enter, chosen("{}"), chromedp.KeyEvent(kb.Escape))
	do(t, ctx, chromedp.KeyEvent("7"), contains("[data-test=variables-wrong]", "$filter: expected an input object StringFilter, found 7"), contains("[aria-label=Variables] .cm-lintRange-error", "7"))
	if got := eval[string](t, ctx, given); got != `{"filter": {"name": 7}}` {
		t.Errorf("written is %s", got)
	}
	// The form says the same at its place, and mends it.
	do(t, ctx, chromedp.Click("[data-test=as-form]"), contains("[data-test=variable-form]", "found 7"), chromedp.WaitVisible(`[data-test="variable-filter.lengthM"]`))
	do(t, ctx, chromedp.Click(`[data-test="variable-filter.name"]`), chromedp.WaitVisible(`[data-test="variable-filter.name.contains"]`), chromedp.SendKeys(`[data-test="variable-filter.name.contains"]`, "Lantern"+kb.Enter), chromedp.WaitNotPresent("[data-test=variables-wrong]"))
	do(t, ctx, chromedp.Click(run), contains("[data-test=answer]", "Lantern"), chromedp.Click("[data-test=cost]"), contains("[data-test=costs]", "$limit"))
	if got := eval[string](t, ctx, `[...document.querySelectorAll('[data-test=costs] td')].map((e) => e.textContent + (e.classList.contains('now') ? '*' : '')).join(' ')`); !strings.HasPrefix(got, "1 5* 10 50 100 500 1,000 11 11* 11 15 20 60 110") {
		t.Errorf("other limits cost %s", got)
	}
}
