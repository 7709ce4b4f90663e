package demotest

import (
	"context"
	"testing"

	"osprey/demo"
)

// MariaDB starts a MariaDB server of Debian's packages on loopback, which ends
// with the test, and returns the address of its empty database "harbour" for
// Osprey and for the driver. Options are further ones of the server.
func MariaDB(t testing.TB, options ...string) (url, dsn string) {
	t.Helper()
	m, err := demo.StartMariaDB(context.Background(), options...)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(m.Stop)
	return m.URL, m.DSN
}
