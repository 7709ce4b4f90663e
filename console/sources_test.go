package console_test

import (
	"context"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/jackc/pgx/v5"

	"osprey/demo/demotest"
)

// TestSourcesPage shows records as they are in the store, filtered and sorted there, sees what others write, and asks for one by an operation.
func TestSourcesPage(t *testing.T) {
	demotest.KeepRegistry(t)
	url := serve(t)
	ctx := browser(t, url+"/console/sources")
	do(t, ctx, until(`document.querySelectorAll('[data-test=source]').length === 5`), chromedp.Click(`//a[@data-test='source' and contains(., 'registry')]`), contains("[data-test=source-figures]", "under way"), contains("[data-test=source-figures]", "connections"), contains("[data-test=catalogue]", "quay_code, number"), chromedp.Click(`//table[@data-test='catalogue']//a[. = 'craft']`), until(`document.querySelectorAll('[data-test=stored-row]').length === 50`))
	do(t, ctx, chromedp.Click("[data-test=add-where]"), chromedp.SetValue("[aria-label=Field]", "imo"), chromedp.SendKeys("[data-test=where-value]", "9100112"+kb.Enter), until(`document.querySelectorAll('[data-test=stored-row]').length === 1`))
	if got := text(t, ctx, "[data-test=stored-row]"); !strings.Contains(got, "Old Undertow") {
		t.Errorf("shown is %q", got)
	}
	// After a write, a person looks here.
	db, err := pgx.Connect(context.Background(), demotest.Harbour().RegistryURL)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(context.Background())
	if _, err := db.Exec(context.Background(), "UPDATE craft SET name = 'New Undertow' WHERE imo = 9100112"); err != nil {
		t.Fatal(err)
	}
	do(t, ctx, chromedp.Click("[data-test=again]"), contains("[data-test=stored-row]", "New Undertow"), chromedp.Click("[data-test=ask-for]"), chromedp.WaitVisible(run), contains("[aria-label=Operation]", "9100112"), chromedp.Click(run), contains("[data-test=answer]", "New Undertow"))
	// What cannot be shown is told, with what to do; and pages are turned and sorted at the store.
	do(t, ctx, chromedp.Navigate(url+"/console/sources/tides/contacts"), contains("[data-test=rows-problem]", "cannot be read as a whole"))
	do(t, ctx, chromedp.Navigate(url+"/console/sources/registry/port_calls"), until(`document.querySelectorAll('[data-test=stored-row]').length === 50`), chromedp.Click("[data-test=next]"), contains(".filter", "51 to 100"), chromedp.Click(`//button[@data-test='stored-column' and contains(., 'cargo_t')]`), contains(".filter", "1 to 50"))
	do(t, ctx, chromedp.Click("[data-test=add-where]"), chromedp.SendKeys("[data-test=where-value]", "many"+kb.Enter), contains("[data-test=rows-problem]", `id is a int, which "many" is none`))
}

// TestNoSources says what to do where there is no source.
func TestNoSources(t *testing.T) {
	url, _ := serveTypes(t, "type Query { answer: Int @computed(expr: \"1\") }")
	ctx := browser(t, url+"/console/sources")
	do(t, ctx, contains(".sources", "There is no source yet"))
}
