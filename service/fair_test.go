package service_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"osprey/demo/demotest"
	"osprey/service"
)

// TestQuietCaller has four callers hold the database with a costly operation, one
// behind the other; another who asks for little is not kept waiting by them. The
// callers come from addresses of their own.
func TestQuietCaller(t *testing.T) {
	conn, err := pgx.Connect(t.Context(), demotest.Harbour().RegistryURL)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	if _, err := conn.Exec(t.Context(), `DROP SCHEMA IF EXISTS fair CASCADE; CREATE SCHEMA fair;
		CREATE TABLE fair.buoys (id int PRIMARY KEY, name text NOT NULL); INSERT INTO fair.buoys VALUES (1, 'Kelp');
		CREATE VIEW fair.surveys AS SELECT 1 AS id, 'deep' AS name FROM pg_sleep(1)`); err != nil {
		t.Fatal(err)
	}
	base, _ := serveAt(t, map[string]string{
		"osprey.yaml": "sources:\n  sea: { kind: postgres, pool: 4, url: \"" + demotest.Harbour().RegistryURL + "?search_path=fair\" }\n",
		"schema/a.graphql": "type Query { buoys: [Buoy!] @read surveys: [Survey!] @read }\ntype Buoy @stored(in: \"sea\", as: \"buoys\", key: \"id\") { id: ID! name: String }\n" +
			"type Survey @stored(in: \"sea\", as: \"surveys\", key: \"id\") { id: ID name: String }",
	}, service.Config{}, service.Stop{})
	from := func(address string) func(query string) string {
		dialer := &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(address)}}
		client := &http.Client{Transport: &http.Transport{DialContext: dialer.DialContext}}
		return func(query string) string {
			body, _ := json.Marshal(map[string]string{"query": query})
			res, err := client.Post(base+"/graphql", "application/json", bytes.NewReader(body))
			if err != nil {
				return err.Error()
			}
			defer res.Body.Close()
			text, _ := io.ReadAll(res.Body)
			return string(text)
		}
	}
	quiet := from("127.0.0.9")
	if got := quiet(`{ buoys { name } }`); got != `{"data":{"buoys":[{"name":"Kelp"}]}}` {
		t.Fatalf("answers %s", got)
	}
	stop := make(chan bool)
	var wait sync.WaitGroup
	for i := range 4 {
		ask := from(fmt.Sprintf("127.0.0.%d", 2+i))
		for range 3 { // each several at once
			wait.Go(func() {
				for {
					select {
					case <-stop:
						return
					default:
					}
					if got := ask(`{ surveys { name } }`); !strings.Contains(got, "deep") {
						t.Errorf("a costly operation answers %s", got)
						return
					}
				}
			})
		}
	}
	time.Sleep(300 * time.Millisecond)
	var took []time.Duration
	for range 40 {
		start := time.Now()
		if got := quiet(`{ buoys { name } }`); got != `{"data":{"buoys":[{"name":"Kelp"}]}}` {
			t.Errorf("the quiet caller gets %s", got)
		}
		took = append(took, time.Since(start))
		time.Sleep(20 * time.Millisecond)
	}
	close(stop)
	wait.Wait()
	slices.Sort(took)
	// A place is waited for a second where there is none; nine of ten are far below.
	if p90 := took[len(took)*9/10]; p90 > 300*time.Millisecond {
		t.Errorf("nine of ten took %s, the longest %s", p90, took[len(took)-1])
	}
	t.Logf("half took %s, nine of ten %s, the longest %s", took[len(took)/2], took[len(took)*9/10], took[len(took)-1])
}
