package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"osprey/bench/peers"
)

// tooMany is how many port calls the peer with a query for every object is
// spared: one answer takes seconds.
const tooMany = 1000

// projectDir is the folder that Osprey serves.
const projectDir = "demo/harbour"

// peers measures Osprey beside the handlers written by hand.
func (b *bench) peers(ctx context.Context) error {
	servers, err := b.startPeers(ctx)
	for _, s := range servers {
		defer s.stop()
	}
	if err != nil {
		return err
	}
	for _, n := range b.sizes {
		if err := sameAnswers(ctx, servers, n); err != nil {
			return err
		}
	}
	fmt.Println("all servers give the same answers")
	inside, err := b.start(ctx, "inside", "Osprey, without HTTP", "inprocess:"+projectDir, nil)
	if err != nil {
		return err
	}
	defer inside.stop()
	servers = append(servers, inside)
	for _, clients := range []int{8, 1} {
		for _, n := range b.sizes {
			these := servers
			if n >= tooMany {
				these = slices.DeleteFunc(slices.Clone(servers), func(s *server) bool { return s.name == "nested" })
			}
			results, err := b.interleave(these, n, clients)
			if err != nil {
				return err
			}
			printTable(these, results, n, clients)
		}
	}
	return nil
}

// startPeers starts the peers and Osprey, those that were asked for.
func (b *bench) startPeers(ctx context.Context) ([]*server, error) {
	var servers []*server
	add := func(name, title, what string, request func(limit int) []byte) error {
		if len(b.servers) > 0 && !slices.Contains(b.servers, name) {
			return nil
		}
		s, err := b.start(ctx, name, title, what, request)
		if err == nil {
			servers = append(servers, s)
		}
		return err
	}
	for _, p := range peers.All {
		if err := add(p.Name, p.Title, p.Name, func(limit int) []byte { return get("/arrivals?limit=" + strconv.Itoa(limit)) }); err != nil {
			return servers, err
		}
	}
	if _, err := os.Stat(filepath.Join(projectDir, "osprey.yaml")); err != nil {
		return servers, fmt.Errorf("bench runs in the folder of the sources: %w", err)
	}
	if err := add("osprey", "Osprey, a saved operation by its name", projectDir, savedRequest); err != nil {
		return servers, err
	}
	return servers, add("text", "Osprey, the operation's text in a POST", projectDir, ospreyRequest(arrivals()))
}

// savedRequest asks for the harbour's saved operation, as the peers are asked:
// with a GET that says how many.
func savedRequest(limit int) []byte {
	return get("/graphql?operationName=Latest&variables=" + url.QueryEscape(fmt.Sprintf(`{"limit":%d}`, limit)))
}

// arrivals returns the text of the operation that the peers answer.
func arrivals() string {
	text, err := os.ReadFile(filepath.Join(projectDir, "operations", "Latest.graphql"))
	if err != nil {
		panic(err) // startPeers looks whether the project is there
	}
	return string(text)
}

// ospreyRequest returns the requests of an operation with a variable limit.
func ospreyRequest(operation string) func(limit int) []byte {
	return func(limit int) []byte {
		body, err := json.Marshal(map[string]any{"query": operation, "variables": map[string]any{"limit": limit}})
		if err != nil {
			panic(err) // a text and a number
		}
		return post("/graphql", body)
	}
}

// sameAnswers asks all servers and compares what they answer, with the white
// space and the order of keys that JSON leaves open made equal.
func sameAnswers(ctx context.Context, servers []*server, n int) error {
	var want []byte
	for _, s := range servers {
		body, err := once(ctx, s, s.request(n))
		if err != nil {
			return fmt.Errorf("%s: %w", s.name, err)
		}
		d := json.NewDecoder(bytes.NewReader(body))
		d.UseNumber()
		var value any
		if err := d.Decode(&value); err != nil {
			return fmt.Errorf("%s does not answer JSON: %w", s.name, err)
		}
		got, _ := json.Marshal(value)
		if want == nil {
			want = got
		}
		if !bytes.Equal(got, want) {
			at := 0
			for at < min(len(got), len(want)) && got[at] == want[at] {
				at++
			}
			return fmt.Errorf("%s answers otherwise than %s for %d calls:\n%s\n%s", s.name, servers[0].name, n, around(got, at), around(want, at))
		}
	}
	return nil
}

func around(text []byte, at int) []byte {
	return text[max(at-60, 0):min(at+60, len(text))]
}

// interleave measures all servers in turn, round by round. The first round
// warms up and is thrown away.
func (b *bench) interleave(servers []*server, n, clients int) (map[*server][]*sample, error) {
	results := map[*server][]*sample{}
	for round := range b.rounds + 1 {
		for _, s := range servers {
			span := b.time
			if round == 0 {
				span = min(b.time, 300*time.Millisecond)
			}
			var result *sample
			var err error
			if s.request == nil {
				result, err = b.loadInside(s, n, clients, span)
			} else {
				result, err = b.load(s, s.request(n), clients, span)
			}
			if err != nil {
				return nil, err
			}
			if round > 0 {
				results[s] = append(results[s], result)
			}
		}
	}
	return results, nil
}

// loadInside has a server ask itself.
func (b *bench) loadInside(s *server, n, clients int, span time.Duration) (*sample, error) {
	before, err := s.usage()
	if err != nil {
		return nil, err
	}
	stores := b.storesUsage()
	begin := time.Now()
	query := url.Values{"limit": {strconv.Itoa(n)}, "clients": {strconv.Itoa(clients)}, "ms": {strconv.Itoa(int(span.Milliseconds()))}}
	resp, err := http.Get("http://" + s.address + "/run?" + query.Encode())
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	total := &sample{elapsed: time.Since(begin), stores: b.storesUsage() - stores}
	if err := json.NewDecoder(resp.Body).Decode(&total.times); err != nil {
		return nil, fmt.Errorf("%s: %w", s.name, err)
	}
	after, err := s.usage()
	total.server = after.minus(before)
	return total, err
}
