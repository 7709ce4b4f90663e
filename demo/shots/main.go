// Command shots takes the pictures of docs/screenshots from a running demo: the
// console's pages and what the main commands print.
//
//	make screenshots
package main

import (
	"context"
	"fmt"
	"html"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/chromedp"
)

const (
	service = "http://127.0.0.1:7420"
	folder  = "docs/screenshots"
)

// terminals are the commands whose output is shown.
var terminals = map[string]string{
	"ask":     "bin/osprey ask -f demo/harbour/operations/Board.graphql --var limit=1 --as tree --calls",
	"explain": "bin/osprey explain -f demo/harbour/operations/Board.graphql",
	"write":   "bin/osprey explain -f demo/harbour/operations/Arrive.graphql --var craft=9100112 --var at=2026-03-01T08:30:00Z --var quay=Q1 --var berth=2",
	"errors":  "bin/osprey ask '{ portCalls(limt: 2) { arivedAt craft { nam } } }' --as tree",
	"check":   "bin/osprey check --types-only demo/harbour --operations docs/examples/wrong.graphql",
}

func main() {
	if err := take(); err != nil {
		fmt.Fprintln(os.Stderr, "shots:", err)
		os.Exit(1)
	}
}

func take() error {
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true))
	ctx, cancel := chromedp.NewExecAllocator(context.Background(), options...)
	defer cancel()
	ctx, cancel = chromedp.NewContext(ctx)
	defer cancel()
	for name, command := range terminals {
		out, _ := exec.Command("sh", "-c", command).CombinedOutput() // an exit code that is not 0 is part of the picture
		if err := terminal(ctx, name, "$ "+strings.Replace(command, "bin/", "", 1)+"\n"+string(out)); err != nil {
			return err
		}
	}
	if err := publishing(ctx); err != nil {
		return err
	}
	drawing, err := exec.Command("bin/osprey", "explain", "--format", "svg", "-f", "demo/harbour/operations/Board.graphql").Output()
	if err != nil {
		return fmt.Errorf("the drawing: %w", err)
	}
	if err := picture(ctx, "waves", 390, chromedp.Navigate("data:image/svg+xml;charset=utf-8,"+url.PathEscape(string(drawing)))); err != nil {
		return err
	}
	if err := tables(ctx); err != nil {
		return err
	}
	if err := inEditor(ctx); err != nil {
		return err
	}
	board, err := os.ReadFile("demo/harbour/operations/Board.graphql")
	if err != nil {
		return err
	}
	const moves = "# What happens to port calls, as it happens.\nsubscription Movements {\n  movements {\n    what\n    changed\n    now {\n      id\n      craft { name operator { name } }\n      berth { name quay { name notices(limit: 1) { title } } }\n      departedAt\n    }\n  }\n}\n"
	for _, page := range []struct{ name, operation, theme, button, done string }{
		{"console-ask", string(board), "harbour", "run", "wave-summary"},
		{"console-live", moves, "night", "run", "event"},
	} {
		if err := console(ctx, page.name, page.operation, page.theme, page.button, page.done); err != nil {
			return fmt.Errorf("%s: %w", page.name, err)
		}
	}
	return pages(ctx)
}

// pages draws the other pages of the console.
func pages(ctx context.Context) error {
	for name, steps := range map[string][]chromedp.Action[chromedp.Void]{
		"console-start":     {chromedp.Navigate(service + "/console/start"), chromedp.WaitVisible("[data-test=step-check] .finding")},
		"console-access":    {chromedp.Navigate(service + "/console/access"), chromedp.WaitVisible("[data-test=try-role]"), chromedp.Click("[data-test=try-role]"), chromedp.WaitVisible("[data-test=trial] pre")},
		"console-types":     {chromedp.Navigate(service + "/console/types/PortCall"), chromedp.WaitVisible("[data-test=map-type]")},
		"console-map":       {chromedp.Navigate(service + "/console/types/Inspection"), chromedp.WaitVisible("[data-test=map-near]"), chromedp.Click("[data-test=map-near]"), chromedp.Sleep(time.Second)},
		"console-sources":   {chromedp.Navigate(service + "/console/sources/registry/port_calls"), chromedp.WaitVisible("[data-test=stored-row]")},
		"console-traffic":   {chromedp.Navigate(service + "/console/traffic"), chromedp.WaitVisible("[data-test=tally] button"), chromedp.Click("//tr[@data-test='tally' and contains(., 'Fees')]//button"), chromedp.WaitVisible("[data-test=sample]"), chromedp.WaitVisible("[data-test=request]")},
		"console-revisions": {chromedp.Navigate(service + "/console/revisions"), chromedp.WaitVisible("[data-test=beside] pre")},
	} {
		theme := "night"
		if name == "console-start" || name == "console-types" || name == "console-access" {
			theme = "harbour"
		}
		if err := chromedp.Do(ctx, chromedp.Navigate(service+"/console/help")); err != nil {
			return err
		}
		if _, err := chromedp.Run(ctx, chromedp.Evaluate[any](fmt.Sprintf("localStorage.setItem('osprey.theme', %q)", theme))); err != nil {
			return err
		}
		if err := picture(ctx, name, 800, append(steps, chromedp.Sleep(900*time.Millisecond))...); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	return nil
}

// terminal draws text as a terminal shows it.
func terminal(ctx context.Context, name, text string) error {
	lines := strings.Split(strings.TrimRight(text, "\n"), "\n")
	page := "<body style='margin:0;background:#10191c;color:#d6e2e1;font:13px/1.45 DejaVu Sans Mono,monospace'><pre style='margin:18px 22px;white-space:pre-wrap'>" +
		html.EscapeString(strings.Join(lines, "\n")) + "</pre>"
	height := int64(min(max(len(lines)*19+60, 200), 1000))
	return picture(ctx, name, height, chromedp.Navigate("data:text/html;charset=utf-8,"+url.PathEscape(page)))
}

// publishing draws what is told of a change that breaks what is asked, and of what was served and is
// asked: first, somebody asks.
func publishing(ctx context.Context) error {
	dir, err := os.MkdirTemp("", "osprey-shots-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	harbour := filepath.Join(dir, "harbour")
	if err := os.CopyFS(harbour, os.DirFS("demo/harbour")); err != nil {
		return err
	}
	steps := `
		for i in 1 2 3 4 5; do bin/osprey ask -f demo/harbour/operations/Board.graphql --var limit=$i; done
		for i in 1 2 3; do bin/osprey ask 'query Lengths($imo: ID!) { craft(imo: $imo) { name lengthFt } }' --var imo=9100112; done
		bin/osprey ask '{ quays { name } }'; bin/osprey ask '{ quays { nam } }'
		for i in 1 2 3 4; do bin/osprey ask 'query Fees { portCalls(limit: 30) { id fee(days: -4) { amount } craft { name inspections { outcome } } } }'; done
		bin/osprey publish demo/harbour --note "as it is in the folder" --by ada
		printf 'extend type Berth { deep: Boolean! @computed(expr: "record.maxDraughtDm >= 100") }' > "$0"/schema/deep.graphql
		bin/osprey publish "$0" --note "berths say whether they are deep" --by bea; sleep 3
		sed -i '/As the old papers/d; /lengthFt/d' "$0"/schema/*.graphql "$0"/operations/*.graphql
	`
	_ = exec.Command("sh", "-c", steps, harbour).Run() // one of them is wrong on purpose
	text := ""
	for _, command := range []string{`bin/osprey publish harbour --note "no feet any more"`, "bin/osprey revisions --limit 2", "bin/osprey traffic --limit 6"} {
		out, _ := exec.Command("sh", "-c", strings.Replace(command, " harbour ", " "+harbour+" ", 1)).CombinedOutput()
		text += "$ " + strings.Replace(command, "bin/", "", 1) + "\n" + strings.TrimRight(string(out), "\n") + "\n\n"
	}
	return terminal(ctx, "publish", text)
}

// inEditor draws what Neovim shows of a file of types.
func inEditor(ctx context.Context) error {
	dir, err := os.MkdirTemp("", "osprey-shots-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	screen := filepath.Join(dir, "screen")
	cmd := exec.Command("script", "-qec", "stty cols 118 rows 36; nvim -u NONE -n -c 'luafile demo/shots/editor.lua'", os.DevNull)
	cmd.Env = append(os.Environ(), "SCREEN="+screen, "TERM=xterm-256color")
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("the editor: %w\n%s", err, out)
	}
	text, err := os.ReadFile(screen)
	if err != nil {
		return fmt.Errorf("the editor: %w", err)
	}
	return terminal(ctx, "editor", string(text))
}

// traffic has some craft come in, and leave.
const traffic = `
	for berth in 1 2 3 4; do
		bin/osprey ask -f demo/harbour/operations/Arrive.graphql --var craft=$((9100000+7*berth)) --var at=2026-03-0${berth}T08:30:00Z --var quay=Q$berth --var berth=$berth
		sleep 1
	done
	for id in 3998 3999; do bin/osprey ask 'mutation Depart($id: ID!) { depart(id: $id) { id } }' --var id=$id; sleep 1; done
`

// console draws the Ask page after a button was pressed.
func console(ctx context.Context, name, operation, theme, button, done string) error {
	variables := "{}"
	if strings.Contains(operation, "$limit") {
		variables = `{\n  "limit": 25\n}`
	}
	set := fmt.Sprintf(`localStorage.setItem('osprey.sheets', JSON.stringify({ sheets: [{ id: '1', operation: %q, variables: '%s', headers: '', live: false }], active: '1' })); localStorage.setItem('osprey.theme', %q); localStorage.removeItem('osprey.past')`, operation, variables, theme)
	return picture(ctx, name, 800,
		chromedp.Navigate(service+"/console/"),
		chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
			_, err := chromedp.Evaluate[any](set)(ctx, t)
			return err
		}),
		chromedp.Reload(),
		chromedp.WaitVisible("[data-test="+button+"]"),
		chromedp.Sleep(500*time.Millisecond),
		chromedp.Click("[data-test="+button+"]"),
		chromedp.Func(func(context.Context, *chromedp.Target) error {
			if done != "event" {
				return nil
			}
			time.Sleep(time.Second)
			return exec.Command("sh", "-c", traffic).Run()
		}),
		chromedp.WaitVisible("[data-test="+done+"]"),
		chromedp.Sleep(700*time.Millisecond),
	)
}

// tables takes the drawing of the registry's tables.
func tables(ctx context.Context) error {
	drawing, err := exec.Command("bin/osprey", "tables", "plan", "--format", "svg", "--project", "demo/harbour", "registry").Output()
	if err != nil {
		return fmt.Errorf("the tables: %w", err)
	}
	return picture(ctx, "tables", 560, chromedp.Navigate("data:image/svg+xml;charset=utf-8,"+url.PathEscape(string(drawing))))
}

func picture(ctx context.Context, name string, height int64, steps ...chromedp.Action[chromedp.Void]) error {
	steps = append([]chromedp.Action[chromedp.Void]{chromedp.EmulateViewport(1280, height)}, steps...)
	if err := chromedp.Do(ctx, steps...); err != nil {
		return err
	}
	png, err := chromedp.Run(ctx, chromedp.CaptureScreenshot())
	if err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(folder, name+".png"), png, 0o644)
}
