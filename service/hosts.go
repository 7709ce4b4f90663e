package service

import (
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
)

// checkHost refuses requests for a host that is not this service's. A web page
// can lead a browser here under a name of its own; what the page then asks would
// count as its own site. So a name must be known: localhost, that of listen, or
// one of hosts in osprey.yaml. Addresses need no list: no page has one. Nor does
// a request of HTTP/1.0 without a host, as a balancer's probe may be: no browser
// sends one.
func (s *Service) checkHost(next http.Handler) http.Handler {
	isKnown := func(host string) bool {
		own := s.Project.Revision().Config.Hosts
		if s.Listen == "" && len(own) == 0 {
			return true // another program's server, which knows its hosts
		}
		return host == "localhost" || strings.EqualFold(host, hostOf(s.Listen)) || slices.ContainsFunc(own, func(h string) bool { return strings.EqualFold(h, host) })
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		host := strings.TrimSuffix(strings.ToLower(hostOf(r.Host)), ".") // a root's dot changes nothing
		if _, err := netip.ParseAddr(host); err != nil && r.Host != "" && !isKnown(host) {
			problem(w, http.StatusMisdirectedRequest, fmt.Sprintf("this service does not answer for the host %q", clipped(host)), "if it should, add the name to \"hosts:\" in osprey.yaml")
			return
		}
		next.ServeHTTP(w, r)
	})
}

// hostOf returns the host of host:port, without the brackets of an IPv6 address.
func hostOf(text string) string {
	if host, _, err := net.SplitHostPort(text); err == nil {
		return host
	}
	return strings.Trim(text, "[]")
}

// isLocal reports whether a request comes from this machine, and not through
// something that passes requests on for others.
func isLocal(r *http.Request) bool {
	for _, header := range []string{"Forwarded", "X-Forwarded-For", "X-Real-Ip", "Via"} {
		if len(r.Header.Values(header)) > 0 {
			return false
		}
	}
	addr, err := netip.ParseAddr(hostOf(r.RemoteAddr))
	return err == nil && addr.Unmap().IsLoopback()
}

// clipped cuts a caller's text for a message.
func clipped(text string) string {
	if len(text) > 100 {
		return strings.ToValidUTF8(text[:100], "") + "…"
	}
	return text
}
