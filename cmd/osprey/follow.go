package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"osprey/core/language"
	"osprey/project"
)

// This file follows what a service tells: a subscription, or a query that is answered again.

// A follower shows answers as they come.
type follower struct {
	c     *cli.Command
	q     *operation
	as    string
	shown int
	most  int
}

// errEnough says that as many answers were shown as were asked for.
var errEnough = errors.New("enough")

// follows reports whether an operation is followed: a subscription is, and what is asked for so.
func follows(c *cli.Command, q *operation) bool {
	if c.Bool("live") {
		return true
	}
	doc, _ := language.Parse(language.NewSource(q.name, q.Query))
	if doc == nil {
		return false
	}
	for _, d := range doc.Definitions {
		if op, ok := d.(*language.Operation); ok && op.Kind == language.Subscription && (q.OperationName == "" || op.Name.Text == q.OperationName) {
			return true
		}
	}
	return false
}

// show shows one answer: on one line as JSON, and otherwise below a line with the time.
func (f *follower) show(body []byte) error {
	var r response
	if err := json.Unmarshal(body, &r); err != nil {
		return unreachable(fmt.Errorf("what is told is no answer"))
	}
	out := f.c.Root().Writer
	if f.as == "json" {
		fmt.Fprintf(out, "%s\n", body)
	} else {
		colours := coloursFor(out)
		fmt.Fprintf(out, "%s— %s —%s\n", colours.dim, time.Now().Format(time.TimeOnly), colours.off)
		if err := views[f.as](out, &r, body); err != nil {
			return err
		}
		if f.c.Bool("calls") {
			printCalls(out, r.Extensions.Calls, r.Extensions.Cost)
		}
	}
	if len(r.Errors) > 0 && f.as != "json" {
		printFaults(f.c.Root().ErrWriter, f.q, r.Errors)
	}
	if f.shown++; f.most > 0 && f.shown >= f.most {
		return errEnough
	}
	return nil
}

// tell says something about the stream.
func (f *follower) tell(format string, args ...any) {
	fmt.Fprintf(f.c.Root().ErrWriter, format+"\n", args...)
}

// followAnswers shows what is told until it is interrupted.
func followAnswers(ctx context.Context, c *cli.Command, q *operation, as string) error {
	f := &follower{c: c, q: q, as: as, most: c.Int("count")}
	var err error
	if c.String("project") != "" {
		err = f.here(ctx)
	} else {
		err = f.there(keyed(ctx, c))
	}
	if errors.Is(err, errEnough) || ctx.Err() != nil {
		return nil
	}
	return err
}

// here follows a project in this process.
func (f *follower) here(ctx context.Context) error {
	p, err := openProject(ctx, f.c, f.c.String("project"))
	if err != nil {
		return err
	}
	defer p.Close()
	begin := p.Revision().Follow
	if !f.c.Bool("live") {
		begin = func(ctx context.Context, q *project.Request) (*project.Stream, *project.Answer) {
			return p.Revision().Subscribe(ctx, q, "")
		}
	}
	stream, no := begin(ctx, &f.q.Request)
	if no != nil {
		return f.refused(no.AppendJSON(nil, false))
	}
	defer stream.Close()
	for {
		m, end, err := stream.Next(ctx)
		if err != nil {
			return nil
		}
		if end != nil {
			text, _ := json.Marshal(map[string]any{"errors": []*project.Fault{end}})
			return f.refused(text)
		}
		if err := f.show(m.JSON(f.c.Bool("calls"))); err != nil {
			return err
		}
	}
}

// refused tells why nothing is told, or nothing any more.
func (f *follower) refused(body []byte) error {
	var r response
	var problem refusal
	if json.Unmarshal(body, &problem) == nil && problem.Detail != "" {
		return &problem
	}
	if err := json.Unmarshal(body, &r); err != nil || r.Errors == nil {
		return unreachable(fmt.Errorf("what answers at %s is not an Osprey service", f.c.String("url")))
	}
	printFaults(f.c.Root().ErrWriter, f.q, r.Errors)
	return &coded{exitNo, errTold}
}

// again is how long is waited before a stream that has ended is begun again, and most how long at most.
const (
	again     = time.Second
	mostAgain = 30 * time.Second
)

// there follows a running service, and goes on where it was when the connection ends.
func (f *follower) there(ctx context.Context) error {
	body, err := json.Marshal(f.q.Request)
	if err != nil {
		return err
	}
	last, begun := "", false
	for wait := again; ; {
		before := f.shown
		over, err := f.once(ctx, body, &last, &begun)
		switch {
		case over || ctx.Err() != nil:
			return err
		case err != nil && !begun:
			return err // there never was a service
		case f.shown > before:
			wait = again
		}
		f.tell("the connection has ended, and is made again in %s", wait)
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(wait):
		}
		wait = min(2*wait, mostAgain)
	}
}

// once follows over one connection; over says that there is no more to come.
func (f *follower) once(ctx context.Context, body []byte, last *string, begun *bool) (over bool, err error) {
	header := http.Header{"Accept": {"text/event-stream"}}
	if f.c.Bool("live") {
		header.Set("Osprey-Live", "on")
	}
	if f.c.Bool("calls") {
		header.Set("Osprey-Calls", "on")
	}
	if *last != "" {
		header.Set("Last-Event-ID", *last)
	}
	res, err := send(ctx, http.MethodPost, f.c.String("url"), "/graphql", body, header, 0)
	if err != nil {
		return false, err
	}
	defer res.Body.Close()
	if !strings.HasPrefix(res.Header.Get("Content-Type"), "text/event-stream") {
		text, err := io.ReadAll(res.Body)
		if err != nil {
			return false, err
		}
		if res.StatusCode == http.StatusTooManyRequests || res.StatusCode == http.StatusServiceUnavailable {
			return !*begun, f.refused(text)
		}
		return true, f.refused(text)
	}
	if !*begun {
		*begun = true
		f.tell("following; Ctrl-C ends it")
	}
	name, data := "", ""
	lines := bufio.NewReader(res.Body)
	for {
		line, err := lines.ReadString('\n')
		if err != nil {
			return false, nil
		}
		switch field, value, _ := strings.Cut(strings.TrimSuffix(line, "\n"), ": "); field {
		case "event":
			name = value
		case "id":
			*last = value
		case "data":
			data = value
		case "":
			if data == "" {
				continue
			}
			if name == "complete" {
				return f.completed([]byte(data), last)
			}
			if err := f.show([]byte(data)); err != nil {
				return true, err
			}
			name, data = "", ""
		}
	}
}

// completed tells why the service has ended the stream, and begins it again where that is no error of the caller.
func (f *follower) completed(data []byte, last *string) (over bool, err error) {
	var r response
	if err := json.Unmarshal(data, &r); err == nil && len(r.Errors) > 0 {
		switch r.Errors[0].Extensions.Code {
		case project.CodeReplaced, project.CodeSlow, "STORE_DOWN", "STORE_TIMEOUT", "STORE_BUSY":
			f.tell("%s", r.Errors[0].Message)
			return false, nil
		}
	}
	*last = ""
	return true, f.refused(data)
}
