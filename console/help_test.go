package console_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"osprey/docs"
)

// TestHelp reads the pages in the console: the first one, one that is found by words,
// and what an error's code means, from where the error is shown; the operation is still
// there afterwards. Nothing is loaded from elsewhere.
func TestHelp(t *testing.T) {
	url := serve(t)
	ctx := browser(t, url+"/console/")
	do(t, ctx, chromedp.WaitVisible(run))
	write(t, ctx, `{ quays { nam `)
	do(t, ctx, chromedp.Click(run), chromedp.WaitVisible(`[data-test=fault] a`), chromedp.Click(`[data-test=fault] a`))
	do(t, ctx, until(`document.querySelector('[data-test=page] #invalid')?.getBoundingClientRect().top < 200`))
	if got := eval[string](t, ctx, `location.pathname + location.hash`); got != "/console/help/errors#invalid" {
		t.Errorf("the code leads to %s", got)
	}
	do(t, ctx, chromedp.Click(`[data-test=find] input`), chromedp.KeyEvent("join table"), chromedp.WaitVisible(`[data-test=found] a`), chromedp.Click(`[data-test=found] a`))
	do(t, ctx, until(`document.querySelector('[data-test=page] #many-to-many-a-join-table')?.getBoundingClientRect().top < 200`))
	do(t, ctx, chromedp.Click(`[data-test=find] input`), chromedp.KeyEvent("zzz"), until(`document.querySelector('[data-test=found]').innerText.includes('Nothing has these words')`))
	for range "join tablezzz" {
		do(t, ctx, chromedp.KeyEvent(kb.Backspace))
	}
	do(t, ctx, until(fmt.Sprintf(`document.querySelectorAll('nav[aria-label=Pages] a').length === %d`, len(docs.Pages()))))
	do(t, ctx, chromedp.Click(`a[href="/console/help/batching"]`), until(`document.querySelector('[data-test=page] img')?.naturalWidth > 100`))
	if got := text(t, ctx, `[data-test=page] h1`); got != "How batching works" {
		t.Errorf("the page is %q", got)
	}
	do(t, ctx, chromedp.Click(`[data-test=page] a[href="/console/help/osprey-yaml#limits"]`), until(`document.querySelector('[data-test=page] #limits')?.getBoundingClientRect().top < 200`))
	if others := eval[string](t, ctx, `performance.getEntriesByType('resource').map(e => e.name).filter(n => !n.startsWith(location.origin) && !n.startsWith('data:')).join(' ')`); others != "" {
		t.Errorf("loaded from elsewhere: %s", others)
	}
	do(t, ctx, chromedp.Click(`a[href="/console/"]`), chromedp.WaitVisible(run))
	if got := text(t, ctx, `[aria-label=Operation]`); !strings.Contains(got, "quays { nam") {
		t.Errorf("the operation is %q afterwards", got)
	}
}
