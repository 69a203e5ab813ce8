package httpapi

import (
	"net/http"
	"net/http/httptest"
	"net/netip"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/actor"
)

// Only the machine's own names and those that it was told are answered, and only a proxy that it was told of is believed.
func TestHostNames(t *testing.T) {
	s := &Server{Config: Config{Names: []string{"lantern.tern.example"}, Proxies: []netip.Prefix{netip.MustParsePrefix("127.0.0.1/32")}}}
	var from netip.Addr
	var secret bool
	h := s.own(s.located(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		from, secret = actor.Of(r.Context()).From, actor.Of(r.Context()).Private
	})))
	ask := func(host, forwarded string) (int, string) {
		r := httptest.NewRequestWithContext(t.Context(), "GET", "/", nil)
		r.Host, r.RemoteAddr = host, "127.0.0.1:4711"
		if forwarded != "" {
			r.Header.Set("X-Forwarded-For", forwarded)
			r.Header.Set("X-Forwarded-Proto", "https")
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
	require.True(t, secret, "the cookie is Secure")
	s.Proxies = []netip.Prefix{netip.MustParsePrefix("10.20.0.7/32")}
	_, at = ask("localhost", "203.0.113.45")
	require.Equal(t, "127.0.0.1", at, "nobody else is believed")
	require.False(t, secret)
}

// More calls than may be done at once are told to come again, those of one source before they take the room of others; who looks on is not
// counted.
func TestCallsAreBounded(t *testing.T) {
	s := &Server{calls: &room{most: 3, each: 2}}
	held, entered := make(chan struct{}), make(chan struct{})
	h := s.located(s.bounded(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {
		entered <- struct{}{}
		<-held
	})))
	ask := func(from, path string) *httptest.ResponseRecorder {
		r := httptest.NewRequestWithContext(t.Context(), "GET", path, nil)
		r.RemoteAddr = from + ":4711"
		w := httptest.NewRecorder()
		h.ServeHTTP(w, r)
		return w
	}
	var all sync.WaitGroup
	hold := func(from, path string) {
		all.Go(func() { require.Equal(t, 200, ask(from, path).Code) })
		<-entered
	}
	hold("203.0.113.9", "/api/v1/users")
	hold("203.0.113.9", "/api/v1/users")
	w := ask("203.0.113.9", "/api/v1/users")
	require.Equal(t, []any{503, "5"}, []any{w.Code, w.Header().Get("Retry-After")})
	hold("203.0.113.9", "/api/v1/watch")
	hold("198.51.100.7", "/api/v1/users")
	require.Equal(t, 503, ask("198.51.100.8", "/api/v1/users").Code, "there is no room at all")
	close(held)
	all.Wait()
	go func() { <-entered }()
	require.Equal(t, 200, ask("203.0.113.9", "/api/v1/users").Code, "and there is again")
}
