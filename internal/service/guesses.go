package service

import (
	"context"
	"fmt"
	"net/http"
	"net/netip"
	"strconv"
	"strings"
	"sync"

	"github.com/danielgtaylor/huma/v2"

	"yellowlantern/internal/core/crowd"
	"yellowlantern/internal/core/reason"
)

type sourceKey struct{}

// source is where a request comes from.
func source(ctx context.Context) netip.Addr {
	a, _ := ctx.Value(sourceKey{}).(netip.Addr)
	return a
}

// located notes where a request comes from. A proxy in front, which is on this host and whose names the service was told, says it in
// X-Forwarded-For: the last address there is the one that the proxy saw itself.
func (s *Service) located(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		at, _ := netip.ParseAddrPort(r.RemoteAddr)
		from := at.Addr().Unmap()
		if told := r.Header.Values("X-Forwarded-For"); len(told) > 0 && len(s.Names) > 0 && from.IsLoopback() {
			all := strings.Split(told[len(told)-1], ",")
			if a, err := netip.ParseAddr(strings.TrimSpace(all[len(all)-1])); err == nil {
				from = a
			}
		}
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), sourceKey{}, from)))
	})
}

// Slowed is somebody who has to wait, and for what.
type Slowed struct {
	For string `json:"for" enum:"tunnel,console" doc:"What the passwords were for."`
	crowd.Slowed
}

func (s *Service) slowedRoutes() {
	register(s, "GET", "/slowed", "slowed", "Who had wrong passwords in the last hour, and until when no other is looked at", s.slowed)
	register(s, "DELETE", "/slowed", "lift-slowed", "Let the next password be looked at at once", s.lift)
}

func (s *Service) slowed(context.Context, *struct{}) (*body[[]Slowed], error) {
	out := []Slowed{}
	for _, x := range s.People.Guesses.Slowed() {
		out = append(out, Slowed{"tunnel", x})
	}
	for _, x := range s.attempts.Slowed() {
		out = append(out, Slowed{"console", x})
	}
	return answer(out), nil
}

// Lifted is how many names from a source need not wait any more.
type Lifted struct {
	Lifted int `json:"lifted"`
}

func (s *Service) lift(ctx context.Context, in *struct {
	Name   string `query:"name" doc:"Only this name."`
	Source string `query:"source" doc:"Only what comes from this address, or its /64 of IPv6."`
},
) (*body[Lifted], error) {
	var from netip.Addr
	if in.Source != "" {
		text, _, _ := strings.Cut(in.Source, "/")
		var err error
		if from, err = netip.ParseAddr(text); err != nil {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("%q is no address: write one such as 203.0.113.45", in.Source))
		}
	}
	n := s.People.Guesses.Lift(in.Name, from) + s.attempts.Lift(in.Name, from)
	if n > 0 {
		s.tell(reason.Of(reason.GuessesLifted, reason.With{reason.Administrator: administrator(ctx), reason.Count: strconv.Itoa(n)}),
			in.Name)
	}
	return answer(Lifted{n}), nil
}

// Password checks cost memory and time on purpose. A few run at once; of the others each source has its turn, so that a flood from one
// place makes nobody else wait for more than their turn.
const (
	hashingAtOnce  = 2
	hashingWaiting = 8   // of one source
	hashingAll     = 256 // of all
)

// turns hands out the right to hash. The zero value is ready.
type turns struct {
	mu      sync.Mutex
	running int
	waiting int
	order   []netip.Prefix // sources that wait, the next first
	queues  map[netip.Prefix][]chan struct{}
}

// take waits for a turn, and gives what ends it. ok is false where too many of the source wait already, or the context ends.
func (t *turns) take(ctx context.Context, from netip.Addr) (done func(), ok bool) {
	key := crowd.Source(from)
	t.mu.Lock()
	if t.running < hashingAtOnce {
		t.running++
		t.mu.Unlock()
		return t.next, true
	}
	if t.queues == nil {
		t.queues = map[netip.Prefix][]chan struct{}{}
	}
	if len(t.queues[key]) >= hashingWaiting || t.waiting >= hashingAll {
		t.mu.Unlock()
		return nil, false
	}
	if len(t.queues[key]) == 0 {
		t.order = append(t.order, key)
	}
	c := make(chan struct{}, 1)
	t.queues[key] = append(t.queues[key], c)
	t.waiting++
	t.mu.Unlock()
	select {
	case <-c:
		return t.next, true
	case <-ctx.Done():
		go func() { <-c; t.next() }() // its turn still comes, and passes
		return nil, false
	}
}

// next passes the turn on.
func (t *turns) next() {
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.order) == 0 {
		t.running--
		return
	}
	key := t.order[0]
	t.order = t.order[1:]
	q := t.queues[key]
	q[0] <- struct{}{}
	t.waiting--
	if t.queues[key] = q[1:]; len(q) == 1 {
		delete(t.queues, key)
		return
	}
	t.order = append(t.order, key)
}
