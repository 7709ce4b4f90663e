package main

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"osprey/console"
	"osprey/project"
	"osprey/publishing"
	"osprey/relay"
	"osprey/service"
)

// defaultListen is where the service listens if nothing says otherwise.
const defaultListen = "127.0.0.1:7420"

// startCommand returns "osprey start", which serves a project.
func startCommand() *cli.Command {
	return &cli.Command{
		Name:      "start",
		Usage:     "serve a project",
		ArgsUsage: "[DIR]",
		Description: "Serves the project until it is told to stop (Ctrl-C or SIGTERM); requests under way\n" +
			"then finish. A store that is down does not keep the service from starting: /ready says\n" +
			"so, and Osprey tries it again every few seconds. With --watch, a project that has no types yet is\n" +
			"served, too, and its console says what to do first. SIGHUP has the files, and what the stores\n" +
			"hold, read again: what is sound is served from then on, and what is not leaves what was\n" +
			"served before.\n\nExample:\n   osprey start demo/harbour --listen 127.0.0.1:8420",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "listen", Usage: "host:port to listen on, instead of that in osprey.yaml"},
			&cli.BoolFlag{Name: "watch", Usage: "follow the project's files, and serve what is saved; watch: true in osprey.yaml does the same"},
			&cli.BoolFlag{Name: "files", Usage: "serve the project's files, and not the revision that was published last, until another is published"},
			&cli.BoolFlag{Name: "apply-tables", Usage: "run the files of tables/ first that were not run yet; of several services, one does it"},
		},
		OnUsageError: usageError,
		Action: func(ctx context.Context, c *cli.Command) error {
			dir, err := oneFolder(c)
			if err != nil {
				return err
			}
			if c.Bool("apply-tables") {
				err := project.ApplyTables(ctx, dir, func(source, file string) {
					fmt.Fprintf(c.Root().ErrWriter, "osprey: run in %s: %s\n", source, file)
				})
				if err != nil {
					return faulty(c, err)
				}
			}
			return serve(ctx, c, dir, c.String("listen"), c.Bool("watch"), func(string) {})
		},
	}
}

// serve serves the project in dir until ctx ends. listening is told the
// address when requests are taken.
func serve(ctx context.Context, c *cli.Command, dir, listen string, watch bool, listening func(address string)) error {
	log := slog.New(slog.NewTextHandler(c.Root().ErrWriter, nil))
	if own, err := project.ConfigOf(dir); err == nil && own.Watch {
		watch = true
	}
	p, keeper, findings, err := publishing.Open(ctx, dir, c.Bool("files"), log, &project.Additions{Waiting: waiting(c), Begins: watch})
	printFindings(c.Root().ErrWriter, findings)
	if err != nil {
		return err
	}
	defer p.Close()
	if listen == "" {
		listen = p.Own.Listen
	}
	if listen == "" {
		listen = defaultListen
	}
	if p.Own.Access == nil && !onLoopback(listen) {
		return fmt.Errorf("%s can be reached from other machines, and nothing says who may ask what\n  → write access: into osprey.yaml: { nobody: allowed } lets everybody ask everything; osprey help access says more", listen)
	}
	certificate, scheme := (*tls.Config)(nil), "http://"
	if t := p.Own.TLS; t != nil {
		scheme = "https://"
		if certificate, err = service.Certificate(p.File(t.Certificate), p.File(t.Key), log); err != nil {
			return fmt.Errorf("the certificate of tls: cannot be used: %s", inWords(err))
		}
	}
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return cannotListen(listen, err)
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	address := scheme + l.Addr().String()
	if keeper != nil {
		defer keeper.Start(ctx, address, cancel)()
		if l := p.Revision().Label(); l != nil && l.Origin != project.FromFiles {
			fmt.Fprintf(c.Root().ErrWriter, "osprey: serving revision %d, %s by %s on %s, and not the files of %s; --files serves those\n", l.Number, l.Origin, l.By, l.At.Local().Format("2 January 15:04"), p.Dir)
		}
	}
	var others relay.Relay
	switch {
	case p.Own.Events != nil && p.Own.Events.NATS != "":
		others = relay.NATS(p.Own.Events.NATS)
	case keeper != nil:
		others = keeper.Records.Teller()
	}
	if others != nil {
		ready, done := context.WithTimeout(ctx, 3*time.Second)
		defer relay.Run(ctx, ready, others, p, log)()
		done()
	}
	go p.Follow(ctx)
	fmt.Fprintf(c.Root().ErrWriter, "osprey: serving %s\n  console   %s/console/\n  endpoint  %s/graphql\n", dir, address, address)
	if p.Revision().Empty() {
		fmt.Fprintf(c.Root().ErrWriter, "osprey: %s has no types yet; the console says what to do first\n", dir)
	}
	if p.Own.Access == nil {
		fmt.Fprintln(c.Root().ErrWriter, "osprey: EVERYBODY on this machine may ask everything, change everything, and publish: osprey.yaml has no access:\n  → osprey help access says how callers are known")
	}
	listening(address)
	if err := followFiles(ctx, c, p, watch); err != nil {
		return err
	}
	s := service.New(service.Config{Project: p, Console: console.Handler(), Log: log, MaxBody: int64(p.Own.Limits.Body), Listen: listen, Keeper: keeper, TLS: certificate, Follows: watch})
	return s.Serve(ctx, l, service.Stop{Drain: drainOf(p.Own, l.Addr())})
}

// onLoopback reports whether an address is reached from this machine alone.
func onLoopback(listen string) bool {
	host, _, err := net.SplitHostPort(listen)
	if err != nil {
		return true // which is told when it is listened to
	}
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// followFiles reads the project's files again on SIGHUP and, if they are watched, when they change.
func followFiles(ctx context.Context, c *cli.Command, p *project.Project, watch bool) error {
	again := make(chan struct{}, 1)
	ask := func() {
		select {
		case again <- struct{}{}:
		default: // they will be read
		}
	}
	if watch {
		if err := project.Watch(ctx, p.Dir, ask); err != nil {
			return fmt.Errorf("the files of %s cannot be followed: %s", p.Dir, inWords(err))
		}
	}
	hup := make(chan os.Signal, 1)
	signal.Notify(hup, syscall.SIGHUP)
	go func() {
		defer signal.Stop(hup)
		broken := false
		for {
			read := p.Reload
			select {
			case <-ctx.Done():
				return
			case <-hup:
				read = p.Refresh
			case <-again:
			}
			findings, err := read(ctx)
			switch {
			case ctx.Err() != nil:
				return
			case err == nil:
				fmt.Fprintf(c.Root().ErrWriter, "osprey: serving the files as of %s\n", time.Now().Format(time.TimeOnly))
				printFindings(c.Root().ErrWriter, findings.Restart())
				broken = false
				continue
			case findings == nil:
				fmt.Fprintf(c.Root().ErrWriter, "osprey: %s\n", inWords(err))
			default:
				printFindings(c.Root().ErrWriter, findings.Errors())
			}
			if !broken {
				fmt.Fprintln(c.Root().ErrWriter, "osprey: what was served before is served still, until this is mended")
			}
			broken = true
		}
	}()
	return nil
}

// waiting tells which sources a project waits for.
func waiting(c *cli.Command) func(sources []string) {
	return func(sources []string) {
		fmt.Fprintf(c.Root().ErrWriter, "osprey: waiting for %s to tell what it holds …\n", strings.Join(sources, ", "))
	}
}

// drainOf returns how long the service still takes requests when it is told to
// stop. Where only this machine can ask, no balancer has to hear of it first.
func drainOf(c *project.Config, at net.Addr) time.Duration {
	if c.Drain != nil {
		return time.Duration(*c.Drain)
	}
	if tcp, ok := at.(*net.TCPAddr); ok && tcp.IP.IsLoopback() {
		return 0
	}
	return 2 * time.Second
}

// cannotListen says why an address cannot be used.
func cannotListen(listen string, err error) error {
	var wrong *net.AddrError
	switch {
	case errors.As(err, &wrong):
		return wrongUse("it cannot listen on %s: an address is like %s", listen, defaultListen)
	case errors.Is(err, syscall.EADDRINUSE):
		return unreachable(fmt.Errorf("%s is taken: stop what listens there, or choose another address with --listen", listen))
	}
	return unreachable(fmt.Errorf("cannot listen on %s: %w", listen, err))
}
