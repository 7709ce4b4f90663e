// Command documents serves the document database of the harbour demo on
// loopback: MongoDB's wire protocol over files in one folder.
//
// It is a module of its own so that the service does not carry the database's
// dependencies.
package main

import (
	"context"
	"flag"
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"syscall"

	"github.com/FerretDB/FerretDB/ferretdb"
)

func main() {
	listen := flag.String("listen", "127.0.0.1:7417", "address to listen on")
	dir := flag.String("dir", "", "folder that holds the data; it must exist")
	flag.Parse()
	if err := serve(*listen, *dir); err != nil {
		fmt.Fprintln(os.Stderr, "documents:", err)
		os.Exit(1)
	}
}

// serve listens until the process is told to stop.
func serve(listen, dir string) error {
	if info, err := os.Stat(dir); err != nil || !info.IsDir() {
		return fmt.Errorf("-dir %q is not a folder", dir)
	}
	server, err := ferretdb.New(&ferretdb.Config{
		Listener:  ferretdb.ListenerConfig{TCP: listen},
		Logger:    slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelError})),
		Handler:   "sqlite",
		SQLiteURL: "file:" + dir + "/",
	})
	if err != nil {
		return err
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	return server.Run(ctx)
}
