// Package remote has what sources of remote HTTP services share: the address,
// the headers that are sent and passed on, and what of them must not be shown.
package remote

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"osprey/core/store"
)

// A Service is a remote service.
type Service struct {
	Base    *url.URL
	headers map[string]string
	forward []string
	tell    Tell
	timeout time.Duration
}

// Tell has the names of the headers by which a service is told who asks; "" for none. They have what Osprey
// has found out, and never what the caller's request had in a header of that name.
type Tell struct{ ID, Roles string }

// New returns a service at an address, to which headers are sent, whose values
// may be secrets, and the headers called forward passed on from the caller's
// request.
func New(address string, headers map[string]string, forward []string, tell Tell, timeout time.Duration) (*Service, error) {
	base, err := url.Parse(address)
	if err != nil || base.Host == "" || base.Scheme != "http" && base.Scheme != "https" {
		return nil, errors.New("the address is not of the form http://host/path")
	}
	if base.RawQuery != "" || base.Fragment != "" {
		return nil, errors.New("the address has a query, which belongs into the templates of its reads, or a fragment")
	}
	return &Service{base, headers, forward, tell, timeout}, nil
}

// ErrElsewhere is the cause of a request that was redirected to another origin:
// what is sent is for this one alone.
var ErrElsewhere = errors.New("redirected to another origin")

// Client returns a client that follows redirects within one origin: the same
// scheme, host and port.
func Client(transport http.RoundTripper) *http.Client {
	return &http.Client{Transport: transport, CheckRedirect: func(to *http.Request, via []*http.Request) error {
		if from := via[0].URL; to.URL.Scheme != from.Scheme || to.URL.Host != from.Host {
			return fmt.Errorf("%w: %s://%s", ErrElsewhere, to.URL.Scheme, to.URL.Host)
		}
		if len(via) > 5 {
			return errors.New("redirected more than 5 times")
		}
		return nil
	}}
}

// Fail turns an error of the client into one of the port; shown is the request,
// for the log.
func Fail(ctx context.Context, err error, shown string) *store.Error {
	var u *url.Error
	if errors.As(err, &u) {
		err = u.Err // the other part is the address, with all that is in it
	}
	own := store.Fail(ctx, err, "broke off its answer")
	switch {
	case errors.Is(err, ErrElsewhere):
		own = &store.Error{Code: store.BadAnswer, Msg: "sends to another address, which is not followed; the log says where to"}
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		own.Code, own.Msg = store.BadAnswer, "broke off its answer"
	}
	own.Err = fmt.Errorf("%s: %w", shown, err)
	return own
}

// Status turns an answer that is none, by its status, into an error; cause is for
// the log.
func Status(res *http.Response, cause error) *store.Error {
	e := &store.Error{Code: store.BadAnswer, Msg: fmt.Sprintf("answered with the status %d", res.StatusCode), Err: cause}
	switch res.StatusCode {
	case http.StatusTooManyRequests:
		e.Code, e.Msg = store.Busy, "asks to be asked less (status 429)"
		if wait := res.Header.Get("Retry-After"); wait != "" && len(wait) < 40 {
			e.Msg += ", and again after " + wait
			if _, err := strconv.Atoi(wait); err == nil {
				e.Msg += " s"
			}
		}
	case http.StatusUnauthorized, http.StatusForbidden:
		e.Msg = fmt.Sprintf("refuses who asks (status %d)", res.StatusCode)
	case http.StatusBadGateway, http.StatusServiceUnavailable, http.StatusGatewayTimeout:
		// What stands before the service says that it is not there.
		e.Code, e.Msg = store.Down, fmt.Sprintf("is not available (status %d)", res.StatusCode)
	}
	return e
}

// Shown returns an address for the log: its host, and what follows the service's
// own address, which may be a secret as a whole; parameters called hidden have no
// value.
func (s *Service) Shown(u *url.URL, hidden []string) string {
	text := s.Base.Host + "…" + strings.TrimPrefix(u.EscapedPath(), strings.TrimSuffix(s.Base.EscapedPath(), "/"))
	if strings.Trim(s.Base.Path, "/") == "" {
		text = s.Base.Host + u.EscapedPath()
	}
	if u.RawQuery == "" {
		return text
	}
	parameters := strings.Split(u.RawQuery, "&")
	for i, p := range parameters {
		if name, _, _ := strings.Cut(p, "="); slices.Contains(hidden, name) {
			parameters[i] = name + "=…"
		}
	}
	return text + "?" + strings.Join(parameters, "&")
}

// Ping reports whether the service answers: a HEAD of its address, by a connection
// of its own and with nothing secret. What it answers is not looked at, but for
// what stands before a service that is not there.
func (s *Service) Ping(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, s.timeout)
	defer cancel()
	at := url.URL{Scheme: s.Base.Scheme, Host: s.Base.Host, Path: "/"}
	req, err := http.NewRequestWithContext(ctx, http.MethodHead, at.String(), nil)
	if err != nil {
		return err
	}
	res, err := (&http.Transport{Proxy: http.ProxyFromEnvironment, DisableKeepAlives: true}).RoundTrip(req)
	if err != nil {
		return Fail(ctx, err, "HEAD "+s.Base.Host)
	}
	res.Body.Close()
	if e := Status(res, errors.New("HEAD "+s.Base.Host)); e.Code == store.Down {
		return e
	}
	return nil
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
	if from != nil && from.Who != nil {
		s.tells(req.Header, from.Who)
	} else {
		s.tells(req.Header, &store.Identity{})
	}
	req.Header.Set("Accept", accept)
	for name, v := range s.headers {
		req.Header.Set(name, v)
	}
	return req, nil
}

// tells says in headers who asks. What a header cannot have stands there as in an address (RFC 3986, section
// 2.1), and so does a comma in the name of a role.
func (s *Service) tells(header http.Header, who *store.Identity) {
	put := func(name, value string) {
		if name == "" {
			return
		}
		header.Del(name)
		if value != "" {
			header.Set(name, value)
		}
	}
	put(s.tell.ID, escaped(who.ID, "%"))
	roles := make([]string, len(who.Roles))
	for i, role := range who.Roles {
		roles[i] = escaped(role, "%,")
	}
	put(s.tell.Roles, strings.Join(roles, ", "))
}

func escaped(text, also string) string {
	var b strings.Builder
	for i := range len(text) {
		if c := text[i]; c <= ' ' || c >= 0x7f || strings.IndexByte(also, c) >= 0 {
			fmt.Fprintf(&b, "%%%02X", c)
		} else {
			b.WriteByte(c)
		}
	}
	return b.String()
}

// OfCaller reports whether a request carries a header of the caller's that says
// who it is; those that trace it do not.
func (s *Service) OfCaller(r *http.Request) bool {
	if s.tell.ID != "" && r.Header.Get(s.tell.ID) != "" {
		return true
	}
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

// Blank removes the values of configured headers, and the password of the
// address, from a text for the log.
func (s *Service) Blank(text string) string {
	if password, ok := s.Base.User.Password(); ok && password != "" {
		text = strings.ReplaceAll(text, password, "…")
	}
	for _, v := range s.headers {
		for _, part := range strings.Fields(v) {
			if len(part) > 3 {
				text = strings.ReplaceAll(text, part, "…")
			}
		}
	}
	return text
}
