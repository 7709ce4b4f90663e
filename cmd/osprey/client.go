package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"time"

	"github.com/urfave/cli/v3"

	"osprey/project"
)

// post sends an operation to a running service and returns the body.
func post(ctx context.Context, base, path string, q *operation, header http.Header) (int, []byte, error) {
	body, err := json.Marshal(q.Request)
	if err != nil {
		return 0, nil, err
	}
	res, err := send(ctx, http.MethodPost, base, path, body, header, time.Minute)
	if err != nil {
		return 0, nil, err
	}
	defer res.Body.Close()
	answer, err := io.ReadAll(res.Body)
	if err != nil {
		return 0, nil, unreachable(fmt.Errorf("the service at %s broke off its answer: %s", base, inWords(err)))
	}
	return res.StatusCode, answer, nil
}

// openProject opens a project in this process, telling what is wrong with it.
func openProject(ctx context.Context, c *cli.Command, dir string) (*project.Project, error) {
	p, findings, err := project.OpenWith(ctx, dir, slog.New(slog.NewTextHandler(c.Root().ErrWriter, nil)), &project.Additions{Waiting: waiting(c)})
	if err == nil { // a warning of osprey check is none of who asks, but for a store that is not there
		findings = findings.Waiting()
	}
	printFindings(c.Root().ErrWriter, findings)
	return p, err
}
