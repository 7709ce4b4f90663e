package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"osprey/project"
	"osprey/publishing"
	"osprey/records"
)

// This file makes the calls to a running service, which its openapi.yaml describes.

// serviceFlags name the service, and the key for it.
func serviceFlags(name string) []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: name, Value: "http://" + defaultListen, Sources: cli.EnvVars("OSPREY_URL"), Usage: "address of a running service"},
		keyFlag(),
	}
}

// keyVariable is the environment variable with the key; an argument can be seen by others.
const keyVariable = "OSPREY_KEY"

func keyFlag() cli.Flag {
	return &cli.StringFlag{Name: "key", Usage: "key or token for the service (better: the environment variable " + keyVariable + ")"}
}

type keyOfContext struct{}

// keyed returns a context whose calls are made with the key that a command was given.
func keyed(ctx context.Context, c *cli.Command) context.Context {
	key := c.String("key")
	if key == "" {
		key = os.Getenv(keyVariable)
	}
	return context.WithValue(ctx, keyOfContext{}, key)
}

// send sends a request to a running service. The answer's body is to be closed.
func send(ctx context.Context, method, base, path string, body []byte, header http.Header, patience time.Duration) (*http.Response, error) {
	u, err := url.Parse(base)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, wrongUse("%q is no address of a service, such as http://%s", base, defaultListen)
	}
	req, err := http.NewRequestWithContext(ctx, method, strings.TrimSuffix(base, "/")+path, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	if header != nil {
		req.Header = header
	}
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	req.Header.Set("Osprey-Client", "osprey")
	if key, _ := ctx.Value(keyOfContext{}).(string); key != "" {
		req.Header.Set("Authorization", "Bearer "+key)
	}
	res, err := (&http.Client{Timeout: patience}).Do(req)
	if err != nil {
		var u *url.Error
		if errors.As(err, &u) {
			err = u.Err
		}
		return nil, unreachable(fmt.Errorf("no service answers at %s: %s\nStart one with \"osprey demo\" or \"osprey start DIR\", or name another address", base, inWords(err)))
	}
	return res, nil
}

// A refusal is a problem that a service answers with.
type refusal struct {
	status   int
	Detail   string                `json:"detail"`
	Fix      string                `json:"fix"`
	Findings []project.FindingJSON `json:"findings"`
	Broken   []publishing.Broken   `json:"broken"`
	Last     *records.Revision     `json:"last"`
}

// Error says what is wrong, and what to do.
func (r *refusal) Error() string {
	if r.Fix == "" {
		return r.Detail
	}
	return r.Detail + "\n  → " + r.Fix
}

// callService makes a call and reads its answer into out. The error is a [*refusal] if the service
// answers with a problem.
func callService(ctx context.Context, method, base, path string, in, out any) error {
	var body []byte
	if in != nil {
		var err error
		if body, err = json.Marshal(in); err != nil {
			return err
		}
	}
	res, err := send(ctx, method, base, path, body, nil, 2*time.Minute)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	if err != nil {
		return unreachable(fmt.Errorf("the service at %s broke off its answer: %s", base, inWords(err)))
	}
	if res.StatusCode == http.StatusNoContent {
		return nil
	}
	if res.StatusCode/100 == 2 {
		if err := json.Unmarshal(text, out); err != nil {
			return unreachable(fmt.Errorf("what answers at %s is not an Osprey service", base))
		}
		return nil
	}
	r := &refusal{status: res.StatusCode}
	if err := json.Unmarshal(text, r); err != nil || r.Detail == "" {
		return unreachable(fmt.Errorf("what answers at %s is not an Osprey service: it says %s", base, res.Status))
	}
	if res.StatusCode >= 500 {
		return unreachable(r)
	}
	return r
}

// findingsOf returns findings as they were before they were sent; their files are in the folder dir,
// with these texts.
func findingsOf(list []project.FindingJSON, dir string, files project.Files) project.Findings {
	var findings project.Findings
	for _, f := range list {
		findings = append(findings, f.Finding(dir, files))
	}
	return findings
}
