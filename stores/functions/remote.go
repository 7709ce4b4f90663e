package functions

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"
	"unicode/utf8"

	"osprey/core/store"
	"osprey/stores/remote"
)

// Config configures a remote source. The zero value of a bound means its
// default.
type Config struct {
	URL      string            // to which all calls are posted
	Headers  map[string]string // sent with each request; values may be secrets
	Forward  []string          // headers passed on from the caller's request
	Tell     remote.Tell       // headers that say who asks
	Timeout  time.Duration     // for each request; default [store.DefaultTimeout]
	MaxBytes int64             // largest answer that is read; default 16 MiB
}

// A Remote is a service that answers calls by JSON-RPC 2.0. Its methods are the
// functions; each takes one object, by name: record, which is what was selected
// of the record, and args, the arguments. All calls of a wave are one batch
// (section 6). Nothing is called again when it failed: nobody knows whether that
// may be.
type Remote struct {
	service  *remote.Service
	client   *http.Client
	timeout  time.Duration
	maxBytes int64
}

// Open makes a source. It asks the service nothing.
func Open(c Config) (*Remote, error) {
	if c.Timeout <= 0 {
		c.Timeout = store.DefaultTimeout
	}
	if c.MaxBytes <= 0 {
		c.MaxBytes = 16 << 20
	}
	service, err := remote.New(c.URL, c.Headers, c.Forward, c.Tell, c.Timeout)
	if err != nil {
		return nil, err
	}
	network := &http.Transport{Proxy: http.ProxyFromEnvironment, IdleConnTimeout: time.Minute, ForceAttemptHTTP2: true}
	return &Remote{service, remote.Client(network), c.Timeout, c.MaxBytes}, nil
}

// Catalogue returns that there are no record sets.
func (s *Remote) Catalogue(context.Context) (*store.Catalogue, error) { return catalogue, nil }

// Capabilities says that the source is called.
// Which functions the service has, it does not say.
func (s *Remote) Capabilities() store.Capabilities {
	return store.Capabilities{CanCall: func(_ string, s store.Signature) error {
		if s.Within {
			return errors.New("a remote function cannot take part in a transaction: name one of the Go program")
		}
		return nil
	}}
}

// Prepare makes a request of calls.
func (s *Remote) Prepare(_ *store.Catalogue, reads []*store.Read) (store.Request, error) {
	return &request{s, reads, "POST " + s.service.Base.Host + " " + reads[0].Set}, nil
}

// Ping reports whether something listens at the service's address.
func (s *Remote) Ping(ctx context.Context) error { return s.service.Ping(ctx) }

// Close closes idle connections.
func (s *Remote) Close() error {
	s.client.CloseIdleConnections()
	return nil
}

// requestObject is a call as it is sent: JSON-RPC 2.0, section 4.
type requestObject struct {
	Version string          `json:"jsonrpc"`
	ID      int             `json:"id"`
	Method  string          `json:"method"`
	Params  json.RawMessage `json:"params"`
}

// responseObject is an answer to a call: section 5.
type responseObject struct {
	ID     *int            `json:"id"`
	Result json.RawMessage `json:"result"`
	Error  *errorObject    `json:"error"`
}

// errorObject is why a call failed: section 5.1.
type errorObject struct {
	Code    int             `json:"code"`
	Message string          `json:"message"`
	Data    json.RawMessage `json:"data"`
}

// The codes of section 5.1 that mean something to the one who calls.
const (
	methodNotFound = -32601
	invalidParams  = -32602
)

func (s *Remote) call(ctx context.Context, from *store.Caller, calls []call) ([]Result, error) {
	batch := make([]requestObject, len(calls))
	for i, c := range calls {
		batch[i] = requestObject{"2.0", i + 1, c.function, c.input}
	}
	body, err := s.post(ctx, from, batch)
	if err != nil {
		return nil, err
	}
	var answers []responseObject
	if err := json.Unmarshal(body, &answers); err != nil {
		var one responseObject
		if json.Unmarshal(body, &one) == nil && one.Error != nil {
			return nil, one.Error.failure(calls[0].function)
		}
		return nil, &store.Error{Code: store.BadAnswer, Msg: "answered something that is no batch of JSON-RPC 2.0", Err: fmt.Errorf("%w: %s", err, s.service.Blank(clip(string(body))))}
	}
	return match(calls, answers), nil
}

// match gives each call its answer, by id: answers come in any order.
func match(calls []call, answers []responseObject) []Result {
	results := make([]Result, len(calls))
	given := make([]int, len(calls))
	for _, a := range answers {
		if a.ID == nil || *a.ID < 1 || *a.ID > len(calls) {
			continue // the calls that it may have been for have none
		}
		i := *a.ID - 1
		given[i]++
		name := calls[i].function
		switch {
		case a.Error != nil:
			results[i] = Result{Err: a.Error.failure(name)}
		case a.Result == nil:
			results[i] = Result{Err: failure(name, "gave neither a result nor an error for this call", nil)}
		default:
			results[i] = Result{JSON: a.Result}
		}
	}
	for i, n := range given {
		switch {
		case n == 0:
			results[i] = Result{Err: failure(calls[i].function, fmt.Sprintf("did not answer this call; there were %d answers to %d calls", len(answers), len(calls)), nil)}
		case n > 1:
			results[i] = Result{Err: failure(calls[i].function, fmt.Sprintf("answered this call %d times", n), nil)}
		}
	}
	return results
}

// failure returns what an error object says of a call. Its message is for
// callers, and its data for the log.
func (e *errorObject) failure(function string) error {
	var cause error
	if len(e.Data) > 0 {
		cause = fmt.Errorf("%d %s: %s", e.Code, clip(e.Message), clip(string(e.Data)))
	}
	if e.Code == methodNotFound {
		return &store.Error{Code: store.Function, Msg: "has no function " + function, Err: cause}
	}
	what := "said nothing of why"
	if e.Message != "" {
		what = "says: " + clip(e.Message)
	}
	if e.Code == invalidParams {
		what = "cannot take what it is given: " + clip(e.Message)
	}
	return failure(function, what, cause)
}

// clip cuts a text to a line of readable length.
func clip(text string) string {
	text = strings.Join(strings.Fields(text), " ")
	if len(text) <= 300 {
		return text
	}
	text = text[:300]
	for !utf8.ValidString(text) {
		text = text[:len(text)-1]
	}
	return text + "…"
}

// post sends a batch and returns the body of the answer.
func (s *Remote) post(ctx context.Context, from *store.Caller, batch []requestObject) ([]byte, error) {
	text, err := json.Marshal(batch)
	if err != nil {
		return nil, fmt.Errorf("a call cannot be written: %w", err)
	}
	ctx, cancel := context.WithTimeout(ctx, s.timeout)
	defer cancel()
	req, err := s.service.NewRequest(ctx, from, http.MethodPost, s.service.Base.String(), "application/json", bytes.NewReader(text))
	if err != nil {
		return nil, err
	}
	req.Header.Set("Content-Type", "application/json")
	res, err := s.client.Do(req)
	if err != nil {
		return nil, remote.Fail(ctx, err, "POST "+s.service.Shown(req.URL, nil))
	}
	defer res.Body.Close()
	body, err := io.ReadAll(io.LimitReader(res.Body, s.maxBytes+1))
	switch {
	case err != nil:
		return nil, remote.Fail(ctx, err, "POST "+s.service.Shown(req.URL, nil))
	case int64(len(body)) > s.maxBytes:
		return nil, store.TooLarge(s.maxBytes)
	case res.StatusCode != http.StatusOK:
		return nil, remote.Status(res, errors.New(s.service.Blank(clip(string(body)))))
	}
	return body, nil
}
