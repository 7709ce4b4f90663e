// Package docs holds the pages that explain Osprey to its users, so that the program and
// its console can show them without a network.
package docs

import (
	"embed"
	"strings"
)

//go:embed *.md screenshots/*.png
var Files embed.FS

// Schema is the JSON Schema of osprey.yaml, for editors.
//
//go:embed osprey.schema.json
var Schema string

// A Page is one of the pages.
type Page struct {
	Name  string // of its file, without .md
	Title string // its first heading
	Text  string // Markdown
}

// names are the pages in the order in which they are best read.
var names = strings.Fields("start tutorial console derive editors batching bindings lists writing live resolvers directives sources osprey-yaml http commands errors messages " +
	"deployment records access security troubleshooting embedding performance faq contributing changelog promises")

// Pages returns all pages, in the order in which they are best read.
func Pages() []Page {
	pages := make([]Page, len(names))
	for i, name := range names {
		text, err := Files.ReadFile(name + ".md")
		if err != nil {
			panic(err) // they are part of the program
		}
		title, _, _ := strings.Cut(strings.TrimPrefix(string(text), "# "), "\n")
		pages[i] = Page{name, title, string(text)}
	}
	return pages
}

// A Section is a part of a page, below one of its headings.
type Section struct {
	Page   string // the page's name
	Title  string
	Anchor string // of the heading, as Markdown viewers make it
	Text   string // Markdown, with its heading
}

// Sections returns the parts of a page by its headings of the first three levels.
func (p *Page) Sections() []Section {
	var list []Section
	code := false
	for _, line := range strings.SplitAfter(p.Text, "\n") {
		if strings.HasPrefix(line, "```") {
			code = !code
		}
		level := len(line) - len(strings.TrimLeft(line, "#"))
		if !code && level >= 1 && level <= 3 && strings.HasPrefix(line[level:], " ") {
			title := strings.TrimSpace(line[level:])
			list = append(list, Section{Page: p.Name, Title: title, Anchor: Anchor(title)})
		}
		if n := len(list); n > 0 {
			list[n-1].Text += line
		}
	}
	return list
}

// Anchor returns the anchor of a heading: in small letters, with hyphens for spaces and
// without marks.
func Anchor(title string) string {
	var b strings.Builder
	for _, r := range strings.ToLower(title) {
		switch {
		case r == ' ':
			b.WriteByte('-')
		case r == '-' || r == '_' || r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r > 127:
			b.WriteRune(r)
		}
	}
	return b.String()
}
