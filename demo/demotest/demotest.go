// Package demotest gives tests the stores of the harbour demo, started once for
// a test program, and counts what reaches them: statements as PostgreSQL counts
// them in the database of the registry, commands on the wire of the document server, requests at the stand-in.
package demotest

import (
	"context"
	"crypto/rand"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"osprey/demo"
)

var running *demo.Harbour

// Main starts the harbour, runs the tests, and stops it again. It is called
// from TestMain.
func Main(m *testing.M) {
	os.Exit(run(m))
}

func run(m *testing.M) int {
	for _, name := range demo.Addresses {
		os.Unsetenv(name) // the tests stop and count their stores, so they need their own
	}
	dir, err := os.MkdirTemp("/var/tmp", "osprey-test-")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil { // root's server runs as another user
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	program, err := documents()
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	if running, err = demo.Start(context.Background(), demo.Options{State: dir, Documents: program}); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer running.Stop()
	return m.Run()
}

// Root returns the folder of the sources.
func Root() string {
	dir, err := os.Getwd()
	for err == nil && dir != "/" {
		if _, found := os.Stat(filepath.Join(dir, "ARCHITECTURE.md")); found == nil {
			return dir
		}
		dir = filepath.Dir(dir)
	}
	return "."
}

// documents returns the document server's program, built if it is missing.
func documents() (string, error) {
	path := filepath.Join(Root(), "bin", "osprey-documents")
	if _, err := os.Stat(path); err == nil {
		return path, nil
	}
	cmd := exec.Command("make", "documents")
	cmd.Dir = Root()
	if out, err := cmd.CombinedOutput(); err != nil {
		return "", fmt.Errorf("the document server cannot be built: %w\n%s", err, out)
	}
	return path, nil
}

// Harbour returns the running stores.
func Harbour() *demo.Harbour { return running }

// Setenv leads projects of this test to the harbour's stores.
func Setenv(t testing.TB) {
	for name, value := range running.Environ() {
		t.Setenv(name, value)
	}
}

// Statements starts counting at PostgreSQL. The returned function tells how
// many statements of Osprey's it has run since; it counts by itself, in
// pg_stat_statements.
func Statements(t testing.TB) func() int {
	t.Helper()
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, running.RegistryURL)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close(ctx) })
	for _, statement := range []string{`CREATE EXTENSION IF NOT EXISTS pg_stat_statements`, `SELECT pg_stat_statements_reset()`} {
		if _, err := conn.Exec(ctx, statement); err != nil {
			t.Fatal(err)
		}
	}
	return func() int {
		var n int
		if err := conn.QueryRow(ctx, `SELECT COALESCE(sum(calls), 0)::int FROM pg_stat_statements WHERE dbid = (SELECT oid FROM pg_database WHERE datname = current_database()) AND query NOT ILIKE '%pg_stat_statements%'`).Scan(&n); err != nil {
			t.Fatal(err)
		}
		return n
	}
}

// KeepRegistry takes what the test adds to the registry away when it ends, and lets new
// records go on from where they were.
func KeepRegistry(t *testing.T) {
	t.Helper()
	ctx := context.Background()
	tables := []string{"pilotage", "port_calls", "pilots"} // each before what it refers to
	last := make([]int64, len(tables))
	conn, err := pgx.Connect(ctx, running.RegistryURL)
	if err != nil {
		t.Fatal(err)
	}
	for i, table := range tables {
		if err := conn.QueryRow(ctx, "SELECT max(id) FROM "+table).Scan(&last[i]); err != nil {
			t.Fatal(err)
		}
	}
	conn.Close(ctx)
	t.Cleanup(func() {
		conn, err := pgx.Connect(ctx, running.RegistryURL) // anew: the test may have ended others
		if err != nil {
			t.Error(err)
			return
		}
		defer conn.Close(ctx)
		for i, table := range tables {
			if _, err := conn.Exec(ctx, "DELETE FROM "+table+" WHERE id > $1", last[i]); err != nil {
				t.Error(err)
			}
			if _, err := conn.Exec(ctx, "SELECT setval(pg_get_serial_sequence($1, 'id'), $2)", table, last[i]); err != nil {
				t.Error(err)
			}
		}
	})
}

// Folder writes files into a folder of the test's own, and returns it.
func Folder(t *testing.T, files map[string]string) string {
	t.Helper()
	dir := t.TempDir()
	Write(t, dir, files)
	return dir
}

// Write writes files in a folder.
func Write(t *testing.T, dir string, files map[string]string) {
	t.Helper()
	for name, text := range files {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

// A Cluster is a PostgreSQL server of a test's own, which may be killed and started again.
type Cluster struct {
	*demo.Cluster
	t        testing.TB
	dir      string
	port     int
	settings []string
}

// NewCluster starts one, with settings such as wal_level=logical.
func NewCluster(t testing.TB, settings ...string) *Cluster {
	t.Helper()
	dir, err := os.MkdirTemp("/var/tmp", "osprey-test-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil { // which the server's user must reach
		t.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	l.Close()
	c := &Cluster{t: t, dir: filepath.Join(dir, "server"), port: l.Addr().(*net.TCPAddr).Port, settings: settings}
	c.Start()
	t.Cleanup(func() { c.Stop() })
	return c
}

// Start starts the server again. What was killed may hold on to its memory for a moment.
func (c *Cluster) Start() {
	c.t.Helper()
	var err error
	for until := time.Now().Add(20 * time.Second); time.Now().Before(until); time.Sleep(100 * time.Millisecond) {
		if c.Cluster, err = demo.StartCluster(context.Background(), c.dir, c.port, c.settings...); err == nil {
			return
		}
	}
	c.t.Fatal(err)
}

// Database makes a PostgreSQL database of the test's own, such as for records, and returns its URL.
func Database(t testing.TB) string {
	t.Helper()
	ctx := context.Background()
	conn, err := pgx.Connect(ctx, running.RegistryURL)
	if err != nil {
		t.Fatal(err)
	}
	name := "own_" + strings.ToLower(rand.Text())
	if _, err := conn.Exec(ctx, "CREATE DATABASE "+name); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		defer conn.Close(ctx)
		if _, err := conn.Exec(ctx, "DROP DATABASE "+name+" WITH (FORCE)"); err != nil {
			t.Error(err)
		}
	})
	u, err := url.Parse(running.RegistryURL)
	if err != nil {
		t.Fatal(err)
	}
	u.Path = "/" + name
	return u.String()
}
