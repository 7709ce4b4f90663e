package rest

import (
	"context"
	"net/http"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"github.com/failsafe-go/failsafe-go/failsafehttp"
	"github.com/gregjones/httpcache"
	lru "github.com/hashicorp/golang-lru/v2"

	"osprey/core/store"
	"osprey/stores/remote"
)

// This file makes the clients: with retries and a small private cache (RFC 9111).
// What is read with GET is safe to repeat; what writes is asked once.

const (
	cached      = 512      // answers that are kept
	cachedBytes = 64 << 20 // bytes of all of them, and a quarter of that of one
)

// clients returns a client with a cache and one without, for requests that
// carry headers of a caller: what one may see must not be shown to another; and one
// that writes.
func clients(c *Config) (shared, direct, writer *http.Client, keeps *cache) {
	retries := c.Retries
	if retries == 0 {
		retries = 2
	}
	network := &http.Transport{
		Proxy: http.ProxyFromEnvironment, MaxIdleConnsPerHost: c.Concurrency, IdleConnTimeout: time.Minute, ForceAttemptHTTP2: true,
	}
	var steady http.RoundTripper = counted{network}
	if retries > 0 {
		retry := failsafehttp.NewRetryPolicyBuilder().WithMaxRetries(retries).WithBackoff(50*time.Millisecond, time.Second).
			AbortOnErrors(context.Canceled, context.DeadlineExceeded).AbortIf(waitsTooLong).ReturnLastFailure().Build()
		steady = failsafehttp.NewRoundTripper(counted{network}, retry)
	}
	keeps = newCache()
	return remote.Client(&httpcache.Transport{Transport: steady, Cache: keeps}), remote.Client(steady), remote.Client(counted{network}), keeps
}

// waitsTooLong reports whether a service asks to wait (Retry-After, RFC 9110,
// section 10.2.3) for longer than there is time. Then its answer is told as it is.
func waitsTooLong(r *http.Response, _ error) bool {
	if r == nil || r.Header.Get("Retry-After") == "" {
		return false
	}
	wait, ok := retryAfter(r.Header.Get("Retry-After"))
	deadline, bound := r.Request.Context().Deadline()
	return ok && bound && time.Until(deadline) < wait
}

// retryAfter reads the header Retry-After: seconds, or a date.
func retryAfter(text string) (time.Duration, bool) {
	if seconds, err := strconv.Atoi(text); err == nil {
		return time.Duration(seconds) * time.Second, true
	}
	at, err := http.ParseTime(text)
	return time.Until(at), err == nil
}

// A cache keeps the answers that were used last.
type cache struct {
	known *lru.Cache[string, []byte]
	bytes atomic.Int64
	asked atomic.Int64 // answers that were wanted and could be kept
	given atomic.Int64 // of these, kept ones that were given
	mu    sync.Mutex   // guards additions
}

func newCache() *cache {
	c := &cache{}
	var err error
	if c.known, err = lru.NewWithEvict(cached, func(_ string, response []byte) { c.bytes.Add(-int64(len(response))) }); err != nil {
		panic(err) // only for a size below 1
	}
	return c
}

func (c *cache) Get(key string) ([]byte, bool) { return c.known.Get(key) }

func (c *cache) Set(key string, response []byte) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.known.Remove(key); len(response) > cachedBytes/4 {
		return
	}
	c.bytes.Add(int64(len(response)))
	c.known.Add(key, response)
	for c.bytes.Load() > cachedBytes {
		if _, _, any := c.known.RemoveOldest(); !any {
			return
		}
	}
}

func (c *cache) Delete(key string) { c.known.Remove(key) }

type requestsKey struct{}

// counting returns a context whose requests are counted where they leave, and
// the count: answers from the cache are no requests, and retries are.
func counting(ctx context.Context) (context.Context, *atomic.Int64) {
	n := &atomic.Int64{}
	return context.WithValue(ctx, requestsKey{}, n), n
}

// counted counts requests.
type counted struct{ http.RoundTripper }

// RoundTrip makes a request.
func (c counted) RoundTrip(r *http.Request) (*http.Response, error) {
	if n, ok := r.Context().Value(requestsKey{}).(*atomic.Int64); ok {
		n.Add(1)
	}
	return c.RoundTripper.RoundTrip(r)
}

// do makes a request with the client that is right for it.
func (s *Source) do(r *http.Request) (*http.Response, error) {
	if s.service.OfCaller(r) {
		return s.direct.Do(r)
	}
	s.keeps.asked.Add(1)
	answer, err := s.client.Do(r)
	if err == nil && answer.Header.Get(httpcache.XFromCache) != "" {
		s.keeps.given.Add(1)
	}
	return answer, err
}

// Figures tells of the answers that are kept.
func (s *Source) Figures() store.Figures {
	return store.Figures{Kept: &store.Kept{Answers: s.keeps.known.Len(), Bytes: s.keeps.bytes.Load(), Asked: s.keeps.asked.Load(), Given: s.keeps.given.Load()}}
}
