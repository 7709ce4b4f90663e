package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"text/tabwriter"

	"github.com/urfave/cli/v3"

	"osprey/core/plan"
	"osprey/project"
	"osprey/records"
)

// revisionsCommand returns "osprey revisions", which tells what was served when.
func revisionsCommand() *cli.Command {
	return &cli.Command{
		Name:      "revisions",
		Usage:     "tell what a running service serves, and served when, and who changed it",
		ArgsUsage: "[NUMBER]",
		Description: "Lists revisions, the newest first; with a number, tells that one: how it differs from what was\n" +
			"served before it, and, with --write, its files.\n\n" +
			"Example:\n   osprey revisions\n   osprey revisions 1",
		Flags: append(serviceFlags("url"), []cli.Flag{
			&cli.IntFlag{Name: "limit", Value: 20, Usage: "how many are listed"},
			&cli.IntFlag{Name: "before", Usage: "list those below this number"},
			&cli.StringFlag{Name: "write", Usage: "folder into which the files of the revision are written, which must not be there"},
			&cli.BoolFlag{Name: "follow", Usage: "go on, and tell what is served, and what is wrong, whenever that changes"},
			&cli.StringFlag{Name: "format", Value: "text", Usage: "text or json"},
		}...),
		OnUsageError: usageError,
		Action:       runRevisions,
	}
}

func runRevisions(ctx context.Context, c *cli.Command) error {
	ctx, format := keyed(ctx, c), c.String("format")
	switch {
	case format != "text" && format != "json":
		return wrongUse("--format is %q; it is text or json", format)
	case c.Int("limit") < 1 || c.Int("limit") > 1000:
		return wrongUse("--limit is a number from 1 to 1000, found %d", c.Int("limit"))
	case c.Bool("follow"):
		return follow(ctx, c)
	case c.Args().Present():
		return oneRevision(ctx, c)
	}
	path := fmt.Sprintf("/api/v1/revisions?limit=%d", c.Int("limit"))
	if n := c.Int("before"); n > 0 {
		path += fmt.Sprintf("&before=%d", n)
	}
	var list struct {
		Revisions []records.Revision `json:"revisions"`
		Serving   *project.Label     `json:"serving"`
	}
	var all struct {
		Instances []records.Instance `json:"instances"`
	}
	if err := callService(ctx, http.MethodGet, c.String("url"), path, nil, &list); err != nil {
		return err
	}
	if err := callService(ctx, http.MethodGet, c.String("url"), "/api/v1/instances", nil, &all); err != nil {
		return err
	}
	w := c.Root().Writer
	if format == "json" {
		return printJSON(w, map[string]any{"revisions": list.Revisions, "serving": list.Serving, "instances": all.Instances})
	}
	t := tabwriter.NewWriter(w, 2, 4, 2, ' ', 0)
	fmt.Fprintln(t, "NUMBER\tWHEN\tBY\tHOW\tCHANGES\tNOTE")
	for _, r := range list.Revisions {
		mark := ""
		if list.Serving != nil && list.Serving.ID == r.ID {
			mark = " *"
		}
		fmt.Fprintf(t, "%d%s\t%s\t%s\t%s\t%s\t%s\n", r.Number, mark, hourOf(r.At), r.By, how(&r), changes(&r), oneLine(r.Note))
	}
	t.Flush()
	fmt.Fprintln(w)
	if list.Serving == nil {
		fmt.Fprintln(w, "what is served is not among them yet")
	}
	for _, i := range all.Instances {
		serves := "serves what is not kept yet"
		if i.Serves != nil {
			serves = fmt.Sprintf("serves revision %d", *i.Serves)
		}
		fmt.Fprintf(w, "%s %s, and runs since %s\n", i.Name, serves, hourOf(i.Since))
		if i.Trouble != "" {
			fmt.Fprintf(w, "  %s\n", i.Trouble)
		}
	}
	return nil
}

// how says how a revision came.
func how(r *records.Revision) string {
	switch {
	case r.Origin == project.FromFiles:
		return "from files"
	case r.Restores != nil:
		return fmt.Sprintf("restores %d", *r.Restores)
	}
	return r.Origin
}

// changes counts the differences of a revision by their class.
func changes(r *records.Revision) string {
	var list []records.Difference
	if json.Unmarshal(r.Differences, &list) != nil || len(list) == 0 {
		return "-"
	}
	count := map[string]int{}
	for _, d := range list {
		count[d.Class]++
	}
	var parts []string
	for _, class := range []string{"breaking", "risky", "safe"} {
		if count[class] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", count[class], class))
		}
	}
	return strings.Join(parts, ", ")
}

func oneLine(text string) string {
	text, _, more := strings.Cut(strings.TrimSpace(text), "\n")
	if more {
		text += " …"
	}
	return text
}

// oneRevision tells a revision.
func oneRevision(ctx context.Context, c *cli.Command) error {
	n, err := oneNumber(c)
	if err != nil {
		return err
	}
	var rev records.Revision
	if err := callService(ctx, http.MethodGet, c.String("url"), fmt.Sprintf("/api/v1/revisions/%d", n), nil, &rev); err != nil {
		return err
	}
	var files project.Files
	var diffs []records.Difference
	if err := errors.Join(json.Unmarshal(rev.Files, &files), json.Unmarshal(rev.Differences, &diffs)); err != nil {
		return fmt.Errorf("revision %d cannot be read: %w", n, err)
	}
	w := c.Root().Writer
	if c.String("format") == "json" {
		return printJSON(w, rev)
	}
	fmt.Fprintf(w, "revision %d, %s, by %s, %s\n", rev.Number, how(&rev), rev.By, rev.At.Local().Format("2 January 2006 15:04:05"))
	if rev.Note != "" {
		fmt.Fprintf(w, "  %s\n", strings.ReplaceAll(rev.Note, "\n", "\n  "))
	}
	fmt.Fprintln(w)
	printDifferences(w, diffs)
	if to := c.String("write"); to != "" {
		if err := writeFiles(to, files); err != nil {
			return err
		}
		fmt.Fprintf(w, "\n%s has its %s\n", to, plan.Count(len(files), "file"))
	}
	return nil
}

// writeFiles writes the files of a revision into a new folder.
func writeFiles(dir string, files project.Files) error {
	if err := os.Mkdir(dir, 0o755); err != nil {
		return wrongUse("%s: a new folder is needed", inWords(err))
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	for path, text := range files {
		if err := root.MkdirAll(filepath.Dir(filepath.FromSlash(path)), 0o755); err != nil {
			return err
		}
		if err := root.WriteFile(filepath.FromSlash(path), []byte(text), 0o644); err != nil {
			return err
		}
	}
	return nil
}

// follow tells what is served, and what is wrong, until it is interrupted.
func follow(ctx context.Context, c *cli.Command) error {
	res, err := send(ctx, http.MethodGet, c.String("url"), "/api/v1/events", nil, nil, 0)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if res.StatusCode == http.StatusUnauthorized {
		return fmt.Errorf("the service at %s answers callers that it knows\n  → give a key by --key, or %s", c.String("url"), keyVariable)
	}
	if res.StatusCode != http.StatusOK {
		return unreachable(fmt.Errorf("the service at %s tells nothing: %s", c.String("url"), res.Status))
	}
	w := c.Root().Writer
	lines := bufio.NewScanner(res.Body)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		data, ok := strings.CutPrefix(lines.Text(), "data: ")
		if !ok {
			continue
		}
		if c.String("format") == "json" {
			fmt.Fprintln(w, data)
			continue
		}
		if err := tellNow(w, data); err != nil {
			return err
		}
	}
	if ctx.Err() != nil {
		return &coded{exitInterrupted, errTold}
	}
	return unreachable(fmt.Errorf("the service at %s has ended", c.String("url")))
}

// tellNow tells an event on lines.
func tellNow(w io.Writer, data string) error {
	var now struct {
		Serial   int64
		Revision *project.Label
		Files    *struct{ Problem, Place, Fix string }
		Records  *struct{ Problem, Revision string }
	}
	if err := json.Unmarshal([]byte(data), &now); err != nil {
		return err
	}
	if l := now.Revision; l != nil {
		fmt.Fprintf(w, "serves revision %d, by %s, of %s  %s\n", l.Number, l.By, hourOf(l.At), oneLine(l.Note))
	} else {
		fmt.Fprintln(w, "serves what is not kept as a revision")
	}
	if f := now.Files; f != nil {
		place := ""
		if f.Place != "" {
			place = f.Place + ": "
		}
		fmt.Fprintf(w, "  the files are not served: %s%s\n", place, f.Problem)
	}
	if r := now.Records; r != nil {
		for _, text := range []string{r.Problem, r.Revision} {
			if text != "" {
				fmt.Fprintf(w, "  %s\n", text)
			}
		}
	}
	return nil
}
