package service

import (
	"crypto/tls"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"time"
)

// This file serves over TLS, by a certificate in files that may be renewed at any time.

// lookAgain is how often it is looked whether a certificate was renewed.
const lookAgain = time.Second

// A certificate is read from files, and again when these change. What cannot be read leaves the one that was.
type certificate struct {
	file, key string
	log       *slog.Logger

	mu     sync.Mutex // guards what follows
	now    *tls.Certificate
	as     string    // of the files: when they were written, and how long they are
	looked time.Time // when that was found out
}

// Certificate returns how to serve over TLS by a certificate and its key, which are files of PEM blocks. The error
// says that they cannot be used now.
func Certificate(file, key string, log *slog.Logger) (*tls.Config, error) {
	c := &certificate{file: file, key: key, log: log}
	if err := c.read(); err != nil {
		return nil, err
	}
	return &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: c.get}, nil
}

// state tells the files apart from those that were read.
func (c *certificate) state() string {
	text := ""
	for _, name := range []string{c.file, c.key} {
		if info, err := os.Stat(name); err == nil {
			text += fmt.Sprintf("%d %d ", info.ModTime().UnixNano(), info.Size())
		}
	}
	return text
}

func (c *certificate) read() error {
	c.as = c.state()
	pair, err := tls.LoadX509KeyPair(c.file, c.key)
	if err != nil {
		return err
	}
	c.now = &pair
	return nil
}

// get returns the certificate of a connection.
func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if now := time.Now(); now.Sub(c.looked) >= lookAgain {
		c.looked = now
		if c.state() != c.as {
			if err := c.read(); err != nil {
				c.log.Error("the renewed certificate cannot be used, and the one before it is", "error", err)
			} else {
				c.log.Info("the certificate was renewed")
			}
		}
	}
	return c.now, nil
}
