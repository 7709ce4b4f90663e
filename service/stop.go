package service

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"time"
)

// stopWithin is how long requests under way may take when the service stops.
const stopWithin = 10 * time.Second

// Serve answers requests on the listener until ctx ends. Then it stops in order,
// so that nothing is lost behind a balancer: for the time of drain, /ready says
// that it stops, requests are still taken, and each connection is closed behind
// its next answer; then no more are taken, and those under way finish. The error
// says which were cut off, since they took too long.
func (s *Service) Serve(ctx context.Context, l net.Listener, drain time.Duration) error {
	srv := &http.Server{
		Handler: s, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 30 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10,
		ErrorLog: s.serverLog(),
	}
	failed := make(chan error, 1)
	go func() { failed <- srv.Serve(l) }()
	select {
	case err := <-failed:
		return err
	case <-ctx.Done():
	}
	s.stopping.Store(true)
	if drain > 0 {
		s.Log.Info("the service stops: /ready says so, and requests are still taken", "for", drain)
		select {
		case err := <-failed:
			return err
		case <-time.After(drain):
		}
	}
	within, cancel := context.WithTimeout(context.WithoutCancel(ctx), stopWithin)
	defer cancel()
	err := srv.Shutdown(within)
	if errors.Is(err, context.DeadlineExceeded) {
		err = fmt.Errorf("the service stopped before everything had ended: %d requests took longer than %s and were cut off", s.underWay.Load(), stopWithin)
		srv.Close()
	}
	<-failed
	return err
}

// counted counts the requests under way, and closes connections behind their
// answers when the service stops.
func (s *Service) counted(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s.underWay.Add(1)
		defer s.underWay.Add(-1)
		if s.stopping.Load() {
			w.Header().Set("Connection", "close")
		}
		next.ServeHTTP(w, r)
	})
}
