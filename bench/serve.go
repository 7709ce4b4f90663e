package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/http/pprof"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"osprey/bench/peers"
	"osprey/project"
	"osprey/service"
)

// serveCommand returns "bench serve", the process of one server. It prints two
// addresses: that of the server, and that of what it has used.
func serveCommand() *cli.Command {
	return &cli.Command{
		Name:      "serve",
		Usage:     "serve one peer, or Osprey on a project folder",
		ArgsUsage: "PEER|DIR",
		Hidden:    true,
		Flags:     []cli.Flag{&cli.IntFlag{Name: "pool", Required: true}},
		Action: func(ctx context.Context, c *cli.Command) error {
			handler, err := handlerOf(ctx, c.Args().First(), c.Int("pool"))
			if err != nil {
				return err
			}
			front, err := net.Listen("tcp", "127.0.0.1:0")
			if err != nil {
				return err
			}
			side, err := net.Listen("tcp", "127.0.0.1:0")
			if err != nil {
				return err
			}
			mux := http.NewServeMux()
			mux.HandleFunc("GET /usage", tellUsage)
			mux.HandleFunc("GET /profile", pprof.Profile) // for go tool pprof, while a measurement runs
			go http.Serve(side, mux)
			fmt.Println(front.Addr(), side.Addr())
			server := &http.Server{Handler: handler}
			go func() {
				<-ctx.Done()
				server.Close()
			}()
			if err := server.Serve(front); !errors.Is(err, http.ErrServerClosed) {
				return err
			}
			return nil
		},
	}
}

func handlerOf(ctx context.Context, name string, pool int) (http.Handler, error) {
	for i := range peers.All {
		if p := &peers.All[i]; p.Name == name {
			db, err := p.Open(ctx, os.Getenv("REGISTRY_URL"), pool)
			if err != nil {
				return nil, err
			}
			return p.Handler(db), nil
		}
	}
	for i := range peers.Writers {
		if w := &peers.Writers[i]; w.Name == name {
			db, err := (&peers.Peer{}).Open(ctx, os.Getenv("REGISTRY_URL"), pool)
			if err != nil {
				return nil, err
			}
			return w.Handler(db), nil
		}
	}
	if inner, ok := strings.CutPrefix(name, "inprocess:"); ok {
		return inProcess(ctx, inner)
	}
	if handler := plainHandler(name, pool); handler != nil {
		return handler, nil
	}
	if handler := legHandler(name); handler != nil {
		return handler(ctx)
	}
	p, findings, err := project.Open(ctx, name, nil)
	if err != nil {
		return nil, fmt.Errorf("%w\n%v", err, findings)
	}
	return service.New(service.Config{Project: p, Log: slog.New(slog.NewTextHandler(os.Stderr, nil))}), nil
}

// usage is what a process has used since it started.
type usage struct {
	Processor time.Duration // its own, and the system's for it
	Mallocs   uint64
	Bytes     uint64
}

func (u usage) minus(v usage) usage {
	return usage{u.Processor - v.Processor, u.Mallocs - v.Mallocs, u.Bytes - v.Bytes}
}

func ownUsage() usage {
	var r syscall.Rusage
	syscall.Getrusage(syscall.RUSAGE_SELF, &r)
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return usage{time.Duration(r.Utime.Nano() + r.Stime.Nano()), m.Mallocs, m.TotalAlloc}
}

func tellUsage(w http.ResponseWriter, _ *http.Request) {
	json.NewEncoder(w).Encode(ownUsage())
}

// A server is a process that serves.
type server struct {
	name, title string
	address     string
	side        string
	request     func(limit int) []byte // the bytes of a request
	cmd         *exec.Cmd
}

// start starts the process of a server.
func (b *bench) start(ctx context.Context, name, title, what string, request func(limit int) []byte) (*server, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	s := &server{name: name, title: title, request: request}
	s.cmd = exec.CommandContext(ctx, self, "serve", "--pool", fmt.Sprint(b.pool), what)
	s.cmd.Stderr = os.Stderr
	s.cmd.Env = os.Environ()
	for name, value := range b.harbour.Environ() {
		s.cmd.Env = append(s.cmd.Env, name+"="+value)
	}
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	out, err := s.cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	runtime.LockOSThread() // the process ends with the thread that starts it; see Pdeathsig
	if err := s.cmd.Start(); err != nil {
		return nil, err
	}
	if _, err := fmt.Fscan(out, &s.address, &s.side); err != nil {
		s.stop()
		return nil, fmt.Errorf("the server %s did not start: %w", name, err)
	}
	return s, nil
}

func (s *server) stop() {
	s.cmd.Process.Kill()
	s.cmd.Wait()
}

// usage asks the process what it has used.
func (s *server) usage() (u usage, err error) {
	resp, err := http.Get("http://" + s.side + "/usage")
	if err != nil {
		return u, err
	}
	defer resp.Body.Close()
	return u, json.NewDecoder(resp.Body).Decode(&u)
}
