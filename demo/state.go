package demo

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
)

// This file makes the folders that keep the demo's data, where nobody else can
// write: whoever could lay a link into them would have root give away, or write
// over, what is behind it.

// StateDir returns the folder for a program's data, which need not exist: below
// /var/lib for root, whose servers run as another user and must get there, and
// below the home folder for anybody else (XDG_STATE_HOME, or ~/.local/state).
func StateDir(name string) (string, error) {
	if os.Getuid() == 0 {
		return filepath.Join("/var/lib", name), nil
	}
	if dir := os.Getenv("XDG_STATE_HOME"); filepath.IsAbs(dir) {
		return filepath.Join(dir, name), nil
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return "", fmt.Errorf("there is no folder to keep data in: %w; give one with --state", err)
	}
	return filepath.Join(home, ".local", "state", name), nil
}

// ownFolder makes a folder that others may enter, if root's servers must, and only
// this user can write to. One that exists must be such a folder: no link, of this
// user, and in folders in which nobody else can put another in its place.
func ownFolder(path string) error {
	path, err := filepath.Abs(path)
	if err != nil {
		return err
	}
	mode := fs.FileMode(0o700)
	if os.Getuid() == 0 {
		mode = 0o755
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	// The folders above may be reached through links of the system's.
	above, err := filepath.EvalSymlinks(filepath.Dir(path))
	if err != nil {
		return err
	}
	path = filepath.Join(above, filepath.Base(path))
	if err := os.Mkdir(path, mode); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	for at := path; ; at = filepath.Dir(at) {
		info, err := os.Lstat(at)
		if err != nil {
			return err
		}
		owner := info.Sys().(*syscall.Stat_t).Uid
		why := ""
		switch {
		case info.Mode()&fs.ModeSymlink != 0:
			why = "is a link"
		case !info.IsDir():
			why = "is no folder"
		case int(owner) != os.Getuid() && (at == path || owner != 0):
			why = fmt.Sprintf("belongs to another user (%d)", owner)
		case at == path && info.Mode().Perm()&0o022 != 0, info.Mode().Perm()&0o002 != 0 && info.Mode()&fs.ModeSticky == 0:
			why = "can be written to by others"
		}
		if why != "" {
			return fmt.Errorf("data is not kept in %s: %s %s; remove it, or give another folder with --state", path, at, why)
		}
		if at == filepath.Dir(at) {
			return nil
		}
	}
}

// newFile makes a file that does not exist yet, with what it holds.
func newFile(path, text string, mode fs.FileMode, owner *syscall.Credential) error {
	if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, mode)
	if err != nil {
		return err
	}
	defer f.Close()
	if owner != nil {
		if err := f.Chown(int(owner.Uid), int(owner.Gid)); err != nil {
			return err
		}
	}
	_, err = f.WriteString(text)
	return err
}
