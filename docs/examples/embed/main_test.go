package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"osprey/demo/demotest"
)

func TestMain(m *testing.M) { demotest.Main(m) }

// TestEmbed builds the program, starts it on the stores of the harbour and asks
// it for what its function gives.
func TestEmbed(t *testing.T) {
	demotest.Setenv(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	address := l.Addr().String()
	l.Close()
	program := filepath.Join(t.TempDir(), "embed")
	if out, err := exec.Command("go", "build", "-o", program, ".").CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	cmd := exec.Command(program)
	cmd.Dir, cmd.Env = demotest.Root(), append(os.Environ(), "LISTEN="+address)
	var log bytes.Buffer
	cmd.Stderr = &log
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { cmd.Process.Kill(); cmd.Wait() }()
	var res *http.Response
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(50 * time.Millisecond) {
		res, err = http.Post("http://"+address+"/graphql", "application/json", strings.NewReader(`{"query": "{ portCalls(limit: 20) { label craft { name } berth { name } } }"}`))
		if err == nil {
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("%v\n%s", err, log.String())
		}
	}
	defer res.Body.Close()
	body, _ := io.ReadAll(res.Body)
	var answer struct {
		Data struct {
			PortCalls []struct {
				Label string
				Craft struct{ Name string }
				Berth *struct{ Name string }
			}
		}
	}
	if err := json.Unmarshal(body, &answer); err != nil || len(answer.Data.PortCalls) != 20 {
		t.Fatalf("the program answers %s", body)
	}
	for _, c := range answer.Data.PortCalls {
		place := "anchor"
		if c.Berth != nil {
			place = c.Berth.Name
		}
		if want := fmt.Sprintf("%s at %s", c.Craft.Name, place); c.Label != want {
			t.Errorf("a call is labelled %q, want %q", c.Label, want)
		}
	}
	// What the function refuses is not there; what it does is done with the rest.
	demotest.KeepRegistry(t)
	for berth, want := range map[int]string{
		2: `Mutation.moor is refused, and nothing of it is done: Old Undertow has 237.1 m, and Old Quay B has 120 m`,
		1: `{"data":{"moor":{"label":"Old Undertow at Old Quay A"}}}`,
	} {
		query := fmt.Sprintf(`{"query": "mutation { moor(call: {craft: 9100112, arrivedAt: \"2030-01-01T00:00:00Z\", purpose: REPAIR, quay: \"Q1\", berth: %d}) { label } }"}`, berth)
		res, err := http.Post("http://"+address+"/graphql", "application/json", strings.NewReader(query))
		if err != nil {
			t.Fatal(err)
		}
		body, _ := io.ReadAll(res.Body)
		res.Body.Close()
		if !strings.Contains(string(body), want) {
			t.Errorf("berth %d is answered with %s", berth, body)
		}
	}
}
