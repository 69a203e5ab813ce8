package httpapi

import (
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/core/fold"
)

// own refuses requests for other host names than the service's own: a page from elsewhere whose name was made to lead here would
// otherwise speak with the console's rights.
func (s *Server) own(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		host := r.Host
		if h, _, err := net.SplitHostPort(host); err == nil {
			host = h
		}
		host = strings.ToLower(strings.Trim(strings.TrimSuffix(host, "."), "[]"))
		a, err := netip.ParseAddr(host)
		here := err == nil && (a.IsLoopback() || a == reachedAt(r))
		if host != "localhost" && !here && !slices.ContainsFunc(s.Names, func(n string) bool { return strings.EqualFold(n, host) }) {
			http.Error(w, "this service is not called that: ask it by its address, or start it with --name for what it is called",
				http.StatusMisdirectedRequest)
			return
		}
		if s.OnlyTLS && r.TLS != nil { // a promise that holds for every port of the name
			w.Header().Set("Strict-Transport-Security", "max-age=31536000")
		}
		next.ServeHTTP(w, r)
	})
}

// reachedAt is the address of this machine's that a request arrived at. A name can be made to lead anywhere, an address cannot.
func reachedAt(r *http.Request) netip.Addr {
	local, _ := r.Context().Value(http.LocalAddrContextKey).(net.Addr)
	if local == nil {
		return netip.Addr{}
	}
	at, _ := netip.ParseAddrPort(local.String())
	return fold.Addr(at.Addr()).WithZone("")
}

// located notes where a request comes from, and whether it came by TLS. A proxy in front whose address the service was told says both, in
// X-Forwarded-For, where the last address is the one that the proxy saw itself, and X-Forwarded-Proto. Nobody else is believed.
func (s *Server) located(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		at, _ := netip.ParseAddrPort(r.RemoteAddr)
		from := fold.Addr(at.Addr())
		secret := r.TLS != nil
		proxied := slices.ContainsFunc(s.Proxies, func(p netip.Prefix) bool { return p.Contains(from) })
		if proxied && r.Header.Get("X-Forwarded-Proto") == "https" {
			secret = true
		}
		if told := r.Header.Values("X-Forwarded-For"); len(told) > 0 && proxied {
			all := strings.Split(told[len(told)-1], ",")
			if a, err := netip.ParseAddr(strings.TrimSpace(all[len(all)-1])); err == nil {
				from = a
			}
		}
		next.ServeHTTP(w, r.WithContext(actor.With(r.Context(), actor.Actor{From: from, Private: secret, Origin: originOf(r, secret)})))
	})
}

// originOf is where a request was sent to, as a browser writes it. Only names that are the service's own come so far.
func originOf(r *http.Request, secret bool) string {
	scheme := "http"
	if secret {
		scheme = "https"
	}
	return scheme + "://" + strings.ToLower(r.Host)
}
