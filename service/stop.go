package service

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"time"
)

// A Stop says how a service stops.
type Stop struct {
	Drain  time.Duration // how long requests are still taken; may be 0
	Within time.Duration // how long those under way may take then; 0 means 10 s
}

// Serve answers requests on the listener until ctx ends. Then it stops in order,
// so that nothing is lost behind a balancer: for the time of drain, /ready says
// that it stops, requests are still taken, and each connection is closed behind
// its next answer; then no more are taken, and those under way finish. The error
// says which were cut off, since they took too long.
func (s *Service) Serve(ctx context.Context, l net.Listener, stop Stop) error {
	if stop.Within <= 0 {
		stop.Within = 10 * time.Second
	}
	srv := &http.Server{
		Handler: s, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 30 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10,
		ErrorLog: s.serverLog(),
	}
	failed := make(chan error, 1)
	go func() {
		if s.TLS == nil {
			failed <- srv.Serve(l)
			return
		}
		srv.TLSConfig = s.TLS
		failed <- srv.ServeTLS(l, "", "")
	}()
	select {
	case err := <-failed:
		return err
	case <-ctx.Done():
	}
	s.stopping.Store(true)
	if stop.Drain > 0 {
		s.Log.Info("the service stops: /ready says so, and requests are still taken", "for", stop.Drain)
		select {
		case err := <-failed:
			return err
		case <-time.After(stop.Drain):
		}
	}
	within, cancel := context.WithTimeout(context.WithoutCancel(ctx), stop.Within)
	defer cancel()
	s.End()
	err := srv.Shutdown(within)
	if errors.Is(err, context.DeadlineExceeded) {
		err = fmt.Errorf("the service stopped before everything had ended: %d of the requests under way took longer than %s and were cut off", s.underWay.Load(), stop.Within)
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
