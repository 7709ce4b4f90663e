package demo

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestOwnFolder holds that data is kept only where nobody else can write, and that
// nothing is followed that somebody else may have laid there.
func TestOwnFolder(t *testing.T) {
	base, err := os.MkdirTemp("/var/tmp", "osprey-state-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(base) })
	behind := filepath.Join(base, "behind")
	if err := os.Mkdir(behind, 0o750); err != nil {
		t.Fatal(err)
	}
	at := func(name string, make func(path string) error) string {
		t.Helper()
		path := filepath.Join(base, name)
		if err := make(path); err != nil {
			t.Fatal(err)
		}
		return path
	}
	mode := func(m os.FileMode) func(string) error {
		return func(path string) error {
			if err := os.Mkdir(path, 0o700); err != nil {
				return err
			}
			return os.Chmod(path, m)
		}
	}
	open := at("open", mode(0o777))
	for path, want := range map[string]string{
		filepath.Join(base, "new", "deep"):                                      "",
		at("own", mode(0o755)):                                                  "",
		at("writable", mode(0o775)):                                             "can be written to by others",
		filepath.Join(open, "inside"):                                           "can be written to by others",
		at("link", func(p string) error { return os.Symlink(behind, p) }):       "is a link",
		at("file", func(p string) error { return os.WriteFile(p, nil, 0o600) }): "is no folder",
	} {
		err := ownFolder(path)
		if want == "" && err != nil || want != "" && (err == nil || !strings.Contains(err.Error(), want) || !strings.Contains(err.Error(), "--state")) {
			t.Errorf("%s: %v, want %q", path, err, want)
		}
	}
	if os.Getuid() == 0 {
		others := at("others", mode(0o755))
		if err := os.Chown(others, 65534, 65534); err != nil {
			t.Fatal(err)
		}
		if err := ownFolder(others); err == nil || !strings.Contains(err.Error(), "belongs to another user") {
			t.Errorf("another user's folder: %v", err)
		}
	}
	// A file is made anew, and not written through a link.
	secret := filepath.Join(behind, "secret")
	if err := os.WriteFile(secret, []byte("kept"), 0o600); err != nil {
		t.Fatal(err)
	}
	laid := at("laid", func(p string) error { return os.Symlink(secret, p) })
	if err := newFile(laid, "password", 0o600, nil); err != nil {
		t.Fatal(err)
	}
	if text, _ := os.ReadFile(secret); string(text) != "kept" {
		t.Errorf("what is behind a link was written over with %q", text)
	}
	if info, err := os.Stat(behind); err != nil || info.Mode().Perm() != 0o750 {
		t.Errorf("the folder behind a link is %v, %v", info.Mode(), err)
	}
}
