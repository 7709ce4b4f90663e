package access

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/MicahParks/jwkset"
	"github.com/golang-jwt/jwt/v5"

	"osprey/core/store"
)

// This file reads tokens that somebody else has signed (RFC 7519), against a set of their keys (RFC
// 7517).

// TokensConfig says which tokens are taken.
type TokensConfig struct {
	Keys       string   // where the set of keys is: an address, or a file
	Issuer     string   // iss must be this
	Audience   string   // aud must have this
	Algorithms []string // that are taken; those of section 3.1 of RFC 7518 with two keys
	// The claims that say who it is; of nested ones, with dots between.
	ID, Name, Roles string
	// Map makes roles of what the token calls so; nil takes them as they are.
	Map map[string][]string
}

// Algorithms are those that tokens may be signed by. Those with a secret that both sides have are none:
// who can check them could make them.
var Algorithms = []string{"RS256", "RS384", "RS512", "PS256", "PS384", "PS512", "ES256", "ES384", "ES512", "EdDSA"}

type tokens struct {
	TokensConfig
	set    *keySet
	parser *jwt.Parser
}

func newTokens(c TokensConfig) (*tokens, error) {
	for _, a := range c.Algorithms {
		if !slices.Contains(Algorithms, a) {
			return nil, fmt.Errorf("the algorithm %q is none for tokens; there are %s", a, strings.Join(Algorithms, ", "))
		}
	}
	return &tokens{c, &keySet{from: c.Keys}, jwt.NewParser(jwt.WithValidMethods(c.Algorithms), jwt.WithIssuer(c.Issuer), jwt.WithAudience(c.Audience),
		jwt.WithExpirationRequired(), jwt.WithLeeway(30*time.Second), jwt.WithJSONNumber(), jwt.WithStrictDecoding())}, nil
}

// identify returns whose a token is.
func (t *tokens) identify(ctx context.Context, text string) (*store.Identity, *Refusal) {
	claims := jwt.MapClaims{}
	_, err := t.parser.ParseWithClaims(text, claims, func(token *jwt.Token) (any, error) {
		id, _ := token.Header["kid"].(string)
		return t.set.key(ctx, id, token.Method.Alg())
	})
	switch {
	case errors.Is(err, errAway):
		return nil, &Refusal{http.StatusServiceUnavailable, errAway.Error(), "try it again", err.Error()}
	case errors.Is(err, jwt.ErrTokenExpired):
		return nil, unknown("the token has expired", "sign in again", err.Error())
	case err != nil:
		return nil, unknown("the token is not taken", "sign in again", err.Error())
	}
	who := &store.Identity{Claims: claims}
	id, _ := claimAt(claims, t.ID).(string)
	if who.ID = id; id == "" {
		return nil, unknown("the token does not say whose it is", "sign in again", "no claim "+t.ID)
	}
	who.ID = "token:" + id
	who.Name, _ = claimAt(claims, t.Name).(string)
	for _, role := range textsOf(claimAt(claims, t.Roles)) {
		if t.Map == nil {
			who.Roles = append(who.Roles, role)
			continue
		}
		who.Roles = append(who.Roles, t.Map[role]...)
	}
	return who, nil
}

// claimAt returns a claim by its path.
func claimAt(claims map[string]any, path string) any {
	if v, ok := claims[path]; ok { // names of claims are often addresses, which have dots
		return v
	}
	var v any = claims
	for _, name := range strings.Split(path, ".") {
		object, ok := v.(map[string]any)
		if !ok {
			if own, is := v.(jwt.MapClaims); is {
				object = own
			}
		}
		v = object[name]
	}
	return v
}

// textsOf returns a list of texts, or the words of one text (as scope of RFC 8693, section 4.2).
func textsOf(v any) (list []string) {
	switch v := v.(type) {
	case string:
		return strings.Fields(v)
	case []any:
		for _, item := range v {
			if text, ok := item.(string); ok {
				list = append(list, text)
			}
		}
	}
	return list
}

// A keySet is a set of keys, which is read again when it is old, or a token names a key that it does
// not have: they are rotated.
type keySet struct {
	from    string
	reading sync.Mutex // held while it is read

	mu   sync.Mutex // guards what follows
	keys []jwkset.JWK
	read time.Time // when it was read last
	look time.Time // when it was tried last
	err  error     // of that
}

const (
	fresh    = 5 * time.Minute
	stale    = 24 * time.Hour   // how long it is used when it cannot be read
	again    = 10 * time.Second // between two tries
	mostSet  = 1 << 20          // bytes
	mostKeys = 100
	patience = 5 * time.Second
)

// key returns the key of an id, for an algorithm. The error wraps errAway if the set cannot be read.
// A set that is old is read again aside; only who needs a key that it does not have waits.
func (s *keySet) key(ctx context.Context, id, algorithm string) (any, error) {
	key, due := s.known(id, algorithm)
	switch {
	case key != nil && due:
		go s.refresh(context.WithoutCancel(ctx))
	case key == nil && due:
		s.refresh(ctx)
		key, _ = s.known(id, algorithm)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case s.err != nil && time.Since(s.read) > stale:
		return nil, fmt.Errorf("%w: the set of keys cannot be read: %w", errAway, s.err)
	case key == nil:
		return nil, fmt.Errorf("the set has no key %q for %s", id, algorithm)
	}
	return key, nil
}

// known returns a key, and whether the set should be read again.
func (s *keySet) known(id, algorithm string) (key any, due bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	key = s.find(id, algorithm)
	return key, (key == nil || time.Since(s.read) > fresh) && time.Since(s.look) > again
}

// refresh reads the set again; of several that want it, one does, and the others wait.
func (s *keySet) refresh(ctx context.Context) {
	s.reading.Lock()
	defer s.reading.Unlock()
	s.mu.Lock()
	recent := time.Since(s.look) <= again
	s.mu.Unlock()
	if recent {
		return
	}
	keys, err := readSet(ctx, s.from)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.look, s.err = time.Now(), err
	if err == nil {
		s.keys, s.read = keys, s.look
	}
}

// find returns the key of an id. A key for another algorithm, or another use, is none. Without an id
// it is the only one that there is.
func (s *keySet) find(id, algorithm string) (key any) {
	n := 0
	for i := range s.keys {
		m := s.keys[i].Marshal()
		if m.KID != id && id != "" || m.ALG != "" && string(m.ALG) != algorithm || m.USE != "" && m.USE != jwkset.UseSig || !fitsAlgorithm(string(m.KTY), algorithm) {
			continue
		}
		key = s.keys[i].Key()
		n++
	}
	if n != 1 {
		return nil
	}
	return key
}

// fitsAlgorithm reports whether a type of key is that of an algorithm (RFC 7518, section 3.1).
func fitsAlgorithm(kind, algorithm string) bool {
	switch algorithm[:2] {
	case "RS", "PS":
		return kind == "RSA"
	case "ES":
		return kind == "EC"
	}
	return kind == "OKP"
}

// client reads sets of keys. It follows no redirect: a set stands where it was said to.
var client = &http.Client{Timeout: patience, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}

func readSet(ctx context.Context, from string) ([]jwkset.JWK, error) {
	text, err := readBounded(ctx, from)
	if err != nil {
		return nil, err
	}
	var set struct{ Keys []json.RawMessage }
	if err := json.Unmarshal(text, &set); err != nil {
		return nil, errors.New("it is no set of keys")
	}
	if len(set.Keys) > mostKeys {
		return nil, fmt.Errorf("it has more than %d keys", mostKeys)
	}
	var keys []jwkset.JWK
	for _, raw := range set.Keys { // of a kind that is not known, it is left out (RFC 7517, section 5)
		if key, err := jwkset.NewJWKFromRawJSON(raw, jwkset.JWKMarshalOptions{}, jwkset.JWKValidateOptions{}); err == nil {
			keys = append(keys, key)
		}
	}
	return keys, nil
}

func readBounded(ctx context.Context, from string) ([]byte, error) {
	if !strings.HasPrefix(from, "http://") && !strings.HasPrefix(from, "https://") {
		f, err := os.Open(from)
		if err != nil {
			return nil, err
		}
		defer f.Close()
		return bounded(f)
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), patience)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, from, nil)
	if err != nil {
		return nil, err
	}
	res, err := client.Do(req)
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("it is answered with the status %d", res.StatusCode)
	}
	return bounded(res.Body)
}

func bounded(r io.Reader) ([]byte, error) {
	text, err := io.ReadAll(io.LimitReader(r, mostSet+1))
	if err == nil && len(text) > mostSet {
		err = fmt.Errorf("it is larger than %d bytes", mostSet)
	}
	return text, err
}
