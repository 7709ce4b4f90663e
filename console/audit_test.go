package console_test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// nameless lists what can be worked with and has no name for a screen reader (WAI-ARIA 1.2, section 5.2.8.6).
const nameless = `(() => {
	const named = (e) => e.getAttribute('aria-label') || e.getAttribute('aria-labelledby') || e.innerText?.trim() || e.title || e.placeholder || e.labels?.[0]?.innerText.trim() || e.querySelector('title')?.textContent
	const seen = (e) => { const r = e.getBoundingClientRect(); return r.width > 0 && r.height > 0 && getComputedStyle(e).visibility !== 'hidden' }
	return [...document.querySelectorAll('a, button, input, select, textarea, [role=button], [role=tab], [role=textbox], [role=separator], [role=tree], [tabindex="0"]')].filter((e) => seen(e) && !named(e)).map((e) => e.outerHTML.slice(0, 120)).slice(0, 5)
})()`

// faint lists texts whose contrast with what is behind them is less than 4.5 to 1, or 3 to 1 of large ones (WCAG 2.2, 1.4.3).
const faint = `(() => {
	const canvas = document.createElement('canvas').getContext('2d', { willReadFrequently: true })
	const rgba = (c) => { canvas.clearRect(0, 0, 1, 1); canvas.fillStyle = c; canvas.fillRect(0, 0, 1, 1); const d = canvas.getImageData(0, 0, 1, 1).data; return [d[0], d[1], d[2], d[3] / 255] }
	const over = (a, b) => [0, 1, 2].map((i) => a[i] * a[3] + b[i] * (1 - a[3])).concat(1)
	const light = (c) => { const [r, g, b] = c.slice(0, 3).map((v) => { v /= 255; return v <= 0.04045 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4 }); return 0.2126 * r + 0.7152 * g + 0.0722 * b }
	const behind = (e) => { const layers = []; for (; e; e = e.parentElement) { const c = rgba(getComputedStyle(e).backgroundColor); if (c[3] > 0) layers.push(c); if (c[3] === 1) break } return layers.reverse().reduce((under, c) => over(c, under), [255, 255, 255, 1]) }
	const found = []
	const walk = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT)
	for (let n = walk.nextNode(); n; n = walk.nextNode()) {
		const e = n.parentElement
		if (!n.data.trim() || !e || e.closest('svg, script, style, .label.within, [aria-hidden=true]')) continue
		const range = document.createRange(); range.selectNode(n)
		const r = range.getBoundingClientRect()
		const style = getComputedStyle(e)
		if (!r.width || !r.height || style.visibility === 'hidden' || r.bottom < 0 || r.top > innerHeight) continue
		let opacity = 1
		for (let p = e; p; p = p.parentElement) opacity *= Number(getComputedStyle(p).opacity)
		if (opacity < 0.2 || e.closest('[disabled], .v-btn--disabled')) continue
		const back = behind(e)
		const ink = rgba(style.color); ink[3] *= opacity
		const [a, b] = [light(over(ink, back)), light(back)].sort((x, y) => y - x)
		const size = parseFloat(style.fontSize)
		const least = size >= 24 || (size >= 18.66 && Number(style.fontWeight) >= 700) ? 3 : 4.5
		const ratio = (a + 0.05) / (b + 0.05)
		if (ratio < least) found.push(n.data.trim().slice(0, 40) + ' ' + ratio.toFixed(2) + ' ' + e.className)
	}
	return [...new Set(found)].slice(0, 8)
})()`

// visit opens a page; again, where the one before was still being left.
func visit(t *testing.T, ctx context.Context, url string) {
	t.Helper()
	if err := chromedp.Do(ctx, chromedp.Navigate(url)); err != nil {
		time.Sleep(300 * time.Millisecond)
		do(t, ctx, chromedp.Navigate(url))
	}
}

// A look is a page as it is looked at.
type look struct {
	path  string
	steps []chromedp.Action[chromedp.Void]
}

func steps(list ...chromedp.Action[chromedp.Void]) []chromedp.Action[chromedp.Void] { return list }

// audit looks at pages, in both themes and three widths: what has no name, what cannot be read, what is wider than the window.
func audit(t *testing.T, url string, pages []look) {
	t.Helper()
	ctx := browser(t, url+"/console/")
	do(t, ctx, chromedp.WaitVisible(run))
	for _, theme := range []string{"harbour", "night"} {
		for _, page := range pages {
			do(t, ctx, chromedp.EmulateViewport(1280, 800))
			visit(t, ctx, url+"/console/help")
			eval[any](t, ctx, fmt.Sprintf(`localStorage.setItem('osprey.theme', '%s'); localStorage.removeItem('osprey.sheets'); localStorage.removeItem('osprey.drawer'); sessionStorage.removeItem('osprey.draft'); 1`, theme))
			visit(t, ctx, url+page.path)
			do(t, ctx, page.steps...)
			for _, width := range []int64{1280, 800, 400} { // what is drawn follows the window
				do(t, ctx, chromedp.EmulateViewport(width, 800), chromedp.Sleep(200*time.Millisecond))
				for _, what := range []string{nameless, faint} {
					if list := eval[[]string](t, ctx, what); len(list) > 0 {
						t.Errorf("%s, %s, %d wide: %s", page.path, theme, width, strings.Join(list, "\n\t"))
					}
				}
				if over := eval[int](t, ctx, `document.querySelector('.main').scrollWidth - innerWidth`); over > 0 {
					t.Errorf("%s, %s: %d pixels are beyond the width of %d", page.path, theme, over, width)
				}
			}
		}
	}
}

// TestAudit looks at the pages of the harbour: full, wrong, and where the service keeps no records.
func TestAudit(t *testing.T) {
	audit(t, serve(t), []look{
		{"/console/", steps(chromedp.WaitVisible(run), chromedp.Click(run), contains("[data-test=answer]", "portCalls"), chromedp.Click("[data-test=request]"), chromedp.Click("[data-test=drawer-history]"), chromedp.Sleep(300*time.Millisecond))},
		{"/console/#operation=query+A($a:Int){quayz}", steps(contains("[aria-label=Operation]", "quayz"), chromedp.Click(run), chromedp.WaitVisible("[data-test=fault]"), chromedp.Click("[data-test=drawer-fields]"), chromedp.Sleep(500*time.Millisecond))},
		{"/console/#operation=query+A($filter:CraftFilter,$limit:Int=3){fleet(filter:$filter,limit:$limit){name}}&variables={\"filter\":{\"name\":7},\"x\":1}", steps(contains("[aria-label=Operation]", "query A"), chromedp.Click("[data-test=drawer-variables]"), chromedp.WaitVisible("[data-test=variables-wrong]"), chromedp.Click("[data-test=as-form]"), chromedp.WaitVisible("[data-test=variable-form]"), chromedp.Sleep(300*time.Millisecond), chromedp.Click("[data-test=as-form]"))},
		{"/console/", steps(contains("[aria-label=Operation]", "query Board"), chromedp.Click("[data-test=plan]"), chromedp.WaitVisible("[data-test=cost]"), chromedp.Click("[data-test=cost]"), chromedp.WaitVisible("[data-test=costs]"), chromedp.Sleep(400*time.Millisecond))},
		{"/console/start", steps(contains("[data-test=start-sum]", "5 sources"), contains("[data-test=step-check]", "finds 2 things"))},
		{"/console/access", steps(chromedp.WaitVisible("[data-test=access-problem]"), chromedp.Click("[data-test=try-role]"), contains("[data-test=trial]", "portCalls"))},
		{"/console/sources/registry", steps(chromedp.WaitVisible("[data-test=source-figures]"), chromedp.WaitVisible("[data-test=catalogue]"))},
		{"/console/types/TideStation.contact", steps(chromedp.WaitVisible("[data-test=finding]"))},
		{"/console/types/PortCall.fee", steps(chromedp.WaitVisible("#field-fee"), until(`document.querySelectorAll('[data-test=map-type]').length > 3`))},
		{"/console/sources/registry/craft", steps(until(`document.querySelectorAll('[data-test=stored-row]').length > 10`), chromedp.Click("[data-test=add-where]"))},
		{"/console/sources/tides/contacts", steps(chromedp.WaitVisible("[data-test=rows-problem]"), chromedp.Click("[data-test=source-findings] summary"))},
		{"/console/traffic", steps(chromedp.WaitVisible("[data-test=traffic-problem]"))},
		{"/console/help/live", steps(chromedp.WaitVisible("[data-test=page] h1"))},
	})
}

// TestAuditOfRecords looks at the pages that need records: with what was asked, a revision that is being changed, and keys.
func TestAuditOfRecords(t *testing.T) {
	url, _ := keep(t, buoys)
	asks(t, url, "board", "query Board { answer }")
	asks(t, url, "tool", "query Wrong { nothing }")
	ctx := browser(t, url+"/console/access")
	do(t, ctx, chromedp.WaitVisible("[data-test=add-key]"), chromedp.Click("[data-test=add-key]"), chromedp.WaitVisible("[data-test=key-name]"), chromedp.SendKeys("[data-test=key-name]", "board"+kb.Enter), chromedp.WaitVisible("[data-test=key-row]"))
	for end := time.Now().Add(20 * time.Second); ; time.Sleep(200 * time.Millisecond) {
		do(t, ctx, chromedp.Navigate(url+"/console/traffic"), chromedp.WaitVisible("[data-test=order]"), chromedp.Sleep(200*time.Millisecond))
		if eval[int](t, ctx, `document.querySelectorAll('[data-test=tally]').length`) == 2 {
			break
		}
		if time.Now().After(end) {
			t.Fatal("what was asked is not counted")
		}
	}
	audit(t, url, []look{
		{"/console/traffic", steps(chromedp.WaitVisible("[data-test=tally]"), chromedp.Click(`//tr[@data-test='tally' and contains(., 'refused')]//button`), chromedp.WaitVisible("[data-test=sample]"), chromedp.Click("[data-test=unused] summary"))},
		{"/console/revisions", steps(chromedp.WaitVisible("[data-test=edit]"), chromedp.Click("[data-test=edit]"), chromedp.WaitVisible("[data-test=text]"), chromedp.Click("[data-test=try]"), contains("[data-test=outcome]", "change nothing"))},
		{"/console/access", steps(chromedp.WaitVisible("[data-test=revoke]"), chromedp.Click("[data-test=revoke]"), chromedp.Click("[data-test=add-key]"), chromedp.WaitVisible("[data-test=key-name]"))},
	})
}

// TestLoad holds the first load of the Ask page below 350 KB, compressed, from the service alone.
func TestLoad(t *testing.T) {
	url := serve(t)
	ctx := browser(t, url+"/console/")
	do(t, ctx, contains("[aria-label=Operation]", "query Board"), chromedp.Sleep(500*time.Millisecond))
	total := 0
	for _, name := range eval[[]string](t, ctx, `[location.href].concat(performance.getEntriesByType('resource').map((e) => e.name))`) {
		if !strings.HasPrefix(name, url) {
			t.Errorf("%s is loaded from elsewhere", name)
		}
		if !strings.Contains(name, "/console/") && !strings.HasSuffix(name, ".svg") {
			continue // what is asked of the service
		}
		req, _ := http.NewRequest(http.MethodGet, name, nil)
		req.Header.Set("Accept-Encoding", "gzip")
		res, err := http.DefaultTransport.RoundTrip(req)
		if err != nil {
			t.Fatal(err)
		}
		n, _ := io.Copy(io.Discard, res.Body)
		res.Body.Close()
		total += int(n)
		if res.Header.Get("Content-Encoding") != "gzip" && n > 5000 {
			t.Errorf("%s is not compressed", name)
		}
	}
	t.Logf("%d KB", total/1000)
	if total > 350_000 {
		t.Errorf("the first load is %d KB", total/1000)
	}
}
