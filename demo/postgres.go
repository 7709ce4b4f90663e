package demo

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// A Cluster is a private PostgreSQL server on loopback.
type Cluster struct {
	URL        string // of its database "harbour"
	RecordsURL string // of its database "records"
	child      *child
}

// password is that of the cluster's only role; it guards made-up data.
const password = "harbour"

// StartCluster starts the PostgreSQL server of Debian's packages over the data
// in dir, which is made if it is not there, with settings such as wal_level=logical. Root cannot run the server, so it
// then runs as the user postgres.
func StartCluster(ctx context.Context, dir string, port int, settings ...string) (*Cluster, error) {
	bin, err := postgresBin()
	if err != nil {
		return nil, err
	}
	as, err := serverUser()
	if err != nil {
		return nil, err
	}
	if err := ownFolder(dir); err != nil {
		return nil, err
	}
	// A cluster is whole when its marker is there; initdb may have been killed.
	marker := filepath.Join(dir, "osprey-ready")
	if _, err := os.Stat(marker); err != nil {
		if err := initCluster(ctx, bin, dir, as); err != nil {
			return nil, err
		}
		if err := newFile(marker, "", 0o644, nil); err != nil {
			return nil, err
		}
	}
	c := &Cluster{URL: fmt.Sprintf("postgres://harbour:%s@127.0.0.1:%d/harbour", password, port), RecordsURL: fmt.Sprintf("postgres://harbour:%s@127.0.0.1:%d/records", password, port)}
	args := []string{"-D", filepath.Join(dir, "data"),
		"-p", strconv.Itoa(port), "-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories=",
		"-c", "shared_preload_libraries=pg_stat_statements", "-c", "synchronous_commit=off", "-c", "max_connections=60", "-c", "log_min_messages=fatal"}
	for _, setting := range settings {
		args = append(args, "-c", setting)
	}
	c.child, err = startChild("PostgreSQL", syscall.SIGINT, as, filepath.Join(bin, "postgres"), args...)
	if err != nil {
		return nil, err
	}
	if err := c.wait(ctx, port); err != nil {
		c.Stop()
		return nil, err
	}
	return c, nil
}

// Stop ends the server.
func (c *Cluster) Stop() { c.child.end() }

// Kill kills the server and all of its processes.
func (c *Cluster) Kill() {
	pid := c.child.cmd.Process.Pid
	list, _ := os.ReadFile(fmt.Sprintf("/proc/%d/task/%[1]d/children", pid))
	c.child.cmd.Process.Kill()
	for _, of := range strings.Fields(string(list)) {
		if own, err := strconv.Atoi(of); err == nil {
			_ = syscall.Kill(own, syscall.SIGKILL) // which may have ended
		}
	}
	<-c.child.done
}

// postgresBin returns the folder of the newest server that is installed.
func postgresBin() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if len(found) == 0 {
		return "", errors.New("PostgreSQL is not installed; run: make tools (or apt-get install postgresql)")
	}
	version := func(path string) int {
		n, _ := strconv.Atoi(strings.Split(path, "/")[4])
		return n
	}
	return filepath.Dir(slices.MaxFunc(found, func(a, b string) int { return version(a) - version(b) })), nil
}

// serverUser returns the user that runs servers, or nil for the current one.
func serverUser() (*syscall.Credential, error) {
	if os.Getuid() != 0 {
		return nil, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		return nil, fmt.Errorf("root cannot run PostgreSQL, and there is no user postgres: %w", err)
	}
	uid, _ := strconv.ParseUint(u.Uid, 10, 32)
	gid, _ := strconv.ParseUint(u.Gid, 10, 32)
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
}

func initCluster(ctx context.Context, bin, dir string, as *syscall.Credential) error {
	data, secret := filepath.Join(dir, "data"), filepath.Join(dir, "password")
	if err := os.RemoveAll(data); err != nil {
		return err
	}
	if err := os.Mkdir(data, 0o700); err != nil {
		return err
	}
	if as != nil { // the one folder that is the server's
		if err := os.Lchown(data, int(as.Uid), int(as.Gid)); err != nil {
			return err
		}
	}
	if err := newFile(secret, password+"\n", 0o600, as); err != nil {
		return err
	}
	defer os.Remove(secret)
	cmd := exec.CommandContext(ctx, filepath.Join(bin, "initdb"), "-D", data, "-U", "harbour", "--auth=scram-sha-256",
		"--pwfile="+secret, "-E", "UTF8", "--locale=C.UTF-8", "--no-sync")
	cmd.Dir = "/"
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: as}
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("initdb: %w: %s", err, strings.TrimSpace(string(out)))
	}
	return nil
}

// wait waits until the server takes connections, and makes the databases.
func (c *Cluster) wait(ctx context.Context, port int) error {
	admin := fmt.Sprintf("postgres://harbour:%s@127.0.0.1:%d/postgres", password, port)
	deadline := time.Now().Add(30 * time.Second)
	for {
		conn, err := pgx.Connect(ctx, admin)
		if err == nil {
			defer conn.Close(ctx)
			for _, name := range []string{"harbour", "records"} {
				var has bool
				if err := conn.QueryRow(ctx, `SELECT EXISTS (SELECT FROM pg_database WHERE datname = $1)`, name).Scan(&has); err != nil {
					return err
				}
				if has {
					continue
				}
				if _, err = conn.Exec(ctx, "CREATE DATABASE "+name); err != nil {
					return err
				}
			}
			return nil
		}
		if ended := c.child.ended(); ended != nil {
			return ended
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("PostgreSQL does not answer: %w", err)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}
