package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"osprey/core/plan"
	"osprey/project"
	"osprey/publishing"
	"osprey/records"
)

// publishFlags are those of who publishes or restores.
func publishFlags() []cli.Flag {
	return append(serviceFlags("to"), []cli.Flag{
		&cli.StringFlag{Name: "note", Aliases: []string{"m"}, Usage: "what for"},
		&cli.StringFlag{Name: "by", Usage: "who publishes it (default: user@host)"},
		&cli.IntFlag{Name: "onto", Value: -1, Usage: "the number of the published revision that it is based on, 0 for none (default: the last one now); if another was published since, it is refused"},
		&cli.BoolFlag{Name: "anyway", Usage: "publish it even if it breaks operations that are asked"},
		&cli.BoolFlag{Name: "try", Usage: "only tell what would come of it"},
		&cli.StringFlag{Name: "format", Value: "text", Usage: "text or json"},
	}...)
}

// publishCommand returns "osprey publish", which sends a project to running services.
func publishCommand() *cli.Command {
	return &cli.Command{
		Name:      "publish",
		Usage:     "have running services serve a project",
		ArgsUsage: "[DIR]",
		Description: "Sends osprey.yaml, schema/ and operations/ to a service that keeps records. The service holds\n" +
			"them against its stores, and against the operations that were asked of late; if all is well, all\n" +
			"services that share the records serve them, within a second. Requests under way end on what was\n" +
			"served before. What breaks operations that are asked is refused, with who asks them. The exit\n" +
			"code is 1 where it is refused.\n\n" +
			"Example:\n   osprey publish demo/harbour --note \"berths say how deep they are\" --try",
		Flags:        append(publishFlags(), &cli.BoolFlag{Name: "operations", Usage: "send the operations of DIR alone, beside what is served: those of the same files are replaced"}),
		OnUsageError: usageError,
		Action: func(ctx context.Context, c *cli.Command) error {
			dir, err := oneFolder(c)
			if err != nil {
				return err
			}
			if c.Bool("operations") {
				return publishOperations(ctx, c, dir)
			}
			files, err := project.ReadFiles(dir)
			if err != nil {
				return err
			}
			return publish(ctx, c, "/api/v1/revisions", dir, files)
		},
	}
}

// restoreCommand returns "osprey restore", which makes a revision the current one again.
func restoreCommand() *cli.Command {
	return &cli.Command{
		Name:      "restore",
		Usage:     "have running services serve a revision from before",
		ArgsUsage: "NUMBER",
		Description: "Publishes the texts of a revision again, under a new number, with the same checks as osprey\n" +
			"publish; osprey revisions lists them.\n\n" +
			"Example:\n   osprey restore 1 --try",
		Flags:        publishFlags(),
		OnUsageError: usageError,
		Action: func(ctx context.Context, c *cli.Command) error {
			n, err := oneNumber(c)
			if err != nil {
				return err
			}
			return publish(ctx, c, fmt.Sprintf("/api/v1/revisions/%d/restore", n), "", nil)
		},
	}
}

// publishOperations publishes what is served, with the operations of a folder.
func publishOperations(ctx context.Context, c *cli.Command, dir string) error {
	own, err := project.ReadOperations(dir)
	if err != nil {
		return wrongUse("the operations cannot be read from %s", inWords(err))
	}
	if len(own) == 0 {
		return wrongUse("%s has no operations: files that end in .graphql", dir)
	}
	var list struct {
		Published int64
		Serving   *project.Label
	}
	if err := callService(keyed(ctx, c), http.MethodGet, c.String("to"), "/api/v1/revisions?limit=1", nil, &list); err != nil {
		return err
	}
	var last struct{ Files project.Files }
	number := list.Published
	if number == 0 && list.Serving != nil {
		number = list.Serving.Number
	}
	if number > 0 {
		if err := callService(keyed(ctx, c), http.MethodGet, c.String("to"), fmt.Sprintf("/api/v1/revisions/%d", number), nil, &last); err != nil {
			return err
		}
	}
	files := project.Files{}
	maps.Copy(files, last.Files)
	maps.Copy(files, own)
	return publishOnto(ctx, c, "/api/v1/revisions", dir, files, list.Published)
}

// oneNumber reads the only argument of a command, which is the number of a revision.
func oneNumber(c *cli.Command) (int64, error) {
	var n int64
	if _, err := fmt.Sscanf(c.Args().First(), "%d", &n); c.Args().Len() != 1 || err != nil || n < 1 || fmt.Sprint(n) != c.Args().First() {
		return 0, wrongUse("say the number of a revision: osprey %s 3; osprey revisions lists them", c.Name)
	}
	return n, nil
}

// A publication is what is sent; of what is restored, without files.
type publication struct {
	Files  project.Files `json:"files,omitempty"`
	By     string        `json:"by"`
	Note   string        `json:"note"`
	Onto   int64         `json:"onto"`
	Anyway bool          `json:"anyway"`
	Try    bool          `json:"try"`
}

// An outcome is what a service tells of a publication.
type outcome struct {
	publishing.Outcome
	Findings []project.FindingJSON `json:"findings"`
}

// publish sends a publication, and tells what came of it.
func publish(ctx context.Context, c *cli.Command, path, dir string, files project.Files) error {
	return publishOnto(ctx, c, path, dir, files, int64(c.Int("onto")))
}

// publishOnto is [publish] of what is based on a published revision; -1 is the last one now.
func publishOnto(ctx context.Context, c *cli.Command, path, dir string, files project.Files, onto int64) error {
	ctx = keyed(ctx, c)
	format, to := c.String("format"), c.String("to")
	if format != "text" && format != "json" {
		return wrongUse("--format is %q; it is text or json", format)
	}
	p := publication{files, c.String("by"), c.String("note"), onto, c.Bool("anyway"), c.Bool("try")}
	if p.By == "" {
		p.By = publishing.Myself()
	}
	if p.Onto < 0 {
		var last struct{ Published int64 }
		if err := callService(ctx, http.MethodGet, to, "/api/v1/revisions?limit=1", nil, &last); err != nil {
			return err
		}
		p.Onto = last.Published
	}
	var out outcome
	err := callService(ctx, http.MethodPost, to, path, p, &out)
	w := c.Root().Writer
	var refused *refusal
	if errors.As(err, &refused) {
		return tellRefused(c, refused, dir, files)
	}
	if err != nil {
		return err
	}
	if format == "json" {
		if out.Findings == nil {
			out.Findings = []project.FindingJSON{}
		}
		return printJSON(w, out)
	}
	printFindings(c.Root().ErrWriter, findingsOf(out.Findings, dir, files).Restart())
	printDifferences(w, out.Differences)
	printBroken(w, out.Broken)
	if out.Revision == nil {
		fmt.Fprintln(w, "\nnothing was published: it was only tried")
		return nil
	}
	fmt.Fprintf(w, "\nrevision %d is served", out.Revision.Number)
	return tellServed(ctx, c, to, out.Revision.Number)
}

// tellRefused tells why a publication is refused.
func tellRefused(c *cli.Command, r *refusal, dir string, files project.Files) error {
	if c.String("format") == "json" {
		if err := printJSON(c.Root().Writer, map[string]any{"refused": r.Detail, "findings": r.Findings, "broken": r.Broken, "last": r.Last}); err != nil {
			return err
		}
		return &coded{exitNo, errTold}
	}
	w := c.Root().ErrWriter
	printFindings(w, findingsOf(r.Findings, dir, files).Errors())
	printBroken(w, r.Broken)
	if len(r.Broken) > 0 {
		r.Fix = "keep what they use, or insist with --anyway"
	}
	return &coded{exitNo, fmt.Errorf("not published: %s", r.Error())}
}

// printDifferences tells differences as osprey diff does.
func printDifferences(w io.Writer, list []records.Difference) {
	if len(list) == 0 {
		fmt.Fprintln(w, "no difference that a client sees")
	}
	for _, d := range list {
		printDifference(w, d.Class, d.Coordinate, d.What)
	}
}

// printBroken tells the operations that are asked and break.
func printBroken(w io.Writer, list []publishing.Broken) {
	c := coloursFor(w)
	for _, b := range list {
		fmt.Fprintf(w, "%s%sbreaks%s   %s%s%s, asked %s, last %s, by %s\n", "", c.red, c.off, c.bold, nameOf(b.Name, b.ID), c.off,
			plan.Count(int(b.Asked), "time"), hourOf(b.Last), strings.Join(clientNames(b.Clients), ", "))
		for _, why := range b.Why {
			fmt.Fprintf(w, "         %s\n", why)
		}
	}
}

// nameOf names an operation: by its name, or the beginning of its id.
func nameOf(name, id string) string {
	switch {
	case name != "":
		return name
	case id == "":
		return "(not told apart)"
	}
	return "without a name (" + id[:min(8, len(id))] + ")"
}

// hourOf tells an hour.
func hourOf(t time.Time) string { return t.Local().Format("2 January 15:04") }

// clientNames returns the names of clients; one has none.
func clientNames(list []string) []string {
	names := []string{}
	for _, name := range list {
		if name == "" {
			name = "(no name)"
		}
		names = append(names, name)
	}
	return names
}

// tellServed waits until all services serve a revision, and tells which do not.
func tellServed(ctx context.Context, c *cli.Command, to string, number int64) error {
	w := c.Root().Writer
	end := time.Now().Add(5 * time.Second)
	for {
		var all struct{ Instances []records.Instance }
		if err := callService(ctx, http.MethodGet, to, "/api/v1/instances", nil, &all); err != nil {
			fmt.Fprintln(w)
			return err
		}
		var not []records.Instance
		for _, i := range all.Instances {
			if i.Serves == nil || *i.Serves < number {
				not = append(not, i)
			}
		}
		if len(not) == 0 {
			fmt.Fprintf(w, " by %s\n", plan.Count(len(all.Instances), "service"))
			return nil
		}
		if time.Now().After(end) {
			fmt.Fprintf(w, " by %d of %s\n", len(all.Instances)-len(not), plan.Count(len(all.Instances), "service"))
			for _, i := range not {
				why := i.Trouble
				if why == "" {
					why = "it has not said that it does"
				}
				fmt.Fprintf(c.Root().ErrWriter, "osprey: not by %s: %s\n", i.Name, why)
			}
			return &coded{exitNo, errTold}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}
