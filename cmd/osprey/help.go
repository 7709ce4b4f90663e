package main

import (
	"context"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"osprey/docs"
)

// helpCommand returns "osprey help", which shows how a command is used, or the pages of
// docs/, which are part of the program.
func helpCommand() *cli.Command {
	return &cli.Command{
		Name:      "help",
		Usage:     "show how a command is used, or a page or a part of the documentation",
		ArgsUsage: "[COMMAND | TOPIC...]",
		Description: "A topic is the name of a page, the code of an error, or words, which help looks for in the\n" +
			"headings of all pages, and then in their texts. Without one, it lists the pages.\n\n" +
			"Example:\n   osprey help lists\n   osprey help STORE_DOWN\n   osprey help join table\n   osprey help bindings#lists-of-keys",
		OnUsageError: usageError,
		Action:       help,
	}
}

func help(ctx context.Context, c *cli.Command) error {
	out := c.Root().Writer
	topic := strings.Join(c.Args().Slice(), " ")
	if topic == "" {
		if err := cli.ShowRootCommandHelp(c.Root()); err != nil {
			return err
		}
		fmt.Fprintf(out, "\nTOPICS:\n")
		for _, p := range docs.Pages() {
			fmt.Fprintf(out, "   %-16s %s\n", p.Name, p.Title)
		}
		return nil
	}
	if c.Root().Command(topic) != nil {
		return cli.ShowCommandHelp(ctx, c.Root(), topic)
	}
	for _, p := range docs.Pages() {
		if p.Name == topic {
			fmt.Fprint(out, readable(p.Text))
			return nil
		}
	}
	found := find(topic)
	switch {
	case len(found) == 0:
		return wrongUse("nothing is known of %q; osprey help lists the topics", topic)
	case len(found) == 1:
		fmt.Fprint(out, readable(found[0].Text))
	default:
		list(out, topic, found)
	}
	return nil
}

// most is how many sections are listed.
const most = 20

func list(out io.Writer, topic string, found []docs.Section) {
	fmt.Fprintf(out, "%q is in:\n\n", topic)
	for _, s := range found[:min(most, len(found))] {
		fmt.Fprintf(out, "   osprey help %s#%s\n", s.Page, s.Anchor)
	}
	if len(found) > most {
		fmt.Fprintf(out, "   … and %d more\n", len(found)-most)
	}
}

// find returns the sections that are about a topic: the one at an address page#anchor,
// or with this very heading; or else those with all of its words in the heading; or else
// those with all of them in the text.
func find(topic string) []docs.Section {
	var exact, titled, mentioned []docs.Section
	words := strings.Fields(strings.ToLower(topic))
	for _, p := range docs.Pages() {
		for _, s := range p.Sections() {
			switch {
			case p.Name+"#"+s.Anchor == topic, strings.EqualFold(s.Title, topic), strings.EqualFold(strings.TrimPrefix(s.Title, "@"), topic):
				exact = append(exact, s)
			case hasAll(s.Title, words):
				titled = append(titled, s)
			case p.Name != "messages" && p.Name != "changelog" && hasAll(s.Text, words):
				mentioned = append(mentioned, s)
			}
		}
	}
	for _, list := range [][]docs.Section{exact, titled, mentioned} {
		if len(list) > 0 {
			return list
		}
	}
	return nil
}

func hasAll(text string, words []string) bool {
	text = strings.ToLower(text)
	return !slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(text, w) })
}

var (
	comment = regexp.MustCompile(`(?s)<!--.*?-->\n*`)
	picture = regexp.MustCompile(`!\[([^\]]*)\]\([^)]*\)\n*`)
	link    = regexp.MustCompile(`\[([^\]]*)\]\(([\w-]+)\.md(#[\w-]+)?\)`)
)

// readable returns Markdown as a terminal shows it: without comments and pictures, and
// with links as topics.
func readable(text string) string {
	text = picture.ReplaceAllString(comment.ReplaceAllString(text, ""), "")
	text = link.ReplaceAllString(text, "$1 (osprey help $2$3)")
	return strings.TrimRight(text, "\n") + "\n"
}
