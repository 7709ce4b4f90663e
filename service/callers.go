package service

import (
	"context"
	"net"
	"net/http"
	"slices"

	"osprey/access"
	"osprey/core/store"
	"osprey/project"
)

// This file finds out who asks, if the project says how.

// callers returns what knows callers; nil if everybody may ask everything.
func (s *Service) callers() *access.Access {
	c := s.Project.Callers()
	if c == nil {
		return nil
	}
	c.Log = s.Log
	if s.Keeper != nil {
		c.Kept, c.Used = s.Keeper.Keys, s.Keeper.UsedKey
	}
	a, err := access.New(*c)
	if err != nil {
		panic(err) // the configuration was checked
	}
	return a
}

type whoKey struct{}

// identified lets those through who are known, and refuses others: operations in the form of an
// answer, and all else with a problem.
func (s *Service) identified(next http.Handler) http.Handler {
	if s.access == nil {
		return next
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		who, no := s.access.Identify(r.Context(), r)
		if no == nil {
			next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), whoKey{}, who)))
			return
		}
		s.tellRefused(r, no)
		switch no.Status {
		case http.StatusUnauthorized: // RFC 6750, section 3
			w.Header().Set("WWW-Authenticate", `Bearer realm="osprey"`)
		default:
			w.Header().Set("Retry-After", "1")
		}
		media := negotiate(r.Header.Values("Accept"))
		if r.URL.Path != "/graphql" || media == "" {
			problem(w, no.Status, no.Msg, no.Fix)
			return
		}
		a := project.Answer{Refused: true, Faults: []project.Fault{{Message: no.Msg, Fix: no.Fix, Code: project.CodeUnknown}}}
		write(w, no.Status, media+"; charset=utf-8", a.AppendJSON(nil, false))
	})
}

// tellRefused writes into the log why a caller is not known: some lines at once, and then ten a second,
// which say how many were left out.
func (s *Service) tellRefused(r *http.Request, no *access.Refusal) {
	if !s.refusals.Allow() {
		s.untold.Add(1)
		return
	}
	s.Log.WarnContext(r.Context(), "a caller is not known", "why", no.Why, "from", r.RemoteAddr, "path", clipped(r.URL.Path), "request", r.Header.Get("X-Request-Id"), "leftOut", s.untold.Swap(0))
}

// whoOf returns who asks; nil if nobody was asked to say so.
func whoOf(r *http.Request) *store.Identity {
	who, _ := r.Context().Value(whoKey{}).(*store.Identity)
	return who
}

// callerOf returns who sends a request. Those who are not known by name are told apart by where they
// come from.
func callerOf(r *http.Request) *store.Caller {
	c := &store.Caller{Request: r.Header.Get("X-Request-Id"), Headers: r.Header, Who: viewerOf(r)}
	if who := whoOf(r); who != nil && who.ID != "" {
		c.ID = who.ID
		return c
	}
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		host = r.RemoteAddr
	}
	c.ID = host
	return c
}

// runs reports whether a caller runs the service: by its role, where roles say so, or else, as to says,
// by where it is.
func (s *Service) runs(r *http.Request, to string) bool {
	if a := s.Project.Own.Access; a != nil && len(a.Admin) > 0 {
		return isOf(whoOf(r), a.Admin)
	}
	switch to {
	case project.ToEveryone:
		return true
	case project.ToNobody:
		return false
	}
	return isLocal(r)
}

// isOf reports whether a caller has one of some roles.
func isOf(who *store.Identity, roles []string) bool {
	return who != nil && slices.ContainsFunc(who.Roles, func(role string) bool { return slices.Contains(roles, role) })
}

// consoles lets those through who may use the console, and what it calls.
func (s *Service) consoles(next http.Handler) http.Handler {
	a := s.Project.Own.Access
	if a == nil || len(a.Console) == 0 {
		return next
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if who := whoOf(r); !isOf(who, a.Console) && !isOf(who, a.Admin) {
			problem(w, http.StatusForbidden, "the console, and what it calls, is not for this caller", "ask with another key; access.console in osprey.yaml names the roles")
			return
		}
		next.ServeHTTP(w, r)
	})
}

// administrates reports whether a caller may do what people do who run the service.
func (s *Service) administrates(r *http.Request) bool {
	return s.runs(r, s.Project.Own.Administration)
}

// tellsStatements reports whether a caller may see what stores are sent: by
// default one on this machine, who can see the stores too.
func (s *Service) tellsStatements(r *http.Request) bool {
	return s.runs(r, s.Project.Revision().Config.Statements)
}

// byOf names who does something: by what is known of a caller, and not by what it says.
func byOf(r *http.Request, said string) string {
	who := whoOf(r)
	switch {
	case who == nil || who.ID == "":
		return said
	case who.Name != "":
		return who.Name
	}
	return who.ID
}
