// Package demo starts the harbour demo: a private PostgreSQL cluster, a
// document server and the stand-ins of remote services, all on loopback, with
// the made-up data of the port of Skerrow. Tests use the same.
package demo

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"syscall"
	"time"
)

// Options configures a harbour.
type Options struct {
	State string // folder that keeps the data; made if it is not there
	Fresh bool   // throw the kept data away first
	Scale int    // 1, the default, has 4,000 port calls
	// RegistryOnly starts the relational database alone.
	RegistryOnly bool
	// Ports of the stores; a zero port is any free one.
	Registry, Inspections, Tides, Notices, Fees int
	// Documents is the program that serves documents; "" looks for it beside
	// the running program and in bin/.
	Documents string
	// Progress is told what is under way; nil for nothing.
	Progress func(what string)
}

// Addresses are the environment variables that name the stores of the harbour.
var Addresses = []string{"REGISTRY_URL", "INSPECTIONS_URL", "TIDES_URL", "NOTICES_URL", "FEES_URL", "RECORDS_URL"}

// A Harbour is the stores of the demo, running.
type Harbour struct {
	RegistryURL    string
	InspectionsURL string
	TidesURL       string
	Tides          *Tides // nil if another service is used
	NoticesURL     string
	Notices        *Notices // likewise
	FeesURL        string
	RecordsURL     string // the database of Osprey's own records
	Fees           *Fees  // likewise

	cluster   *Cluster
	documents *child
	tides     *http.Server
	notices   *http.Server
	fees      *http.Server
	lock      *os.File
}

// Environ returns the variables that lead a project to these stores.
func (h *Harbour) Environ() map[string]string {
	return map[string]string{"REGISTRY_URL": h.RegistryURL, "INSPECTIONS_URL": h.InspectionsURL, "TIDES_URL": h.TidesURL, "NOTICES_URL": h.NoticesURL, "FEES_URL": h.FeesURL, "RECORDS_URL": h.RecordsURL}
}

// Start starts the stores whose address is not given by the environment, and
// fills them with the harbour. Stop must be called when it returns no error.
func Start(ctx context.Context, o Options) (h *Harbour, err error) {
	o.Scale = max(o.Scale, 1)
	if o.Progress == nil {
		o.Progress = func(string) {}
	}
	h = &Harbour{RegistryURL: os.Getenv("REGISTRY_URL"), InspectionsURL: os.Getenv("INSPECTIONS_URL"), TidesURL: os.Getenv("TIDES_URL"), NoticesURL: os.Getenv("NOTICES_URL"), FeesURL: os.Getenv("FEES_URL"), RecordsURL: os.Getenv("RECORDS_URL")}
	defer func() {
		if err != nil {
			h.Stop()
			h = nil
		}
	}()
	if err := h.prepareState(&o); err != nil {
		return h, err
	}
	data := sync.OnceValue(func() *port { return makePort(o.Scale) })
	ownRegistry, ownInspections := h.RegistryURL == "", h.InspectionsURL == ""
	if o.RegistryOnly {
		return h, h.startRegistry(ctx, &o, ownRegistry, data)
	}
	if h.TidesURL == "" {
		h.Tides = &Tides{}
		if h.tides, h.TidesURL, err = standIn(o.Tides, "the tide office's stand-in", h.Tides.Handler()); err != nil {
			return h, err
		}
	}
	if h.NoticesURL == "" {
		h.Notices = &Notices{}
		if h.notices, h.NoticesURL, err = standIn(o.Notices, "the harbour master's stand-in", h.Notices.Handler()); err != nil {
			return h, err
		}
	}
	if h.FeesURL == "" {
		h.Fees = &Fees{}
		if h.fees, h.FeesURL, err = standIn(o.Fees, "the harbour office's stand-in", h.Fees.Handler()); err != nil {
			return h, err
		}
	}
	var documents error
	var wait sync.WaitGroup
	wait.Go(func() {
		if ownInspections {
			documents = h.startDocuments(ctx, &o)
		}
		if documents == nil {
			o.Progress("filling the inspections")
			if err := loadInspections(ctx, h.InspectionsURL, o.Scale, ownInspections, data); err != nil {
				documents = fmt.Errorf("the inspections cannot be filled: %w", err)
			}
		}
	})
	registry := h.startRegistry(ctx, &o, ownRegistry, data)
	wait.Wait()
	return h, errors.Join(registry, documents)
}

// prepareState makes the state folder and holds it against a second demo.
func (h *Harbour) prepareState(o *Options) error {
	if err := ownFolder(o.State); err != nil {
		return err
	}
	lock, err := os.OpenFile(filepath.Join(o.State, "lock"), os.O_CREATE|os.O_RDWR|syscall.O_NOFOLLOW, 0o600)
	if err != nil {
		return err
	}
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		lock.Close()
		return fmt.Errorf("another demo is using the data in %s; stop it, or give this one a folder of its own with --state", o.State)
	}
	h.lock = lock
	if o.Fresh {
		for _, name := range []string{"registry", "inspections"} {
			if err := os.RemoveAll(filepath.Join(o.State, name)); err != nil {
				return err
			}
		}
	}
	return nil
}

func (h *Harbour) startRegistry(ctx context.Context, o *Options, own bool, data func() *port) (err error) {
	if own {
		o.Progress("starting PostgreSQL")
		port, err := freePort(o.Registry, "the registry (PostgreSQL)")
		if err != nil {
			return err
		}
		if h.cluster, err = StartCluster(ctx, filepath.Join(o.State, "registry"), port); err != nil {
			return err
		}
		h.RegistryURL = h.cluster.URL
	}
	switch {
	case h.RecordsURL != "":
	case own:
		h.RecordsURL = h.cluster.RecordsURL
	default:
		h.RecordsURL = h.RegistryURL // the tables are in a schema of their own
	}
	o.Progress("filling the registry")
	if err := loadRegistry(ctx, h.RegistryURL, o.Scale, own, data); err != nil {
		return fmt.Errorf("the registry cannot be filled: %w", err)
	}
	return nil
}

func (h *Harbour) startDocuments(ctx context.Context, o *Options) error {
	o.Progress("starting the document server")
	program, err := documentsProgram(o.Documents)
	if err != nil {
		return err
	}
	port, err := freePort(o.Inspections, "the inspections (document server)")
	if err != nil {
		return err
	}
	dir := filepath.Join(o.State, "inspections")
	if err := ownFolder(dir); err != nil {
		return err
	}
	address := fmt.Sprintf("127.0.0.1:%d", port)
	if h.documents, err = startChild("the document server", syscall.SIGTERM, nil, program, "-listen", address, "-dir", dir); err != nil {
		return err
	}
	h.InspectionsURL = "mongodb://" + address + "/harbour"
	deadline := time.Now().Add(20 * time.Second)
	for {
		conn, err := net.Dial("tcp", address)
		if err == nil {
			return conn.Close()
		}
		if ended := h.documents.ended(); ended != nil {
			return ended
		}
		if time.Now().After(deadline) || ctx.Err() != nil {
			return fmt.Errorf("the document server does not answer: %w", err)
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// documentsProgram finds the document server's program.
func documentsProgram(given string) (string, error) {
	places := []string{given}
	if given == "" {
		self, _ := os.Executable()
		places = []string{filepath.Join(filepath.Dir(self), "osprey-documents"), filepath.Join("bin", "osprey-documents")}
	}
	for _, p := range places {
		if path, err := exec.LookPath(p); err == nil {
			return filepath.Abs(path)
		}
	}
	return "", fmt.Errorf("the document server %s is not built; run: make documents", places[0])
}

// standIn serves the stand-in of a remote service on a port, or on any free one
// for zero.
func standIn(port int, what string, handler http.Handler) (*http.Server, string, error) {
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	if err != nil {
		return nil, "", taken(port, what)
	}
	s := &http.Server{Handler: handler, ReadHeaderTimeout: 5 * time.Second}
	go s.Serve(l)
	return s, "http://" + l.Addr().String(), nil
}

// freePort returns the port if it is free, or any free one for zero.
func freePort(port int, what string) (int, error) {
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	if err != nil {
		return 0, taken(port, what)
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

func taken(port int, what string) error {
	return fmt.Errorf("port %d on 127.0.0.1, for %s, is taken: stop what uses it, or move the demo with --port (make demo PORT=8420)", port, what)
}

// Stop ends everything that was started. It may be called more than once.
func (h *Harbour) Stop() {
	for _, s := range []*http.Server{h.tides, h.notices, h.fees} {
		if s != nil {
			s.Close()
		}
	}
	var wait sync.WaitGroup
	if h.documents != nil {
		wait.Go(h.documents.end)
	}
	if h.cluster != nil {
		wait.Go(h.cluster.Stop)
	}
	wait.Wait()
	if h.lock != nil {
		h.lock.Close()
	}
}

// RegistryProcess returns the process of the database server, whose children
// are its connections.
func (h *Harbour) RegistryProcess() int { return h.cluster.child.cmd.Process.Pid }

// StopRegistry ends the registry, as a failure would.
func (h *Harbour) StopRegistry() { h.cluster.Stop() }

// StopInspections ends the document server.
func (h *Harbour) StopInspections() { h.documents.end() }

// StopTides ends the tide office's stand-in.
func (h *Harbour) StopTides() { h.tides.Close() }
