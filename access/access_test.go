package access_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/MicahParks/jwkset"
	"github.com/golang-jwt/jwt/v5"

	"osprey/access"
)

func request(header ...string) *http.Request {
	r := httptest.NewRequest(http.MethodPost, "/graphql", nil)
	for i := 0; i < len(header); i += 2 {
		r.Header.Add(header[i], header[i+1])
	}
	return r
}

func open(t *testing.T, c access.Config) *access.Access {
	t.Helper()
	a, err := access.New(c)
	if err != nil {
		t.Fatal(err)
	}
	return a
}

// refused holds that a request is not known, with a status, and that no secret is told.
func refused(t *testing.T, a *access.Access, r *http.Request, status int, why string) {
	t.Helper()
	who, no := a.Identify(t.Context(), r)
	if no == nil {
		t.Errorf("%s: it is taken for %+v", why, who)
		return
	}
	if no.Status != status || !strings.Contains(no.Why, why) {
		t.Errorf("%s: it is refused with %d, %s, since %s", why, no.Status, no.Msg, no.Why)
	}
	if value := r.Header.Get("Authorization"); len(value) > 30 && strings.Contains(no.Msg+no.Fix+no.Why, value[len(value)-20:]) {
		t.Errorf("it tells the secret: %+v", no)
	}
}

// TestKeys holds keys of client programs: those that are listed, and those that are kept.
func TestKeys(t *testing.T) {
	board, quay, old := access.Make(), access.Make(), access.Make()
	if board.Secret == quay.Secret || strings.Contains(board.Hash, board.Secret) || len(board.Secret) < 40 {
		t.Errorf("the keys are %+v and %+v", board, quay)
	}
	used := map[string]int{}
	var away error
	a := open(t, access.Config{Keys: []access.Key{{ID: board.ID, Name: "board", Hash: board.Hash, Roles: []string{"screen"}}}, Used: func(id string) { used[id]++ },
		Kept: func() ([]access.Key, error) {
			return []access.Key{{ID: quay.ID, Name: "quay", Hash: quay.Hash}, {ID: old.ID, Hash: old.Hash, Until: time.Now().Add(-time.Minute)}}, away
		}})
	for range 3 {
		who, no := a.Identify(t.Context(), request("Authorization", "Bearer "+board.String()))
		if no != nil || who.Name != "board" || who.ID != "key:"+board.ID || who.Roles[0] != "screen" {
			t.Errorf("it is %+v: %v", who, no)
		}
		if who, no := a.Identify(t.Context(), request("Authorization", "bearer  "+quay.String())); no != nil || who.Name != "quay" || who.Roles != nil {
			t.Errorf("it is %+v: %v", who, no)
		}
	}
	if used[quay.ID] != 3 || used[board.ID] != 0 {
		t.Errorf("used are %v", used)
	}
	for value, why := range map[string]string{
		"Bearer " + old.String():                          "has ended",
		"Bearer osprey_" + board.ID + "_" + quay.Secret:   "a wrong secret",
		"Bearer osprey_nothing_" + quay.Secret:            "there is no key",
		"Bearer osprey_":                                  "no form of a key",
		"Bearer osprey_" + board.ID:                       "no form of a key",
		"Bearer " + strings.Repeat("x", 20<<10):           "more than 16 kB",
		"Bearer":                                          "another scheme",
		"Basic dXNlcjpwYXNzd29yZA==":                      "another scheme",
		"Bearer " + board.Secret:                          "neither a key",
		"Bearer osprey_" + board.ID + "_" + board.Hash:    "a wrong secret",
		"Bearer osprey_" + strings.Repeat("a", 70) + "_x": "no form of a key",
	} {
		refused(t, a, request("Authorization", value), http.StatusUnauthorized, why)
	}
	refused(t, a, request("Authorization", "Bearer "+board.String(), "Authorization", "Bearer "+board.String()), http.StatusUnauthorized, "two headers")
	refused(t, a, request(), http.StatusUnauthorized, "no credentials")
	// Guessing is slowed down, and who has the key goes on.
	for range 30 {
		a.Identify(t.Context(), request("Authorization", "Bearer osprey_"+board.ID+"_guess"))
	}
	refused(t, a, request("Authorization", "Bearer osprey_"+board.ID+"_guess"), http.StatusTooManyRequests, "wrong secrets")
	if _, no := a.Identify(t.Context(), request("Authorization", "Bearer "+board.String())); no != nil {
		t.Errorf("who has the key is refused: %v", no)
	}
	away = os.ErrDeadlineExceeded
	refused(t, a, request("Authorization", "Bearer "+quay.String()), http.StatusServiceUnavailable, "")
	for _, wrong := range []string{"", board.Secret, "argon2id$x", "argon2id$" + strings.Repeat("A", 22) + "$AAAA", "argon2id$$"} {
		if access.CheckHash(wrong) == nil {
			t.Errorf("%q is taken for a hash", wrong)
		}
	}
	if err := access.CheckHash(board.Hash); err != nil {
		t.Error(err)
	}
}

// TestNobody answers callers who say nothing, where that is allowed, and never those who say something
// wrong.
func TestNobody(t *testing.T) {
	a := open(t, access.Config{Nobody: true, NobodyRoles: []string{"public"}})
	if who, no := a.Identify(t.Context(), request()); no != nil || who.ID != "" || who.Roles[0] != "public" {
		t.Errorf("it is %+v: %v", who, no)
	}
	refused(t, a, request("Authorization", "Bearer x"), http.StatusUnauthorized, "neither a key")
}

// TestHeader takes the word of a proxy from its address only.
func TestHeader(t *testing.T) {
	a := open(t, access.Config{Nobody: true, Header: &access.HeaderConfig{Name: "X-Port-User", Roles: "X-Port-Roles", From: []netip.Prefix{netip.MustParsePrefix("192.0.2.0/30"), netip.MustParsePrefix("::1/128")}}})
	from := func(address string, header ...string) *http.Request {
		r := request(header...)
		r.RemoteAddr = address
		return r
	}
	who, no := a.Identify(t.Context(), from("192.0.2.1:1234", "X-Port-User", "ada", "X-Port-Roles", "clerk, pilot", "X-Port-Roles", "x"))
	if no != nil || who.ID != "ada" || strings.Join(who.Roles, " ") != "clerk pilot x" {
		t.Errorf("it is %+v: %v", who, no)
	}
	if who, no := a.Identify(t.Context(), from("[::ffff:192.0.2.2]:1", "X-Port-User", "ada")); no != nil || who.ID != "ada" {
		t.Errorf("it is %+v: %v", who, no)
	}
	for _, r := range []*http.Request{from("192.0.2.5:1", "X-Port-User", "ada"), from("127.0.0.1:1", "X-Port-User", "ada"), from("", "X-Port-User", "ada")} {
		refused(t, a, r, http.StatusUnauthorized, "the header came from")
	}
	for _, r := range []*http.Request{from("192.0.2.1:1", "X-Port-User", ""), from("192.0.2.1:1", "X-Port-User", "ada", "X-Port-User", "bea"), from("192.0.2.1:1", "X-Port-User", "ada,bea")} {
		refused(t, a, r, http.StatusUnauthorized, "empty, or twice")
	}
	// Without its header it is nobody, whatever roles somebody claims.
	if who, no := a.Identify(t.Context(), from("192.0.2.1:1", "X-Port-Roles", "clerk")); no != nil || who.ID != "" || who.Roles != nil {
		t.Errorf("it is %+v: %v", who, no)
	}
}

// signer signs tokens, and serves its set of keys, whose readings it counts.
type signer struct {
	t      *testing.T
	rsa    *rsa.PrivateKey
	ec     *ecdsa.PrivateKey
	server *httptest.Server
	reads  atomic.Int64
	serve  atomic.Pointer[func(w http.ResponseWriter)]
}

func newSigner(t *testing.T) *signer {
	t.Helper()
	s := &signer{t: t}
	var err error
	if s.rsa, err = rsa.GenerateKey(rand.Reader, 2048); err != nil {
		t.Fatal(err)
	}
	if s.ec, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader); err != nil {
		t.Fatal(err)
	}
	whole := func(w http.ResponseWriter) { w.Write(s.set()) }
	s.serve.Store(&whole)
	s.server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s.reads.Add(1)
		(*s.serve.Load())(w)
	}))
	t.Cleanup(s.server.Close)
	return s
}

// set is the set of keys.
func (s *signer) set() []byte {
	s.t.Helper()
	var set struct {
		Keys []any `json:"keys"`
	}
	for id, key := range map[string]any{"r": &s.rsa.PublicKey, "e": &s.ec.PublicKey} {
		k, err := jwkset.NewJWKFromKey(key, jwkset.JWKOptions{Metadata: jwkset.JWKMetadataOptions{KID: id}})
		if err != nil {
			s.t.Fatal(err)
		}
		set.Keys = append(set.Keys, k.Marshal())
	}
	set.Keys = append(set.Keys, map[string]string{"kty": "unheard-of", "kid": "x"})
	text, err := json.Marshal(set)
	if err != nil {
		s.t.Fatal(err)
	}
	return text
}

type claims = jwt.MapClaims

func (s *signer) sign(method jwt.SigningMethod, id string, key any, change claims) string {
	s.t.Helper()
	all := claims{"iss": "https://port.example", "aud": "osprey", "sub": "ada", "name": "Ada", "exp": time.Now().Add(time.Hour).Unix(), "realm": map[string]any{"roles": []string{"office", "other"}}}
	for name, v := range change {
		if all[name] = v; v == nil {
			delete(all, name)
		}
	}
	token := jwt.NewWithClaims(method, all)
	if id != "" {
		token.Header["kid"] = id
	}
	text, err := token.SignedString(key)
	if err != nil {
		s.t.Fatal(err)
	}
	return text
}

func (s *signer) config(keys string) access.Config {
	return access.Config{Tokens: &access.TokensConfig{Keys: keys, Issuer: "https://port.example", Audience: "osprey", Algorithms: []string{"RS256", "ES256"}, ID: "sub", Name: "name", Roles: "realm.roles", Map: map[string][]string{"office": {"clerk", "reader"}}}}
}

// TestTokens takes tokens that are well, and none of those that are forged, expired or meant for
// others.
func TestTokens(t *testing.T) {
	s := newSigner(t)
	file := filepath.Join(t.TempDir(), "keys.json")
	if err := os.WriteFile(file, s.set(), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, keys := range []string{s.server.URL, file} {
		a := open(t, s.config(keys))
		for _, token := range []string{s.sign(jwt.SigningMethodRS256, "r", s.rsa, nil), s.sign(jwt.SigningMethodES256, "e", s.ec, nil), s.sign(jwt.SigningMethodES256, "", s.ec, claims{"aud": []string{"others", "osprey"}}), s.sign(jwt.SigningMethodRS256, "r", s.rsa, claims{"exp": time.Now().Add(-10 * time.Second).Unix()})} {
			who, no := a.Identify(t.Context(), request("Authorization", "Bearer "+token))
			if no != nil {
				t.Errorf("it is refused: %s, %s", no.Msg, no.Why)
				continue
			}
			if who.ID != "token:ada" || who.Name != "Ada" || strings.Join(who.Roles, " ") != "clerk reader" || who.Claims["sub"] != "ada" {
				t.Errorf("it is %+v", who)
			}
		}
		public := append([]byte{}, s.rsa.PublicKey.N.Bytes()...)
		good := s.sign(jwt.SigningMethodRS256, "r", s.rsa, nil)
		parts := strings.Split(good, ".")
		other, err := rsa.GenerateKey(rand.Reader, 2048)
		if err != nil {
			t.Fatal(err)
		}
		for what, token := range map[string]string{
			"none":            s.sign(jwt.SigningMethodNone, "r", jwt.UnsafeAllowNoneSignatureType, nil),
			"key confusion":   s.sign(jwt.SigningMethodHS256, "r", public, nil),
			"another method":  s.sign(jwt.SigningMethodRS512, "r", s.rsa, nil),
			"forged":          s.sign(jwt.SigningMethodRS256, "r", other, nil),
			"no such key":     s.sign(jwt.SigningMethodRS256, "z", s.rsa, nil),
			"other kind":      s.sign(jwt.SigningMethodES256, "r", s.ec, nil),
			"expired":         s.sign(jwt.SigningMethodRS256, "r", s.rsa, claims{"exp": time.Now().Add(-time.Hour).Unix()}),
			"for ever":        s.sign(jwt.SigningMethodRS256, "r", s.rsa, claims{"exp": nil}),
			"not yet":         s.sign(jwt.SigningMethodRS256, "r", s.rsa, claims{"nbf": time.Now().Add(time.Hour).Unix()}),
			"another issuer":  s.sign(jwt.SigningMethodRS256, "r", s.rsa, claims{"iss": "https://eve.example"}),
			"another's":       s.sign(jwt.SigningMethodRS256, "r", s.rsa, claims{"aud": "others"}),
			"no audience":     s.sign(jwt.SigningMethodRS256, "r", s.rsa, claims{"aud": nil}),
			"nobody's":        s.sign(jwt.SigningMethodRS256, "r", s.rsa, claims{"sub": nil}),
			"a number's":      s.sign(jwt.SigningMethodRS256, "r", s.rsa, claims{"sub": 7}),
			"changed":         parts[0] + "." + parts[1][:len(parts[1])-2] + "AA." + parts[2],
			"cut":             parts[0] + "." + parts[1],
			"no token at all": "a.b.c",
		} {
			if who, no := a.Identify(t.Context(), request("Authorization", "Bearer "+token)); no == nil || no.Status != http.StatusUnauthorized {
				t.Errorf("%s: it is %+v, %v", what, who, no)
			}
		}
	}
	if _, err := access.New(access.Config{Tokens: &access.TokensConfig{Algorithms: []string{"HS256"}}}); err == nil {
		t.Error("a shared secret is taken for a key")
	}
}

// TestKeySet reads a set again when a token names a key that it does not have, though not for each such
// token; while it is away, what is known is used.
func TestKeySet(t *testing.T) {
	s := newSigner(t)
	a := open(t, s.config(s.server.URL))
	token := s.sign(jwt.SigningMethodRS256, "r", s.rsa, nil)
	bearer := func(token string) *http.Request { return request("Authorization", "Bearer "+token) }
	for range 50 {
		if _, no := a.Identify(t.Context(), bearer(token)); no != nil {
			t.Fatal(no.Why)
		}
		a.Identify(t.Context(), bearer(s.sign(jwt.SigningMethodRS256, "made up", s.rsa, nil)))
	}
	if n := s.reads.Load(); n != 1 {
		t.Errorf("the set was read %d times", n)
	}
	for name, answer := range map[string]func(w http.ResponseWriter){
		"away":     func(w http.ResponseWriter) { w.WriteHeader(http.StatusBadGateway) },
		"no JSON":  func(w http.ResponseWriter) { w.Write([]byte("<html>")) },
		"endless":  func(w http.ResponseWriter) { w.Write([]byte(strings.Repeat(" ", 2<<20))) },
		"too many": func(w http.ResponseWriter) { w.Write([]byte(`{"keys":[` + strings.Repeat(`{},`, 200) + `{}]}`)) },
		"elsewhere": func(w http.ResponseWriter) {
			w.Header().Set("Location", "http://127.0.0.1:1")
			w.WriteHeader(http.StatusFound)
		},
	} {
		s.serve.Store(&answer)
		fresh := open(t, s.config(s.server.URL))
		if _, no := fresh.Identify(t.Context(), bearer(token)); no == nil || no.Status != http.StatusServiceUnavailable {
			t.Errorf("%s: %+v", name, no)
		}
		if _, no := a.Identify(t.Context(), bearer(token)); no != nil {
			t.Errorf("%s: what is known is not used: %s", name, no.Why)
		}
	}
}
