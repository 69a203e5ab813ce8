package service

import (
	"context"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"sync"
)

// own refuses requests for other host names than the service's own: a page from elsewhere whose name was made to lead here would
// otherwise speak with the console's rights.
func (s *Service) own(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		host := r.Host
		if h, _, err := net.SplitHostPort(host); err == nil {
			host = h
		}
		host = strings.ToLower(strings.Trim(strings.TrimSuffix(host, "."), "[]"))
		a, err := netip.ParseAddr(host)
		if host != "localhost" && (err != nil || !a.IsLoopback()) && !slices.ContainsFunc(s.Names, func(n string) bool { return strings.EqualFold(n, host) }) {
			http.Error(w, "this service is not called that: ask it by its address on this machine, or start it with --name for what a proxy in front calls it",
				http.StatusMisdirectedRequest)
			return
		}
		next.ServeHTTP(w, r)
	})
}

// credentials ends what goes on under a credential (by its hash) once that is worth nothing any more.
type credentials struct {
	mu   sync.Mutex
	uses map[string]map[*context.CancelFunc]bool
}

// use gives a context that ends with the credential. done must be called.
func (c *credentials) use(ctx context.Context, hash string) (with context.Context, done func()) {
	with, cancel := context.WithCancel(ctx)
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.uses == nil {
		c.uses = map[string]map[*context.CancelFunc]bool{}
	}
	if c.uses[hash] == nil {
		c.uses[hash] = map[*context.CancelFunc]bool{}
	}
	c.uses[hash][&cancel] = true
	return with, func() {
		cancel()
		c.mu.Lock()
		defer c.mu.Unlock()
		if delete(c.uses[hash], &cancel); len(c.uses[hash]) == 0 {
			delete(c.uses, hash)
		}
	}
}

// end ends everything under a credential.
func (c *credentials) end(hash string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for cancel := range c.uses[hash] {
		(*cancel)()
	}
}
