package rest

import (
	"context"
	"errors"
	"net/http"
	"sync/atomic"
	"time"

	"github.com/failsafe-go/failsafe-go/circuitbreaker"
	"github.com/failsafe-go/failsafe-go/failsafehttp"
	"github.com/gregjones/httpcache"
	lru "github.com/hashicorp/golang-lru/v2"

	"osprey/stores/remote"
)

// This file makes the clients: with retries, a circuit breaker and a small
// private cache (RFC 9111). All requests are GET, which is safe to repeat.

const (
	breakAfter = 10              // failures behind each other, after which nothing is asked
	breakFor   = 5 * time.Second // how long
	cached     = 512             // answers that are kept
)

// clients returns a client with a cache and one without, for requests that
// carry headers of a caller: what one may see must not be shown to another.
func clients(c *Config) (shared, direct *http.Client) {
	retries := c.Retries
	if retries == 0 {
		retries = 2
	}
	network := &http.Transport{
		Proxy: http.ProxyFromEnvironment, MaxIdleConnsPerHost: c.Concurrency, IdleConnTimeout: time.Minute, ForceAttemptHTTP2: true,
	}
	breaker := circuitbreaker.NewBuilder[*http.Response]().
		HandleIf(func(r *http.Response, err error) bool {
			return err != nil && !errors.Is(err, context.Canceled) || r != nil && r.StatusCode >= http.StatusInternalServerError
		}).WithFailureThreshold(breakAfter).WithDelay(breakFor).Build()
	var steady http.RoundTripper = failsafehttp.NewRoundTripper(counted{network}, breaker)
	if retries > 0 {
		retry := failsafehttp.NewRetryPolicyBuilder().WithMaxRetries(retries).WithBackoff(50*time.Millisecond, time.Second).
			AbortOnErrors(circuitbreaker.ErrOpen, context.Canceled, context.DeadlineExceeded).ReturnLastFailure().Build()
		steady = failsafehttp.NewRoundTripper(counted{network}, retry, breaker)
	}
	known, err := lru.New[string, []byte](cached)
	if err != nil {
		panic(err) // only for a size below 1
	}
	return remote.Client(&httpcache.Transport{Transport: steady, Cache: cache{known}}), remote.Client(steady)
}

// A cache keeps the answers that were used last.
type cache struct{ known *lru.Cache[string, []byte] }

func (c cache) Get(key string) ([]byte, bool)   { return c.known.Get(key) }
func (c cache) Set(key string, response []byte) { c.known.Add(key, response) }
func (c cache) Delete(key string)               { c.known.Remove(key) }

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
	return s.client.Do(r)
}
