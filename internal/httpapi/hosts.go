package httpapi

import (
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"

	"yellowlantern/internal/app/actor"
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
	return at.Addr().Unmap().WithZone("")
}

// located notes where a request comes from. A proxy in front, which is on this host and whose names the service was told, says it in
// X-Forwarded-For: the last address there is the one that the proxy saw itself.
func (s *Server) located(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		at, _ := netip.ParseAddrPort(r.RemoteAddr)
		from := at.Addr().Unmap()
		if told := r.Header.Values("X-Forwarded-For"); len(told) > 0 && len(s.Names) > 0 && from.IsLoopback() {
			all := strings.Split(told[len(told)-1], ",")
			if a, err := netip.ParseAddr(strings.TrimSpace(all[len(all)-1])); err == nil {
				from = a
			}
		}
		next.ServeHTTP(w, r.WithContext(actor.With(r.Context(), actor.Actor{From: from, Private: r.TLS != nil, Origin: originOf(r)})))
	})
}

// originOf is where a request was sent to, as a browser writes it. Only names that are the service's own come so far.
func originOf(r *http.Request) string {
	scheme := "http"
	if r.TLS != nil || r.Header.Get("X-Forwarded-Proto") == "https" {
		scheme = "https"
	}
	return scheme + "://" + strings.ToLower(r.Host)
}
