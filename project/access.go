package project

import (
	"cmp"
	"net/netip"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"osprey/access"
	"osprey/core/binding"
	"osprey/core/language"
)

// This file reads how callers are known.

// checkAccess fills in what is not configured, and tells what is wrong.
func checkAccess(config *Config, src *language.Source, problems *language.Problems) {
	a := config.Access
	if a == nil {
		return
	}
	wrong := func(key, fix, format string, args ...any) {
		problems.Add(ruleConfig, findText(src, key), format, args...).Fix = fix
	}
	a.Nobody = cmp.Or(a.Nobody, "refused")
	if known := []string{"refused", "allowed"}; !slices.Contains(known, a.Nobody) {
		wrong("nobody:", "", "nobody is %q; there are %s", a.Nobody, strings.Join(known, ", "))
	}
	a.Operations = cmp.Or(a.Operations, AnyOperation)
	for _, of := range append([]string{a.Operations}, a.ofRoles()...) {
		if known := []string{AnyOperation, OnlySaved}; of != "" && !slices.Contains(known, of) {
			wrong("operations:", "", "operations is %q; there are %s", of, strings.Join(known, ", "))
		}
	}
	a.Rules = cmp.Or(a.Rules, "optional")
	if known := []string{"optional", "required"}; !slices.Contains(known, a.Rules) {
		wrong("rules:", "", "rules is %q; there are %s", a.Rules, strings.Join(known, ", "))
	}
	for _, id := range sortedNames(a.Keys) {
		k := a.Keys[id]
		switch {
		case k == nil || k.Name == "":
			wrong(id+":", "write { name: board, hash: argon2id$…, roles: [screen] }", "the key %s has no name", id)
			continue
		case access.CheckHash(k.Hash) != nil:
			wrong(id+":", "osprey keys make prints one", "the hash of the key %s is none of a key", id)
		}
		if _, err := untilOf(k.Until); err != nil {
			wrong(id+":", "write a day such as 2027-01-31", "the key %s ends at %q, which is no day", id, k.Until)
		}
	}
	if t := a.Tokens; t != nil {
		t.ID, t.Name, t.Roles = cmp.Or(t.ID, "sub"), cmp.Or(t.Name, "name"), cmp.Or(t.Roles, "roles")
		if len(t.Algorithms) == 0 {
			t.Algorithms = []string{"RS256", "ES256"}
		}
		for _, name := range t.Algorithms {
			if !slices.Contains(access.Algorithms, name) {
				wrong("algorithms:", "", "tokens takes the algorithm %q; there are %s", name, strings.Join(access.Algorithms, ", "))
			}
		}
		for _, need := range []struct{ key, value string }{{"keys", t.Keys}, {"issuer", t.Issuer}, {"audience", t.Audience}} {
			if need.value == "" {
				wrong("tokens:", "write tokens: { keys: https://port.example/keys, issuer: https://port.example, audience: osprey }", "tokens has no %s, so anybody's would be taken", need.key)
			}
		}
	}
	if h := a.Header; h != nil {
		if h.Name == "" || len(h.From) == 0 {
			wrong("header:", "write header: { name: X-Port-User, from: [10.0.0.0/8] }", "header has no name, or no from, so anybody's word would be taken")
		}
		for _, from := range h.From {
			if _, err := prefixOf(from); err != nil {
				wrong("from:", "write 10.0.0.0/8, or 192.0.2.1", "%q is no address", from)
			}
		}
	}
}

// unruled returns what holds for types without a rule, and which roles callers can have, if that is known.
func (c *Config) unruled() (u binding.Unruled) {
	if c == nil || c.Access == nil {
		return u
	}
	a := c.Access
	u.Required, u.Roles = a.Rules == "required", a.Unruled
	if a.Tokens != nil || a.Header != nil || c.Records != nil {
		return u
	}
	u.Known = slices.Concat(a.NobodyRoles, a.Admin, a.Console)
	for _, k := range a.Keys {
		if k != nil {
			u.Known = append(u.Known, k.Roles...)
		}
	}
	return u
}

// ofRoles returns which operations roles may run.
func (a *AccessConfig) ofRoles() (list []string) {
	for _, role := range sortedNames(a.Roles) {
		if c := a.Roles[role]; c != nil {
			list = append(list, c.Operations)
		}
	}
	return list
}

// untilOf reads when a key ends; the zero time for never.
func untilOf(text string) (time.Time, error) {
	if text == "" || text == "never" {
		return time.Time{}, nil
	}
	if day, err := time.Parse(time.DateOnly, text); err == nil {
		return day, nil
	}
	return time.Parse(time.RFC3339, text)
}

func prefixOf(text string) (netip.Prefix, error) {
	if p, err := netip.ParsePrefix(text); err == nil {
		return p.Masked(), nil
	}
	a, err := netip.ParseAddr(text)
	if err != nil {
		return netip.Prefix{}, err
	}
	return netip.PrefixFrom(a, a.BitLen()), nil
}

// File returns the path of a file that osprey.yaml names, which is in the project's folder if it does not say more.
func (p *Project) File(name string) string {
	if filepath.IsAbs(name) {
		return name
	}
	return filepath.Join(p.Dir, filepath.FromSlash(name))
}

// Callers returns how callers are known, without the keys that are kept elsewhere; nil if everybody may
// ask everything.
func (p *Project) Callers() *access.Config {
	a := p.Own.Access
	if a == nil {
		return nil
	}
	c := &access.Config{Nobody: a.Nobody == "allowed", NobodyRoles: a.NobodyRoles}
	for id, k := range a.Keys {
		until, _ := untilOf(k.Until) // which was checked
		c.Keys = append(c.Keys, access.Key{ID: id, Name: k.Name, Hash: k.Hash, Roles: k.Roles, Until: until})
	}
	if t := a.Tokens; t != nil {
		c.Tokens = &access.TokensConfig{Keys: t.Keys, Issuer: t.Issuer, Audience: t.Audience, Algorithms: t.Algorithms, ID: t.ID, Name: t.Name, Roles: t.Roles}
		if !strings.Contains(t.Keys, "://") {
			c.Tokens.Keys = p.File(t.Keys)
		}
		if t.Map != nil {
			c.Tokens.Map = map[string][]string{}
			for from, to := range t.Map {
				c.Tokens.Map[from] = to
			}
		}
	}
	if h := a.Header; h != nil {
		c.Header = &access.HeaderConfig{Name: h.Name, Roles: h.Roles}
		for _, from := range h.From {
			if prefix, err := prefixOf(from); err == nil {
				c.Header.From = append(c.Header.From, prefix)
			}
		}
	}
	return c
}
