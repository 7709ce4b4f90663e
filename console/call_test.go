package console_test

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// TestAsACall shows the operation as a call of a program, which a shell runs as it is shown.
func TestAsACall(t *testing.T) {
	url := serve(t)
	ctx := browser(t, url+"/console/")
	do(t, ctx, chromedp.WaitVisible(run))
	write(t, ctx, `query ($n: Int) { quays { name berths { number } } portCalls(limit: $n) { id `)
	do(t, ctx, chromedp.Click(`[data-test=call]`), chromedp.WaitVisible(`[data-test=call-python]`), chromedp.Sleep(400*time.Millisecond), chromedp.Click(`[data-test=call-python]`), chromedp.WaitVisible(`[data-test=call-text]`))
	if got := text(t, ctx, `[data-test=call-text]`); !strings.HasPrefix(got, "import json\n") || !strings.Contains(got, url+"/graphql") || !strings.Contains(got, "quays { name berths { number } }") {
		t.Errorf("in Python, it is shown as %s", got)
	}
	do(t, ctx, chromedp.KeyEvent(kb.Escape), chromedp.WaitNotPresent(`.v-overlay--active`), chromedp.Sleep(400*time.Millisecond))
	do(t, ctx, chromedp.Click(`[data-test=call]`), chromedp.WaitVisible(`[data-test=call-curl]`), chromedp.Sleep(400*time.Millisecond), chromedp.Click(`[data-test=call-curl]`), chromedp.WaitVisible(`[data-test=call-text]`), chromedp.Sleep(400*time.Millisecond))
	file := filepath.Join(t.TempDir(), "a.sh")
	if err := os.WriteFile(file, []byte(text(t, ctx, `[data-test=call-text]`)+"\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("sh", file)
	cmd.Env = append(os.Environ(), "OSPREY_KEY=")
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := cmd.Run(); err != nil || !strings.HasPrefix(out.String(), `{"data":{"quays":[{"name":"Old Quay"`) {
		t.Errorf("run by a shell, it gives %.300s %v", out.String(), err)
	}
}
