package access

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/hashicorp/golang-lru/v2/expirable"
	"golang.org/x/crypto/argon2"
	"golang.org/x/sync/singleflight"
	"golang.org/x/time/rate"

	"osprey/core/store"
)

// This file knows the keys of client programs. A key is osprey_ID_SECRET: the id says which one it is,
// and of the secret only a slow hash is kept (Argon2id, RFC 9106), with a salt of its own.

const keyPrefix = "osprey_"

// A Key is what is kept of one.
type Key struct {
	ID    string // of the key
	Name  string // of the client program
	Hash  string // as [Made] gives it
	Roles []string
	Until time.Time // when it ends; the zero time for never
}

// Made is a key that was just made: the only time that it is known.
type Made struct{ ID, Secret, Hash string }

// String returns the key as a client sends it.
func (m Made) String() string { return keyPrefix + m.ID + "_" + m.Secret }

// Make makes a key.
func Make() Made {
	m := Made{ID: strings.ToLower(rand.Text()[:10]), Secret: strings.ToLower(rand.Text() + rand.Text())}
	var salt [16]byte
	if _, err := rand.Read(salt[:]); err != nil {
		panic(err) // it never fails
	}
	m.Hash = hash(m.Secret, salt[:])
	return m
}

// The cost of a hash: the second of the two settings that RFC 9106, section 4, recommends, with less
// memory, since secrets are made by us and long.
const (
	hashTime    = 3
	hashMemory  = 16 << 10 // KiB
	hashThreads = 1
	hashName    = "argon2id$"
)

func hash(secret string, salt []byte) string {
	sum := argon2.IDKey([]byte(secret), salt, hashTime, hashMemory, hashThreads, 32)
	return hashName + base64.RawURLEncoding.EncodeToString(salt) + "$" + base64.RawURLEncoding.EncodeToString(sum)
}

// CheckHash says what is wrong with a hash that somebody wrote into a file; nil if nothing is.
func CheckHash(text string) error {
	_, salt, sum := parted(text)
	if len(salt) < 8 || len(sum) != 32 {
		return fmt.Errorf("it is no hash of a key; osprey keys make prints one")
	}
	return nil
}

func parted(text string) (ok bool, salt, sum []byte) {
	rest, isOurs := strings.CutPrefix(text, hashName)
	first, second, _ := strings.Cut(rest, "$")
	salt, err := base64.RawURLEncoding.DecodeString(first)
	if err != nil || !isOurs {
		return false, nil, nil
	}
	if sum, err = base64.RawURLEncoding.DecodeString(second); err != nil {
		return false, nil, nil
	}
	return true, salt, sum
}

// fits reports whether a secret is that of a hash.
func fits(secret, kept string) bool {
	ok, salt, _ := parted(kept)
	return ok && subtle.ConstantTimeCompare([]byte(hash(secret, salt)), []byte(kept)) == 1
}

// keys knows keys. The slow hash is made once for a key that is right, and for wrong secrets so often
// at most; an id that there is not costs nothing.
type keys struct {
	listed map[string]Key
	kept   func() ([]Key, error)
	used   func(id string)
	right  *expirable.LRU[[sha256.Size]byte, string] // hashes of keys that were right, by what was sent

	looking singleflight.Group

	mu     sync.Mutex // guards what follows
	wrong  map[string]*rate.Limiter
	hashes chan struct{} // so many are made at once
}

const (
	remembered = 10_000          // keys that were right
	rememberIt = 5 * time.Minute // how long
	wrongEach  = 5               // wrong secrets a second for each key
	atOnce     = 2               // hashes that are made at once
)

func newKeys(listed []Key, kept func() ([]Key, error), used func(string)) *keys {
	k := &keys{listed: map[string]Key{}, kept: kept, used: used, right: expirable.NewLRU[[sha256.Size]byte, string](remembered, nil, rememberIt), wrong: map[string]*rate.Limiter{}, hashes: make(chan struct{}, atOnce)}
	for _, key := range listed {
		k.listed[key.ID] = key
	}
	return k
}

// identify returns whose a key is.
func (k *keys) identify(sent string, now time.Time) (*store.Identity, *Refusal) {
	refused := func(why string) (*store.Identity, *Refusal) {
		return nil, unknown("the key is not known", "ask who runs the service for one", why)
	}
	id, secret, _ := strings.Cut(strings.TrimPrefix(sent, keyPrefix), "_")
	if id == "" || len(id) > 64 || secret == "" || len(secret) > 256 {
		return refused("it has no form of a key")
	}
	key, isListed := k.listed[id]
	if !isListed && k.kept != nil {
		all, err := k.kept()
		if err != nil {
			return nil, &Refusal{http.StatusServiceUnavailable, errAway.Error(), "try it again", err.Error()}
		}
		for _, one := range all {
			if one.ID == id {
				key = one
			}
		}
	}
	if key.ID == "" {
		return refused("there is no key " + id)
	}
	sum := sha256.Sum256([]byte(sent))
	if known, ok := k.right.Get(sum); !ok || known != key.Hash {
		// Those who send the same at once wait for one of them.
		found, _, _ := k.looking.Do(string(sum[:])+key.Hash, func() (any, error) {
			if known, ok := k.right.Get(sum); ok && known == key.Hash {
				return http.StatusOK, nil
			}
			if !k.limiter(id).Allow() {
				return http.StatusTooManyRequests, nil
			}
			k.hashes <- struct{}{}
			defer func() { <-k.hashes }()
			if !fits(secret, key.Hash) {
				return http.StatusUnauthorized, nil
			}
			k.right.Add(sum, key.Hash)
			return http.StatusOK, nil
		})
		switch found {
		case http.StatusTooManyRequests:
			return nil, &Refusal{http.StatusTooManyRequests, "too many wrong keys", "wait a second", "wrong secrets for the key " + id}
		case http.StatusUnauthorized:
			return refused("a wrong secret for the key " + id)
		}
	}
	if !key.Until.IsZero() && now.After(key.Until) {
		return nil, unknown("the key has ended", "ask who runs the service for a new one", "the key "+id+" has ended")
	}
	if !isListed && k.used != nil {
		k.used(id)
	}
	return &store.Identity{ID: "key:" + key.ID, Name: key.Name, Roles: key.Roles}, nil
}

// limiter bounds the wrong secrets for a key that there is.
func (k *keys) limiter(id string) *rate.Limiter {
	k.mu.Lock()
	defer k.mu.Unlock()
	l := k.wrong[id]
	if l == nil {
		l = rate.NewLimiter(wrongEach, 2*wrongEach)
		k.wrong[id] = l
	}
	return l
}
