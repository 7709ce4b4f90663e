package demotest

import (
	"context"
	"database/sql"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql" // the driver
)

// MariaDB starts a MariaDB server of Debian's packages on loopback, which ends
// with the test, and returns the address of its empty database "harbour" for
// Osprey and for the driver.
func MariaDB(t testing.TB) (url, dsn string) {
	t.Helper()
	dir, err := os.MkdirTemp("/var/tmp", "osprey-mariadb-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	var user []string
	if os.Getuid() == 0 {
		user = []string{"--user=root"} // or the server refuses to run
	}
	data := filepath.Join(dir, "data")
	install := exec.Command("mysql_install_db", append([]string{"--no-defaults", "--datadir=" + data, "--auth-root-authentication-method=normal", "--skip-test-db", "--skip-name-resolve"}, user...)...)
	if out, err := install.CombinedOutput(); err != nil {
		t.Fatalf("MariaDB cannot be set up; run make tools-test: %v\n%s", err, out)
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	port := listener.Addr().(*net.TCPAddr).Port
	listener.Close()
	server := exec.Command("mariadbd", append([]string{"--no-defaults", "--datadir=" + data, "--bind-address=127.0.0.1", fmt.Sprintf("--port=%d", port),
		"--tmpdir=" + dir, // where a server clears away what it takes for its own
		"--socket=" + filepath.Join(dir, "socket"), "--pid-file=" + filepath.Join(dir, "pid"), "--innodb-flush-log-at-trx-commit=0",
		"--character-set-server=utf8mb4", "--collation-server=utf8mb4_nopad_bin"}, user...)...)
	server.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	if err := server.Start(); err != nil {
		t.Fatalf("MariaDB cannot be started: %v", err)
	}
	t.Cleanup(func() {
		server.Process.Kill()
		server.Wait()
	})
	dsn = fmt.Sprintf("root@tcp(127.0.0.1:%d)/", port)
	db, err := sql.Open("mysql", dsn+"?multiStatements=true")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	for db.PingContext(ctx) != nil {
		if ctx.Err() != nil {
			t.Fatal("MariaDB does not answer")
		}
		time.Sleep(100 * time.Millisecond)
	}
	if _, err := db.ExecContext(ctx, "CREATE DATABASE harbour"); err != nil {
		t.Fatal(err)
	}
	return fmt.Sprintf("mysql://root@127.0.0.1:%d/harbour", port), dsn + "harbour"
}
