package console_test

import (
	"context"
	"log/slog"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"osprey/console"
	"osprey/demo/demotest"
	"osprey/project"
	"osprey/service"
)

// TestStart begins a project: the first page says what to do, each step is ticked as it is done, the first operation is asked, and saved in
// the project.
func TestStart(t *testing.T) {
	dir := demotest.Folder(t, map[string]string{"osprey.yaml": "sources: {}\n"})
	p, findings, err := project.OpenWith(context.Background(), dir, slog.New(slog.DiscardHandler), &project.Additions{Begins: true})
	if err != nil {
		t.Fatalf("%v: %v", err, findings)
	}
	t.Cleanup(p.Close)
	s := httptest.NewServer(service.New(service.Config{Project: p, Console: console.Handler(), Log: slog.New(slog.DiscardHandler), Follows: true}))
	t.Cleanup(s.Close)
	save := func(files map[string]string) {
		t.Helper()
		demotest.Write(t, dir, files)
		if findings, err := p.Reload(t.Context()); err != nil {
			t.Fatalf("%v: %v", err, findings)
		}
	}
	next := func(name string) chromedp.Action[chromedp.Void] {
		return until(`document.querySelector('[aria-current=step]')?.dataset.test === 'step-` + name + `'`)
	}
	ctx := browser(t, s.URL+"/console/")
	do(t, ctx, until(`location.pathname === '/console/start'`), contains("[data-test=start-sum]", "no types yet"), next("sources"), contains("[data-test=step-sources]", "kind: postgres"))
	// It follows what is saved, without being loaded anew.
	save(map[string]string{"osprey.yaml": "sources: { port: { kind: files, folder: data } }\n", "data/craft.csv": "imo,name\n9100012,Grey Lantern\n"})
	do(t, ctx, next("types"), contains("[data-test=step-types]", "osprey derive port"), contains("[data-test=step-types]", "for craft"))
	save(map[string]string{"schema/port.graphql": `type Query { fleet(limit: Int = 9): [Craft!] @read } type Craft @stored(in: "port", as: "craft", key: "imo") { imo: ID! name: String }`})
	do(t, ctx, next("ask"), contains("[data-test=start-sum]", "1 type of 1 source"), chromedp.Click("[data-test=ask-first]"), contains("[aria-label=Operation]", "fleet(limit: 5)"), chromedp.Click(run), contains("[data-test=answer]", "name Grey Lantern"))
	do(t, ctx, chromedp.Click("[data-test=save]"), chromedp.WaitVisible("[data-test=name] input"), chromedp.SendKeys("[data-test=name] input", " and more"+kb.Enter), contains(".v-messages", "is no name of an operation's file"),
		chromedp.SendKeys("[data-test=name] input", strings.Repeat(kb.Backspace, len(" and more"))+kb.Enter), chromedp.WaitNotPresent("[data-test=name] input"))
	if text, err := os.ReadFile(filepath.Join(dir, "operations/First.graphql")); err != nil || !strings.Contains(string(text), "fleet(limit: 5)") {
		t.Errorf("the file has %q: %v", text, err)
	}
	do(t, ctx, chromedp.Click("[data-test=start]"), next("access"), contains("[data-test=step-operations]", "There is 1."), contains("[data-test=step-check]", "finds nothing"))
	// What is in the project is removed after a second look, and not if somebody has changed it since the list was read.
	do(t, ctx, chromedp.Click("[data-test=ask-first]"), chromedp.WaitVisible("[data-test=saved]"), chromedp.Click("[data-test=saved]"), contains("[data-test=of-project]", "First"), chromedp.Sleep(300*time.Millisecond), chromedp.Click("[data-test=drop-file]"), contains("[data-test=of-project]", "Its file goes"))
	save(map[string]string{"operations/First.graphql": "query First { fleet { name } }\n"})
	do(t, ctx, chromedp.Click("[data-test=drop-sure]"), contains(".v-list [role=alert]", "was changed in the meantime"), chromedp.KeyEvent(kb.Escape), chromedp.Sleep(1500*time.Millisecond), chromedp.Click("[data-test=saved]"), contains("[data-test=of-project]", "First"), chromedp.Sleep(300*time.Millisecond), chromedp.Click("[data-test=drop-file]"), chromedp.WaitVisible("[data-test=drop-sure]"), chromedp.Sleep(200*time.Millisecond), chromedp.Click("[data-test=drop-sure]"), chromedp.WaitNotPresent("[data-test=of-project]"))
	if text, err := os.ReadFile(filepath.Join(dir, "operations/First.graphql")); err == nil {
		t.Errorf("the file has still %q", text)
	}
}
