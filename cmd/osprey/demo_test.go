package main_test

import (
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"osprey/demo"
	"osprey/demo/demotest"
)

// A runningDemo is "osprey demo" as a process.
type runningDemo struct {
	cmd  *exec.Cmd
	port int
	out  saidText
}

func (d *runningDemo) text() string { return d.out.String() }

func (d *runningDemo) live() bool {
	res, err := http.Get(fmt.Sprintf("http://127.0.0.1:%d/live", d.port))
	if err != nil {
		return false
	}
	res.Body.Close()
	return true
}

// startDemo starts a demo of its own data and ports.
func startDemo(t *testing.T, state string, port int, more ...string) *runningDemo {
	t.Helper()
	d := &runningDemo{port: port}
	d.cmd = exec.Command(program, append([]string{"demo", "--state", state, "--port", fmt.Sprint(port)}, more...)...)
	d.cmd.Dir = demotest.Root()
	for _, v := range os.Environ() {
		if name, _, _ := strings.Cut(v, "="); !strings.HasSuffix(name, "_URL") {
			d.cmd.Env = append(d.cmd.Env, v)
		}
	}
	// Beside the program of the test there is no document server.
	link := filepath.Join(filepath.Dir(program), "osprey-documents")
	if _, err := os.Stat(link); err != nil {
		if err := os.Symlink(filepath.Join(demotest.Root(), "bin/osprey-documents"), link); err != nil {
			t.Fatal(err)
		}
	}
	d.cmd.Stdout, d.cmd.Stderr = &d.out, &d.out
	if err := d.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.cmd.Process.Kill(); d.cmd.Wait() })
	return d
}

// waitLive waits until the demo has printed its addresses, and serves.
func (d *runningDemo) waitLive(t *testing.T) {
	t.Helper()
	d.out.waitFor(t, "Stop with Ctrl-C.")
	waitUntil(t, "the demo serves", d.live)
}

// storesGone waits until nothing listens at the demo's ports.
func (d *runningDemo) storesGone(t *testing.T) {
	t.Helper()
	waitUntil(t, "the demo's stores are gone", func() bool {
		for _, port := range []int{d.port, d.port + 12, d.port - 3, d.port + 21} {
			if conn, err := net.DialTimeout("tcp", fmt.Sprintf("127.0.0.1:%d", port), time.Second); err == nil {
				conn.Close()
				return false
			}
		}
		return true
	})
}

// TestDemo starts the demo, stops it by Ctrl-C, starts it again, kills it, and
// starts it once more: nothing stays behind, the data is kept, and a second
// demo is told what is in its way.
func TestDemo(t *testing.T) {
	state, err := os.MkdirTemp("/var/tmp", "osprey-demo-test-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(state) })
	if err := os.Chmod(state, 0o755); err != nil {
		t.Fatal(err)
	}
	const port = 27420
	d := startDemo(t, state, port)
	d.waitLive(t)
	for _, want := range []string{"console   http://127.0.0.1:27420/console/", "registry     postgres://", "--url http://127.0.0.1:27420"} {
		if !strings.Contains(d.text(), want) {
			t.Errorf("the demo does not print %q:\n%s", want, d.text())
		}
	}
	out, errs, code := osprey(t, "ask", "--url", fmt.Sprintf("http://127.0.0.1:%d", port), "-f", boardFile, "--calls", "--as", "tree")
	if code != 0 || !strings.Contains(out, "4 store requests in 2 waves") {
		t.Errorf("ask exits with %d:\n%.500s\n%s", code, out, errs)
	}

	second := startDemo(t, state+"-2", port)
	second.cmd.Wait()
	os.RemoveAll(state + "-2")
	if code := second.cmd.ProcessState.ExitCode(); code != 3 || !strings.Contains(second.text(), "is taken, perhaps by another demo") {
		t.Errorf("a second demo at the same port exits with %d:\n%s", code, second.text())
	}
	third := startDemo(t, state, port+100)
	third.cmd.Wait()
	if code := third.cmd.ProcessState.ExitCode(); code != 3 || !strings.Contains(third.text(), "another demo is using the data") {
		t.Errorf("a second demo on the same data exits with %d:\n%s", code, third.text())
	}

	d.cmd.Process.Signal(os.Interrupt)
	d.cmd.Wait()
	if code := d.cmd.ProcessState.ExitCode(); code != 0 || !strings.Contains(d.text(), "everything is stopped") {
		t.Errorf("Ctrl-C ends the demo with %d:\n%s", code, d.text())
	}
	d.storesGone(t)

	again := startDemo(t, state, port)
	again.waitLive(t)
	again.cmd.Process.Signal(syscall.SIGKILL)
	again.cmd.Wait()
	again.storesGone(t)

	last := startDemo(t, state, port)
	last.waitLive(t)
	if out, errs, code := osprey(t, "ask", "--url", fmt.Sprintf("http://127.0.0.1:%d", port), "{ portCall(id: 4000) { id } }"); code != 0 {
		t.Errorf("after a kill, ask exits with %d:\n%s%s", code, out, errs)
	}
	last.cmd.Process.Signal(os.Interrupt)
	last.cmd.Wait()
	last.storesGone(t)
}

// TestDemoPortTaken takes the port of a store.
func TestDemoPortTaken(t *testing.T) {
	state, err := os.MkdirTemp("/var/tmp", "osprey-demo-test-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(state) })
	const port = 28420
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port+12))
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	d := startDemo(t, state, port)
	d.cmd.Wait()
	if code := d.cmd.ProcessState.ExitCode(); code != 3 || !strings.Contains(d.text(), "port 28432 on 127.0.0.1, for the registry (PostgreSQL), is taken") {
		t.Errorf("the demo exits with %d:\n%s", code, d.text())
	}
	d.storesGoneBut(t, port+12)
}

// storesGoneBut checks that no store but the one at a port is left.
func (d *runningDemo) storesGoneBut(t *testing.T, taken int) {
	t.Helper()
	for _, port := range []int{d.port - 3, d.port + 21} {
		if conn, err := net.DialTimeout("tcp", fmt.Sprintf("127.0.0.1:%d", port), time.Second); err == nil && port != taken {
			conn.Close()
			t.Errorf("something is left at port %d", port)
		}
	}
}

// TestDemoUsesGivenStores starts the demo on stores named by the environment.
func TestDemoUsesGivenStores(t *testing.T) {
	state := t.TempDir()
	const port = 29420
	d := &runningDemo{port: port}
	d.cmd = exec.Command(program, "demo", "--state", state, "--port", fmt.Sprint(port))
	d.cmd.Dir = demotest.Root()
	d.cmd.Env = os.Environ()
	for _, name := range demo.Addresses {
		d.cmd.Env = append(d.cmd.Env, name+"="+demotest.Harbour().Environ()[name])
	}
	d.cmd.Stdout, d.cmd.Stderr = &d.out, &d.out
	if err := d.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.cmd.Process.Kill(); d.cmd.Wait() })
	d.waitLive(t)
	if strings.Contains(d.text(), "starting PostgreSQL") || !strings.Contains(d.text(), demotest.Harbour().RegistryURL) {
		t.Errorf("the demo starts stores of its own:\n%s", d.text())
	}
	out, errs, code := osprey(t, "ask", "--url", fmt.Sprintf("http://127.0.0.1:%d", port), "-f", boardFile, "--calls", "--as", "tree")
	if code != 0 || !strings.Contains(out, "4 store requests in 2 waves") {
		t.Errorf("ask exits with %d:\n%.500s\n%s", code, out, errs)
	}
	d.cmd.Process.Signal(os.Interrupt)
	d.cmd.Wait()
}
