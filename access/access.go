// Package access finds out who asks: by a key of a client program, by a token that somebody else has
// signed, or by a header of a proxy that is trusted. What it cannot find out is refused, and never
// taken for nobody.
package access

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"osprey/core/store"
)

// Config says how callers are known.
type Config struct {
	// Nobody says that callers may ask who say nothing of who they are, and with which roles.
	Nobody      bool
	NobodyRoles []string
	Keys        []Key // those that a file lists
	Tokens      *TokensConfig
	Header      *HeaderConfig
	// Kept returns the keys that are kept in records; nil if there are none. It asks nobody.
	Kept func() ([]Key, error)
	// Used is told that a kept key was used; nil if nobody wants to know.
	Used func(id string)
	Log  *slog.Logger
}

// HeaderConfig is a header by which a proxy says who asks.
type HeaderConfig struct {
	Name  string         // of the header that has the id
	Roles string         // of that which has the roles, with commas between; "" for none
	From  []netip.Prefix // the addresses of the proxy
}

// A Refusal is why a caller is not known.
type Refusal struct {
	Status int // 401; 429 for too many wrong ones; 503 where it cannot be found out now
	Msg    string
	Fix    string
	Why    string // for the log
}

// Error returns the message.
func (r *Refusal) Error() string { return r.Msg }

// An Access knows callers. It is safe for concurrent use.
type Access struct {
	config Config
	keys   *keys
	tokens *tokens // nil if there are none
}

// New returns what knows callers.
func New(c Config) (*Access, error) {
	if c.Log == nil {
		c.Log = slog.Default()
	}
	a := &Access{config: c, keys: newKeys(c.Keys, c.Kept, c.Used)}
	if c.Tokens != nil {
		var err error
		if a.tokens, err = newTokens(*c.Tokens); err != nil {
			return nil, err
		}
	}
	return a, nil
}

// Identify returns who a request is of; nil for nobody, where that is allowed.
func (a *Access) Identify(ctx context.Context, r *http.Request) (*store.Identity, *Refusal) {
	given := r.Header.Values("Authorization")
	switch {
	case len(given) > 1:
		return nil, unknown("the request has two Authorization headers", "send one", "two headers")
	case len(given) == 1:
		return a.authorized(ctx, given[0])
	}
	if h := a.config.Header; h != nil {
		if values := r.Header.Values(h.Name); len(values) > 0 {
			return a.proxied(r, values)
		}
	}
	if !a.config.Nobody {
		return nil, unknown("this service answers callers that it knows", "send a key: Authorization: Bearer …", "no credentials")
	}
	return &store.Identity{Roles: a.config.NobodyRoles}, nil
}

func unknown(msg, fix, why string) *Refusal {
	return &Refusal{http.StatusUnauthorized, msg, fix, why}
}

// authorized reads an Authorization header (RFC 6750, section 2.1).
func (a *Access) authorized(ctx context.Context, value string) (*store.Identity, *Refusal) {
	scheme, credential, _ := strings.Cut(strings.TrimSpace(value), " ")
	credential = strings.TrimSpace(credential)
	switch {
	case !strings.EqualFold(scheme, "Bearer") || credential == "":
		return nil, unknown("the Authorization header is none that this service reads", "send Authorization: Bearer, and a key or a token", "another scheme")
	case len(credential) > 16<<10:
		return nil, unknown("the token is too long", "", "a credential of more than 16 kB")
	case strings.HasPrefix(credential, keyPrefix):
		return a.keys.identify(credential, time.Now())
	case a.tokens == nil:
		return nil, unknown("the key is not known", "ask who runs the service for one", "neither a key, nor are there tokens")
	}
	return a.tokens.identify(ctx, credential)
}

// proxied reads the headers of a trusted proxy. From anywhere else they are no word of anybody's.
func (a *Access) proxied(r *http.Request, values []string) (*store.Identity, *Refusal) {
	h := a.config.Header
	from, err := netip.ParseAddrPort(r.RemoteAddr)
	if err != nil || !slices.ContainsFunc(h.From, func(p netip.Prefix) bool { return p.Contains(from.Addr().Unmap()) }) {
		return nil, unknown(fmt.Sprintf("the header %s is taken from a trusted proxy only", h.Name), "leave it out", "the header came from "+r.RemoteAddr)
	}
	if len(values) != 1 || strings.TrimSpace(values[0]) == "" || strings.ContainsAny(values[0], ",\x00") {
		return nil, unknown(fmt.Sprintf("the header %s names nobody, or several", h.Name), "send it once", "a header that is empty, or twice there")
	}
	who := &store.Identity{ID: strings.TrimSpace(values[0])}
	who.Name = who.ID
	if h.Roles != "" {
		for _, role := range strings.Split(strings.Join(r.Header.Values(h.Roles), ","), ",") {
			if role = strings.TrimSpace(role); role != "" {
				who.Roles = append(who.Roles, role)
			}
		}
	}
	return who, nil
}

// errAway is the error of keys that cannot be looked up now.
var errAway = errors.New("it cannot be found out now who asks")
