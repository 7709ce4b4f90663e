package service

import (
	"bytes"
	"encoding/json"
	"net/http"
	"regexp"
	"strings"
	"sync"

	"github.com/go-chi/chi/v5"
	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/ast"
	"github.com/yuin/goldmark/extension"
	"github.com/yuin/goldmark/parser"

	"osprey/docs"
)

// This file serves the pages of docs/ to the console, so that they are read without a
// network, and are those of the very version that runs.

type shownPage struct {
	Name     string        `json:"name"`
	Title    string        `json:"title"`
	Sections []shownHeader `json:"sections"`

	html []byte
}

type shownHeader struct {
	Title  string `json:"title"`
	Anchor string `json:"anchor"`
	Text   string `json:"text"` // to be searched
}

// shownPages renders the pages, once.
var shownPages = sync.OnceValue(func() []shownPage {
	var pages []shownPage
	for _, p := range docs.Pages() {
		shown := shownPage{Name: p.Name, Title: p.Title, html: render(p.Text)}
		for _, s := range p.Sections() {
			shown.Sections = append(shown.Sections, shownHeader{s.Title, s.Anchor, s.Text})
		}
		pages = append(pages, shown)
	}
	return pages
})

// pages lists the pages, with their parts.
func (s *Service) pages(w http.ResponseWriter, r *http.Request) {
	text, err := json.Marshal(map[string]any{"pages": shownPages()})
	if err != nil {
		panic(err) // they are texts
	}
	write(w, http.StatusOK, "application/json; charset=utf-8", text)
}

// page writes a page as HTML.
func (s *Service) page(w http.ResponseWriter, r *http.Request) {
	name := chi.URLParam(r, "name")
	for _, p := range shownPages() {
		if p.Name == name {
			write(w, http.StatusOK, "text/html; charset=utf-8", p.html)
			return
		}
	}
	problem(w, http.StatusNotFound, "there is no page "+clipped(name), "/api/v1/pages lists them")
}

// picture writes a picture of the pages.
func (s *Service) picture(w http.ResponseWriter, r *http.Request) {
	name := chi.URLParam(r, "name")
	data, err := docs.Files.ReadFile("screenshots/" + name)
	if err != nil || !strings.HasSuffix(name, ".png") {
		problem(w, http.StatusNotFound, "there is no picture "+clipped(name), "")
		return
	}
	write(w, http.StatusOK, "image/png", data)
}

// anchors makes the anchors of headings.
type anchors struct{ used map[string]bool }

func (a *anchors) Generate(value []byte, _ ast.NodeKind) []byte {
	anchor := docs.Anchor(string(value))
	for a.used[anchor] {
		anchor += "-1"
	}
	a.used[anchor] = true
	return []byte(anchor)
}

func (a *anchors) Put(value []byte) { a.used[string(value)] = true }

var markdown = goldmark.New(goldmark.WithExtensions(extension.GFM), goldmark.WithParserOptions(parser.WithAutoHeadingID()))

var (
	toPage    = regexp.MustCompile(`href="([\w-]+)\.md(#[\w-]+)?"`)
	toPicture = regexp.MustCompile(`src="screenshots/`)
	toSources = regexp.MustCompile(`(?s)<a href="(?:\.\./|examples/|osprey\.schema)[^"]*">(.*?)</a>`)
)

// render returns Markdown as HTML whose links lead within the console; what is no page
// is named and not linked.
func render(text string) []byte {
	var b bytes.Buffer
	if err := markdown.Convert([]byte(text), &b, parser.WithContext(parser.NewContext(parser.WithIDs(&anchors{map[string]bool{}})))); err != nil {
		panic(err) // a buffer takes all of it
	}
	html := toSources.ReplaceAll(b.Bytes(), []byte("$1"))
	html = toPage.ReplaceAll(html, []byte(`href="/console/help/$1$2"`))
	return toPicture.ReplaceAll(html, []byte(`src="/api/v1/pages/screenshots/`))
}
