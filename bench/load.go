package main

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// A sample is what clients saw of a server in some time.
type sample struct {
	times   []time.Duration // of each request
	elapsed time.Duration
	bytes   int           // of one answer
	server  usage         // of the server's process
	stores  time.Duration // processor time of the database
}

func (s *sample) throughput() float64 { return float64(len(s.times)) / s.elapsed.Seconds() }

// each divides what was used by the number of requests.
func (s *sample) each(total float64) float64 { return total / float64(max(len(s.times), 1)) }

// quantile returns the time within which the share q of requests was answered.
// It sorts the times.
func (s *sample) quantile(q float64) time.Duration {
	if len(s.times) == 0 {
		return 0
	}
	slices.Sort(s.times)
	return s.times[min(int(q*float64(len(s.times))), len(s.times)-1)]
}

// load sends the request from some clients at once, each waiting for its answer
// before it asks again.
func (b *bench) load(s *server, request []byte, clients int, span time.Duration) (*sample, error) {
	before, err := s.usage()
	if err != nil {
		return nil, err
	}
	stores := b.storesUsage()
	results := make([]sample, clients)
	failures := make([]error, clients)
	begin := time.Now()
	var wait sync.WaitGroup
	for i := range clients {
		wait.Go(func() { failures[i] = ask(s.address, request, begin.Add(span), &results[i]) })
	}
	wait.Wait()
	total := &sample{elapsed: time.Since(begin), stores: b.storesUsage() - stores}
	if err := errors.Join(failures...); err != nil {
		return nil, fmt.Errorf("%s: %w", s.name, err)
	}
	after, err := s.usage()
	if err != nil {
		return nil, err
	}
	total.server = after.minus(before)
	for i := range results {
		total.times = append(total.times, results[i].times...)
		total.bytes = max(total.bytes, results[i].bytes)
	}
	return total, nil
}

// ask is one client: a connection that is used again and again. It reads
// answers without looking into them, so that the client costs little beside
// what is measured.
func ask(address string, request []byte, end time.Time, s *sample) error {
	conn, err := net.Dial("tcp", address)
	if err != nil {
		return err
	}
	defer conn.Close()
	r := bufio.NewReaderSize(conn, 64<<10)
	for {
		begin := time.Now()
		if begin.After(end) {
			return nil
		}
		if _, err := conn.Write(request); err != nil {
			return err
		}
		n, err := answer(r, io.Discard)
		if err != nil {
			return err
		}
		s.bytes = n
		s.times = append(s.times, time.Since(begin))
	}
}

// answer reads one answer and returns the size of its body.
func answer(r *bufio.Reader, body io.Writer) (int, error) {
	resp, err := http.ReadResponse(r, nil)
	if err != nil {
		return 0, err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		text, _ := io.ReadAll(io.LimitReader(resp.Body, 500))
		return 0, fmt.Errorf("answered %s: %s", resp.Status, text)
	}
	n, err := io.Copy(body, resp.Body)
	return int(n), err
}

// once asks one time and returns the body.
func once(ctx context.Context, s *server, request []byte) ([]byte, error) {
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", s.address)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	if _, err := conn.Write(request); err != nil {
		return nil, err
	}
	var body bytes.Buffer
	_, err = answer(bufio.NewReader(conn), &body)
	return body.Bytes(), err
}

// storesUsage returns the processor time of the database's processes: those
// whose parent is the cluster's server. All connections stay open while a
// measurement runs, so none of them is lost.
func (b *bench) storesUsage() time.Duration {
	const tick = 10 * time.Millisecond // USER_HZ is 100 on Linux
	var total time.Duration
	parent := strconv.Itoa(b.harbour.RegistryProcess())
	paths, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, path := range paths {
		text, err := os.ReadFile(path)
		if err != nil {
			continue
		}
		// The name in brackets can hold anything; proc_pid_stat(5).
		fields := strings.Fields(string(text[bytes.LastIndexByte(text, ')')+1:]))
		if len(fields) < 13 || fields[1] != parent {
			continue
		}
		user, _ := strconv.Atoi(fields[11])
		system, _ := strconv.Atoi(fields[12])
		total += time.Duration(user+system) * tick
	}
	return total
}

func get(path string) []byte {
	return []byte(strings.Join([]string{"GET " + path + " HTTP/1.1", "Host: bench", "", ""}, "\r\n"))
}

func post(path string, body []byte) []byte {
	return []byte(strings.Join([]string{"POST " + path + " HTTP/1.1", "Host: bench", "Content-Type: application/json",
		"Content-Length: " + strconv.Itoa(len(body)), "", string(body)}, "\r\n"))
}
