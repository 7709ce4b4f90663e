package console_test

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"osprey/demo/demotest"
)

// struck strikes a key as a keyboard does: what takes the key keeps it from being written.
func struck(key, text string, code int64) chromedp.Action[chromedp.Void] {
	return chromedp.Func(func(ctx context.Context, target *chromedp.Target) error {
		for _, kind := range []input.DispatchKeyEventType{"keyDown", "keyUp"} {
			if _, err := cdp.Call(ctx, target, input.DispatchKeyEvent, input.DispatchKeyEventParams{Type: kind, Key: key, Code: key, Text: text, WindowsVirtualKeyCode: code}); err != nil {
				return err
			}
		}
		return nil
	})
}

var (
	enter = struck("Enter", "\r", 13)
	space = struck(" ", " ", 32)
	tab   = struck("Tab", "", 9)
)

// tabTo goes by Tab to an element with a text, whose focus must be seen.
func tabTo(t *testing.T, ctx context.Context, selector, words string) {
	t.Helper()
	do(t, ctx, until(fmt.Sprintf(`[...document.querySelectorAll(%q)].some((e) => e.textContent.includes(%q))`, selector, words)))
	for range 200 {
		do(t, ctx, tab)
		if eval[bool](t, ctx, fmt.Sprintf(`document.activeElement.matches(%q) && document.activeElement.textContent.includes(%q)`, selector, words)) {
			if !eval[bool](t, ctx, `(() => { const s = getComputedStyle(document.activeElement); return s.outlineStyle !== 'none' && parseFloat(s.outlineWidth) > 0 || document.activeElement.matches('input, .v-btn') })()`) {
				t.Errorf("that %s has the focus is not seen", selector)
			}
			return
		}
	}
	t.Fatalf("Tab does not lead to %s with %q; it is at %s", selector, words, eval[string](t, ctx, `document.activeElement.outerHTML.slice(0, 200)`))
}

// goTo goes to a page by the palette.
func goTo(t *testing.T, ctx context.Context, title, path string) {
	t.Helper()
	do(t, ctx, press("k", 2), chromedp.WaitVisible("[data-test=palette-words]"), chromedp.Sleep(400*time.Millisecond), chromedp.KeyEvent(title), contains("[data-test=palette-entry]", title), enter, until(fmt.Sprintf(`location.pathname.startsWith(%q)`, path)), chromedp.Sleep(300*time.Millisecond))
}

// TestStoresByKeyboard reads records of a store, sorts and filters them, and asks for one, without a pointer.
func TestStoresByKeyboard(t *testing.T) {
	demotest.KeepRegistry(t)
	ctx := browser(t, serve(t)+"/console/")
	do(t, ctx, chromedp.WaitVisible(run))
	goTo(t, ctx, "Sources", "/console/sources")
	tabTo(t, ctx, "[data-test=source]", "registry")
	do(t, ctx, enter)
	tabTo(t, ctx, "[data-test=catalogue] a", "craft")
	do(t, ctx, enter, until(`document.querySelectorAll('[data-test=stored-row]').length === 50`))
	tabTo(t, ctx, "[data-test=add-where]", "")
	do(t, ctx, enter)
	tabTo(t, ctx, "[data-test=where-value]", "")
	do(t, ctx, chromedp.KeyEvent("9100112"), enter, until(`document.querySelectorAll('[data-test=stored-row]').length <= 1`))
	tabTo(t, ctx, "[data-test=stored-column]", "name")
	do(t, ctx, space, until(`document.querySelector('[aria-sort=ascending]')?.textContent.includes('name')`))
	goTo(t, ctx, "Help", "/console/help")
	tabTo(t, ctx, "a", "Told when something changes")
	do(t, ctx, enter, until(`location.pathname.endsWith('/help/live')`))
	goTo(t, ctx, "Start", "/console/start")
	tabTo(t, ctx, "[data-test=ask-first]", "Ask")
	do(t, ctx, enter, chromedp.WaitVisible(run))
}

// TestRecordsByKeyboard looks at what is asked, changes a type and publishes it, makes a key and revokes it, without a pointer.
func TestRecordsByKeyboard(t *testing.T) {
	url, _ := keep(t, buoys)
	asks(t, url, "board", "query Board { answer }")
	ctx := browser(t, url+"/console/traffic")
	untilCounted(t, ctx, "Board")
	tabTo(t, ctx, "[data-test=tally] button", "Board")
	do(t, ctx, enter, contains("[data-test=tally-one]", "board 1"))
	goTo(t, ctx, "Revisions", "/console/revisions")
	tabTo(t, ctx, "[data-test=edit]", "")
	do(t, ctx, enter, chromedp.WaitVisible("[data-test=text]"))
	tabTo(t, ctx, "[data-test=text]", "")
	do(t, ctx, press(kb.End, 2), chromedp.KeyEvent(" "), press("a", 2), chromedp.KeyEvent(kb.Backspace), chromedp.KeyEvent("sources: {}\nlimits: { fields: 50 }"))
	for _, at := range []string{"try", "serve"} {
		eval[any](t, ctx, `document.activeElement.blur()`)
		tabTo(t, ctx, "[data-test="+at+"]", "")
		do(t, ctx, enter, chromedp.Sleep(300*time.Millisecond))
		if at == "try" {
			do(t, ctx, chromedp.WaitVisible("[data-test=outcome]"))
			eval[any](t, ctx, `document.querySelector('[data-test=by]')?.focus()`)
			do(t, ctx, chromedp.KeyEvent("ann"))
		}
	}
	do(t, ctx, until(`location.pathname.endsWith('/revisions/2')`))
	goTo(t, ctx, "Access", "/console/access")
	tabTo(t, ctx, "[data-test=add-key]", "")
	do(t, ctx, enter, chromedp.WaitVisible("[data-test=key-name]"), until(`document.activeElement.dataset.test === 'key-name'`), chromedp.KeyEvent("board"), enter, chromedp.WaitVisible("[data-test=key-row]"))
	tabTo(t, ctx, "[data-test=revoke]", "")
	do(t, ctx, enter)
	tabTo(t, ctx, "[data-test=revoke-sure]", "")
	do(t, ctx, enter, until(`!document.querySelector('[data-test=key-row]')`))
}
