// Package remote has what sources of remote HTTP services share: the address,
// the headers that are sent and passed on, and what of them must not be shown.
package remote

import (
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"osprey/core/store"
)

// A Service is a remote service.
type Service struct {
	Base    *url.URL
	headers map[string]string
	forward []string
	timeout time.Duration
}

// New returns a service at an address, to which headers are sent, whose values
// may be secrets, and the headers called forward passed on from the caller's
// request.
func New(address string, headers map[string]string, forward []string, timeout time.Duration) (*Service, error) {
	base, err := url.Parse(address)
	if err != nil || base.Host == "" || base.Scheme != "http" && base.Scheme != "https" {
		return nil, errors.New("the address is not of the form http://host/path")
	}
	return &Service{base, headers, forward, timeout}, nil
}

// Ping reports whether something listens at the service's address.
func (s *Service) Ping(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, s.timeout)
	defer cancel()
	address := s.Base.Host
	if s.Base.Port() == "" {
		address = net.JoinHostPort(s.Base.Hostname(), s.Base.Scheme)
	}
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", address)
	if err != nil {
		return store.Fail(ctx, err, "cannot be reached")
	}
	return conn.Close()
}

// NewRequest makes a request with the configured and forwarded headers.
func (s *Service) NewRequest(ctx context.Context, from *store.Caller, method, address, accept string, body io.Reader) (*http.Request, error) {
	req, err := http.NewRequestWithContext(ctx, method, address, body)
	if err != nil {
		return nil, err
	}
	for _, name := range s.forward {
		name = http.CanonicalHeaderKey(name)
		if v := from.Header(name); len(v) > 0 {
			req.Header[name] = slices.Clone(v)
		}
	}
	req.Header.Set("Accept", accept)
	for name, v := range s.headers {
		req.Header.Set(name, v)
	}
	return req, nil
}

// OfCaller reports whether a request carries a header of the caller's that says
// who it is; those that trace it do not.
func (s *Service) OfCaller(r *http.Request) bool {
	for _, name := range s.forward {
		switch http.CanonicalHeaderKey(name) {
		case "X-Request-Id", "Traceparent", "Tracestate":
			continue
		}
		if len(r.Header.Values(name)) > 0 {
			return true
		}
	}
	return false
}

// Blank removes the values of configured headers from a text for the log.
func (s *Service) Blank(text string) string {
	for _, v := range s.headers {
		for _, part := range strings.Fields(v) {
			if len(part) > 3 {
				text = strings.ReplaceAll(text, part, "…")
			}
		}
	}
	return text
}
