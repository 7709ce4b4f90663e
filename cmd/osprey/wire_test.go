package main_test

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"osprey/demo/demotest"
)

// signed writes a certificate of this machine, with a number, and its key into a folder.
func signed(t *testing.T, dir string, number int64) *x509.Certificate {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	of := &x509.Certificate{SerialNumber: big.NewInt(number), NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, IsCA: true, BasicConstraintsValid: true}
	text, err := x509.CreateCertificate(rand.Reader, of, of, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	own, err := x509.MarshalECPrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	for name, block := range map[string]*pem.Block{"port.crt": {Type: "CERTIFICATE", Bytes: text}, "port.key": {Type: "EC PRIVATE KEY", Bytes: own}} {
		if err := os.WriteFile(filepath.Join(dir, name), pem.EncodeToMemory(block), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	made, err := x509.ParseCertificate(text)
	if err != nil {
		t.Fatal(err)
	}
	return made
}

// TestOverTLS serves over TLS: a renewed certificate is used without a restart, and a broken one is not.
func TestOverTLS(t *testing.T) {
	dir := demotest.Folder(t, map[string]string{
		"osprey.yaml":      "sources:\n  a: { kind: files, folder: data }\ntls: { certificate: port.crt, key: port.key }\n",
		"data/boats.json":  `[{"id": 1}]`,
		"schema/a.graphql": `type Query { boats: [Boat!] @read } type Boat @stored(in: "a", as: "boats", key: "id") { id: ID! }`,
	})
	if _, errs, code := osprey(t, "start", dir, "--listen", "127.0.0.1:0"); code == 0 || !strings.Contains(errs, "the certificate of tls: cannot be used") {
		t.Errorf("without a certificate, it ends with %d: %s", code, errs)
	}
	first := signed(t, dir, 1)
	address, said := freeAddress(t), &saidText{}
	cmd := exec.Command(program, "start", dir, "--listen", address)
	cmd.Stderr = said
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() {
		cmd.Process.Signal(syscall.SIGTERM)
		if err := cmd.Wait(); err != nil {
			t.Errorf("the service did not stop well: %v\n%s", err, said)
		}
	}()
	number := func(of *x509.Certificate) int64 {
		pool := x509.NewCertPool()
		pool.AddCert(of)
		client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}, DisableKeepAlives: true, ForceAttemptHTTP2: true}}
		res, err := client.Post("https://"+address+"/graphql", "application/json", strings.NewReader(`{"query": "{ boats { id } }"}`))
		if err != nil {
			return 0
		}
		defer res.Body.Close()
		if text, _ := io.ReadAll(res.Body); string(text) != `{"data":{"boats":[{"id":"1"}]}}` || res.Proto != "HTTP/2.0" {
			t.Errorf("it answers %s by %s", text, res.Proto)
		}
		return res.TLS.PeerCertificates[0].SerialNumber.Int64()
	}
	waitUntil(t, "it serves", func() bool { return number(first) == 1 })
	said.waitFor(t, "https://"+address+"/graphql")
	second := signed(t, dir, 2)
	waitUntil(t, "the renewed certificate is used", func() bool { return number(second) == 2 })
	if err := os.WriteFile(filepath.Join(dir, "port.crt"), []byte("broken"), 0o600); err != nil {
		t.Fatal(err)
	}
	waitUntil(t, "the broken one is told", func() bool {
		return number(second) == 2 && strings.Contains(said.String(), "the renewed certificate cannot be used")
	})
	if res, err := http.Get("http://" + address + "/live"); err == nil && res.StatusCode == 200 {
		t.Error("it answers without TLS")
	}
}

// TestOrigins lets pages of named origins ask operations, and nothing else, and no other page.
func TestOrigins(t *testing.T) {
	dir := func(origins string) string {
		return demotest.Folder(t, map[string]string{
			"osprey.yaml":      "sources:\n  a: { kind: files, folder: data }\n" + origins,
			"data/boats.json":  `[{"id": 1}]`,
			"schema/a.graphql": `type Query { boats: [Boat!] @read } type Boat @stored(in: "a", as: "boats", key: "id") { id: ID! }`,
		})
	}
	send := func(address, method, path, origin string, more ...string) *http.Response {
		req, err := http.NewRequest(method, "http://"+address+path, bytes.NewReader([]byte(`{"query": "{ boats { id } }"}`)))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Origin", origin)
		req.Header.Set("Content-Type", "application/json")
		for i := 0; i < len(more); i += 2 {
			req.Header.Set(more[i], more[i+1])
		}
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		res.Body.Close()
		return res
	}
	const board = "https://board.port.example"
	closed, _, _ := served(t, dir(""))
	open, _, _ := served(t, dir("origins: ["+board+"]\n"))
	for _, test := range []struct {
		address, method, path, origin string
		allowed                       bool
	}{
		{closed, http.MethodPost, "/graphql", board, false},
		{closed, http.MethodOptions, "/graphql", board, false},
		{open, http.MethodPost, "/graphql", board, true},
		{open, http.MethodOptions, "/graphql", board, true},
		{open, http.MethodGet, "/schema.graphql", board, true},
		{open, http.MethodPost, "/graphql", "https://board.port.example.evil.example", false},
		{open, http.MethodOptions, "/graphql", "null", false},
		{open, http.MethodOptions, "/api/v1/plans", board, false},
		{open, http.MethodGet, "/api/v1/status", board, false},
	} {
		res := send(test.address, test.method, test.path, test.origin, "Access-Control-Request-Method", "POST", "Access-Control-Request-Headers", "content-type, authorization")
		got := res.Header.Get("Access-Control-Allow-Origin")
		if (got == test.origin) != test.allowed || got == "*" || res.Header.Get("Access-Control-Allow-Credentials") != "" {
			t.Errorf("%s %s of %s: %q", test.method, test.path, test.origin, got)
		}
		if test.allowed && test.method == http.MethodOptions && !strings.Contains(strings.ToLower(res.Header.Get("Access-Control-Allow-Headers")), "authorization") {
			t.Errorf("%s may send %q", test.origin, res.Header.Get("Access-Control-Allow-Headers"))
		}
	}
	// What a browser sends of a page without asking first is none that is taken.
	for _, kind := range []string{"text/plain", "application/x-www-form-urlencoded", "multipart/form-data", ""} {
		req, _ := http.NewRequest(http.MethodPost, "http://"+open+"/graphql", strings.NewReader(`{"query": "{ boats { id } }"}`))
		if kind != "" {
			req.Header.Set("Content-Type", kind)
		}
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		if res.Body.Close(); res.StatusCode != http.StatusUnsupportedMediaType {
			t.Errorf("a body of %q is answered %d", kind, res.StatusCode)
		}
	}
	for _, origin := range []string{"*", "board.port.example", "https://board.port.example/", "https://*.port.example"} {
		if out, errs, code := osprey(t, "check", dir(fmt.Sprintf("origins: [%q]\n", origin))); code == 0 || !strings.Contains(out+errs, "which is no origin") {
			t.Errorf("the origin %s: %d %s%s", origin, code, out, errs)
		}
	}
}
