package httpapi

import (
	"net/http"
	"net/http/httptest"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/actor"
)

// Only the machine's own names and those that it was told are answered, and only a proxy that it was told of is believed.
func TestHostNames(t *testing.T) {
	s := &Server{Config: Config{Names: []string{"lantern.tern.example"}}}
	var from netip.Addr
	h := s.own(s.located(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { from = actor.Of(r.Context()).From })))
	ask := func(host, forwarded string) (int, string) {
		r := httptest.NewRequestWithContext(t.Context(), "GET", "/", nil)
		r.Host, r.RemoteAddr = host, "127.0.0.1:4711"
		if forwarded != "" {
			r.Header.Set("X-Forwarded-For", forwarded)
		}
		w := httptest.NewRecorder()
		from = netip.Addr{}
		h.ServeHTTP(w, r)
		return w.Code, from.String()
	}
	for host, want := range map[string]int{
		"127.0.0.1:8600": 200, "[::1]:8600": 200, "localhost": 200, "Lantern.tern.example": 200, "lantern.tern.example.:443": 200,
		"evil.example": 421, "127.0.0.1.evil.example": 421, "192.0.2.10": 421, "": 421, "localhost.evil.example:8600": 421,
	} {
		code, _ := ask(host, "")
		require.Equal(t, want, code, host)
	}
	_, at := ask("localhost", "203.0.113.9, 203.0.113.45")
	require.Equal(t, "203.0.113.45", at, "what the proxy saw itself")
	s.Names = nil
	_, at = ask("localhost", "203.0.113.45")
	require.Equal(t, "127.0.0.1", at, "without a proxy nobody is believed")
}
