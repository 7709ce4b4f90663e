package demo

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"syscall"
	"time"

	_ "github.com/go-sql-driver/mysql" // the driver
)

// A MariaDB is a server of Debian's packages on loopback, with an empty database
// "harbour".
type MariaDB struct {
	URL string // for Osprey
	DSN string // for the driver

	dir    string
	server *exec.Cmd
}

// StartMariaDB starts a server, with further options of its own, which ends with the process.
func StartMariaDB(ctx context.Context, options ...string) (_ *MariaDB, err error) {
	m := &MariaDB{}
	if m.dir, err = os.MkdirTemp("/var/tmp", "osprey-mariadb-"); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			m.Stop()
		}
	}()
	var user []string
	if os.Getuid() == 0 {
		user = []string{"--user=root"} // or the server refuses to run
	}
	data := filepath.Join(m.dir, "data")
	install := exec.Command("mysql_install_db", append([]string{"--no-defaults", "--datadir=" + data, "--auth-root-authentication-method=normal", "--skip-test-db", "--skip-name-resolve"}, user...)...)
	install.Env = append(os.Environ(), "TMPDIR="+m.dir) // as below
	if out, err := install.CombinedOutput(); err != nil {
		return nil, fmt.Errorf("MariaDB cannot be set up; run make tools-test: %w\n%s", err, out)
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	port := listener.Addr().(*net.TCPAddr).Port
	listener.Close()
	m.server = exec.Command("mariadbd", slices.Concat([]string{"--no-defaults", "--datadir=" + data, "--bind-address=127.0.0.1", fmt.Sprintf("--port=%d", port),
		"--tmpdir=" + m.dir, // where a server clears away what it takes for its own
		"--socket=" + filepath.Join(m.dir, "socket"), "--pid-file=" + filepath.Join(m.dir, "pid"), "--innodb-flush-log-at-trx-commit=0",
		"--character-set-server=utf8mb4", "--collation-server=utf8mb4_nopad_bin"}, user, options)...)
	m.server.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := m.server.Start(); err != nil {
		m.server = nil
		return nil, fmt.Errorf("MariaDB cannot be started: %w", err)
	}
	dsn := fmt.Sprintf("root@tcp(127.0.0.1:%d)/", port)
	m.URL, m.DSN = fmt.Sprintf("mysql://root@127.0.0.1:%d/harbour", port), dsn+"harbour"
	db, err := sql.Open("mysql", dsn+"?multiStatements=true")
	if err != nil {
		return nil, err
	}
	defer db.Close()
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	for db.PingContext(ctx) != nil {
		if ctx.Err() != nil {
			return nil, errors.New("MariaDB does not answer")
		}
		time.Sleep(100 * time.Millisecond)
	}
	_, err = db.ExecContext(ctx, "CREATE DATABASE harbour")
	return m, err
}

// Stop ends the server and removes its data.
func (m *MariaDB) Stop() {
	if m.server != nil {
		m.server.Process.Kill()
		m.server.Wait()
	}
	os.RemoveAll(m.dir)
}

// Process returns the number of the server's process.
func (m *MariaDB) Process() int { return m.server.Process.Pid }
