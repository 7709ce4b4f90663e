package demo

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"time"
)

// A child is a server process of the demo. It ends with this process, however
// this process ends.
type child struct {
	name string
	stop os.Signal // asks it to end
	cmd  *exec.Cmd
	done chan struct{} // closed when it has ended
	tail *tail
}

// starter starts processes on one thread that lives as long as the program:
// the kernel ends a child when the thread that started it does (PDEATHSIG).
var starter = sync.OnceValue(func() chan func() {
	work := make(chan func())
	go func() {
		runtime.LockOSThread()
		for f := range work {
			f()
		}
	}()
	return work
})

// startChild starts a server. It gets a process group of its own, so that
// Ctrl-C in a terminal reaches this program first, and is ended by stop.
func startChild(name string, stop syscall.Signal, as *syscall.Credential, path string, args ...string) (*child, error) {
	c := &child{name: name, stop: stop, done: make(chan struct{}), tail: &tail{}}
	c.cmd = exec.Command(path, args...)
	c.cmd.Stdout, c.cmd.Stderr = c.tail, c.tail
	c.cmd.Dir = "/"
	c.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: stop, Credential: as}
	started := make(chan error)
	starter() <- func() { started <- c.cmd.Start() }
	if err := <-started; err != nil {
		return nil, fmt.Errorf("%s cannot be started: %w", name, err)
	}
	go func() {
		c.cmd.Wait()
		close(c.done)
	}()
	return c, nil
}

// end stops the process and waits for it, at most ten seconds.
func (c *child) end() {
	c.cmd.Process.Signal(c.stop)
	select {
	case <-c.done:
	case <-time.After(10 * time.Second):
		c.cmd.Process.Kill()
		<-c.done
	}
}

// ended returns an error with the process's last words if it has ended.
func (c *child) ended() error {
	select {
	case <-c.done:
		return fmt.Errorf("%s ended: %s", c.name, c.tail)
	default:
		return nil
	}
}

// A tail keeps the end of what a process writes.
type tail struct {
	mu  sync.Mutex
	buf []byte
}

// Write keeps the last two kilobytes.
func (t *tail) Write(p []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.buf = append(t.buf, p...)
	if extra := len(t.buf) - 2048; extra > 0 {
		t.buf = t.buf[extra:]
	}
	return len(p), nil
}

// String returns the last lines.
func (t *tail) String() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	lines := bytes.Split(bytes.TrimSpace(t.buf), []byte("\n"))
	return strings.TrimSpace(string(bytes.Join(lines[max(0, len(lines)-4):], []byte("\n"))))
}
