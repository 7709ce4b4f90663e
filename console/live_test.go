package console_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/jackc/pgx/v5"

	"osprey/demo/demotest"
)

// TestFollow shows what happens as it happens, waits when it is told to, and shows what each took.
func TestFollow(t *testing.T) {
	url := serve(t)
	demotest.KeepRegistry(t)
	db, err := pgx.Connect(context.Background(), demotest.Harbour().RegistryURL)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(context.Background())
	move := func(id int) {
		t.Helper()
		if _, err := db.Exec(context.Background(), "UPDATE port_calls SET cargo_t = coalesce(cargo_t, 0) + 1 WHERE id = $1", id); err != nil {
			t.Fatal(err)
		}
	}
	shown := func(n int) chromedp.Action[chromedp.Void] {
		return until(fmt.Sprintf(`document.querySelectorAll('[data-test=event]').length === %d`, n))
	}
	ctx := browser(t, url+"/console/")
	do(t, ctx, chromedp.WaitVisible(run))
	write(t, ctx, `subscription { movements { what changed now { id craft { inspections(limit: 1) { outcome `)
	do(t, ctx, until(`document.querySelector('`+run+`').textContent.includes('Follow')`), chromedp.Click(run), chromedp.WaitVisible(`[data-test=events]`), chromedp.Sleep(1e9))
	move(100)
	do(t, ctx, shown(1), until(`document.querySelector('`+summary+`').textContent.startsWith('asked')`), until(`document.querySelector('[data-test=answer]').textContent.includes('cargoT')`))
	if got := text(t, ctx, summary); got != "asked 2 store requests in 2 waves" {
		t.Errorf("the strip says %q", got)
	}
	if got := text(t, ctx, "[data-test=answer]"); !strings.Contains(got, "what CHANGED") || !strings.Contains(got, "id 100") || !strings.Contains(got, "1 cargoT") {
		t.Errorf("shown is %q", got)
	}
	move(101)
	do(t, ctx, shown(2), until(`document.querySelector('[data-test=answer]').textContent.includes('101')`))
	do(t, ctx, chromedp.Click("[data-test=pause]"))
	move(102)
	move(103)
	do(t, ctx, chromedp.WaitVisible("[data-test=waiting]"), until(`document.querySelector('[data-test=told]').textContent.includes('4 told')`))
	if n := eval[int](t, ctx, `document.querySelectorAll('[data-test=event]').length`); n != 2 {
		t.Errorf("while it waits, %d are shown", n)
	}
	do(t, ctx, chromedp.Click("[data-test=pause]"), shown(4))
	do(t, ctx, chromedp.Click("[data-test=stop]"), chromedp.WaitVisible(run))
	move(104)
	do(t, ctx, chromedp.Sleep(1e9/2), shown(4))
	// A query, answered again.
	write(t, ctx, `{ portCall(id: 104) { cargoT `)
	do(t, ctx, chromedp.Click("[data-test=live] input"), chromedp.Click(run), shown(1))
	move(104)
	do(t, ctx, shown(2))
	// One that is refused says why.
	write(t, ctx, `subscription { movements { wat `)
	do(t, ctx, chromedp.Click("[data-test=stop]"), chromedp.WaitVisible(run), chromedp.Click(run), chromedp.WaitVisible("[data-test=fault]"))
	if got := text(t, ctx, "[data-test=fault]"); !strings.Contains(got, `Movement has no field "wat"`) {
		t.Errorf("the fault is told by %q", got)
	}
}
