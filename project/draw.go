package project

import (
	"encoding/xml"
	"fmt"
	"strings"
)

// This file draws an explanation: a column for each wave, a box for each store
// request, and a line from each request to those that take its keys.

const (
	boxWidth    = 440
	columnWidth = boxWidth + 80
	lineHeight  = 17
	margin      = 28
	headHeight  = 74 // of the drawing, with its title and the names of the waves
	boxHead     = 30
	textWidth   = 59 // characters of a line
)

// colours are those of sources.
var colours = []string{"#2f6f9f", "#8a5a1f", "#3d7a4a", "#7a4a86", "#a0443c", "#4a6670"}

// colours returns the colour of each source, in the order in which they are
// asked.
func (e *Explanation) colours() map[string]string {
	of := map[string]string{}
	for _, w := range e.Waves {
		for _, r := range w.Requests {
			if of[r.Source] == "" {
				of[r.Source] = colours[len(of)%len(colours)]
			}
		}
	}
	return of
}

// SVG returns the explanation as a drawing: Scalable Vector Graphics 1.1.
func (e *Explanation) SVG() string {
	type box struct{ x, y, height int }
	boxes, colours := map[int]box{}, e.colours()
	height := 0
	for column, w := range e.Waves {
		y := headHeight
		for _, r := range w.Requests {
			b := box{margin + column*columnWidth, y, boxHead + len(r.drawn())*lineHeight + 10}
			boxes[r.ID] = b
			y += b.height + 22
		}
		height = max(height, y)
	}
	width := 2*margin + max(len(e.Waves), 1)*columnWidth - (columnWidth - boxWidth)
	var s strings.Builder
	fmt.Fprintf(&s, `<svg xmlns="http://www.w3.org/2000/svg" width="%d" height="%d" viewBox="0 0 %d %d" font-family="ui-sans-serif, system-ui, sans-serif" font-size="13">`+"\n", width, height, width, height)
	fmt.Fprintf(&s, `<rect width="100%%" height="100%%" fill="#fbfaf7"/>`+"\n")
	title := e.Summary()
	if e.Operation != "" {
		title = e.Operation + ": " + title
	}
	fmt.Fprintf(&s, `<text x="%d" y="30" font-size="16" font-weight="600" fill="#1d2a33">%s</text>`+"\n", margin, escape(title))
	for column, w := range e.Waves {
		fmt.Fprintf(&s, `<text x="%d" y="%d" fill="#5b6870">wave %d</text>`+"\n", margin+column*columnWidth, headHeight-14, w.Wave)
	}
	for _, w := range e.Waves {
		for _, r := range w.Requests {
			to := boxes[r.ID]
			for _, id := range r.After {
				from := boxes[id]
				x1, y1, x2, y2 := from.x+boxWidth, from.y+boxHead/2, to.x, to.y+boxHead/2
				fmt.Fprintf(&s, `<path d="M %d %d C %d %d %d %d %d %d" fill="none" stroke="%s" stroke-width="1.6"/>`+"\n", x1, y1, x1+45, y1, x2-45, y2, x2-6, y2, colours[r.Source])
				fmt.Fprintf(&s, `<path d="M %d %d l -8 -4 v 8 z" fill="%s"/>`+"\n", x2, y2, colours[r.Source])
			}
		}
	}
	for _, w := range e.Waves {
		for _, r := range w.Requests {
			r.draw(&s, colours[r.Source], boxes[r.ID].x, boxes[r.ID].y, boxes[r.ID].height)
		}
	}
	s.WriteString("</svg>\n")
	return s.String()
}

// drawn returns the lines of a request's box.
func (r *RequestOut) drawn() []string {
	var lines []string
	for _, note := range r.notes() {
		lines = append(lines, "↻ "+note)
	}
	for _, read := range r.Reads {
		indent := strings.Repeat("   ", read.Depth)
		lines = append(lines, indent+"• "+read.Asks)
		for _, here := range read.Here {
			lines = append(lines, indent+"  here: "+here)
		}
	}
	return lines
}

func (r *RequestOut) draw(s *strings.Builder, colour string, x, y, height int) {
	fmt.Fprintf(s, `<g><title>%s</title><rect x="%d" y="%d" width="%d" height="%d" rx="6" fill="#ffffff" stroke="%s"/>`+"\n", escape(r.Asks), x, y, boxWidth, height, colour)
	fmt.Fprintf(s, `<path d="M %d %d v -%d q 0 -6 6 -6 h %d q 6 0 6 6 v %d z" fill="%s"/>`+"\n", x, y+boxHead-4, boxHead-10, boxWidth-12, boxHead-10, colour)
	fmt.Fprintf(s, `<text x="%d" y="%d" fill="#ffffff" font-weight="600">%s <tspan font-weight="400" opacity="0.85">%s</tspan></text>`+"\n", x+12, y+18, escape(r.Source), escape(r.Kind))
	for i, line := range r.drawn() {
		fmt.Fprintf(s, `<text x="%d" y="%d" font-size="11.5" font-family="ui-monospace, monospace" fill="#26333b" xml:space="preserve"><title>%s</title>%s</text>`+"\n",
			x+12, y+boxHead+14+i*lineHeight, escape(strings.TrimSpace(line)), escape(clipped(line)))
	}
	s.WriteString("</g>\n")
}

func clipped(line string) string {
	if r := []rune(line); len(r) > textWidth {
		return string(r[:textWidth-1]) + "…"
	}
	return line
}

func escape(text string) string {
	var b strings.Builder
	xml.EscapeText(&b, []byte(text)) // which never fails on a builder
	return b.String()
}
