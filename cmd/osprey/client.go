package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"osprey/project"
)

// post sends an operation to a running service and returns the body.
func post(ctx context.Context, base, path string, q *operation, header http.Header) (int, []byte, error) {
	u, err := url.Parse(base)
	if err != nil || u.Host == "" {
		return 0, nil, wrongUse("--url is an address such as http://%s, found %q", defaultListen, base)
	}
	body, err := json.Marshal(q.Request)
	if err != nil {
		return 0, nil, err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, strings.TrimSuffix(base, "/")+path, bytes.NewReader(body))
	if err != nil {
		return 0, nil, err
	}
	req.Header = header
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Osprey-Client", "osprey")
	res, err := (&http.Client{Timeout: time.Minute}).Do(req)
	if err != nil {
		var u *url.Error
		if errors.As(err, &u) {
			err = u.Err
		}
		return 0, nil, unreachable(fmt.Errorf("no service answers at %s: %s\nStart one with \"osprey demo\" or \"osprey start DIR\", or name another with --url", base, inWords(err)))
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
