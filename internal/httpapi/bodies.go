package httpapi

import (
	"bytes"
	"context"
	"errors"
	"io"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"time"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/core/crowd"
	"yellowlantern/internal/core/plan"
)

// How large a request may be, and how long its body may take. Before it is known who asks, little is read, and by few at a time.
const (
	// mostBody is a plan of its largest size, written as a JSON string, in which every other character may be escaped.
	mostBody = 2*plan.MaxSize + 1<<20
	// mostAsked is for whoever did not sign in, and for each call that needs no more.
	mostAsked = 64 << 10

	strangerTime  = 10 * time.Second
	strangersMost = 256 // bodies of strangers that are read at once
	strangersEach = 16  // of those from one source
	bodyTime      = 15 * time.Second

	callsMost = 256 // calls that are done at once
	callsEach = 64  // of those of one source

	// largeBody is from which size on a caller's calls are done largeEach at once: what a document becomes takes up to 256 MB. Others of
	// that caller's wait for as long as largeWait.
	largeBody = 256 << 10
	largeEach = 2
	largeMost = 64
	largeWait = 30 * time.Second
	largeTime = 2 * time.Minute
)

// bodies are how large requests of calls may be that need more than mostAsked.
var bodies = map[string]int64{
	"save-draft": mostBody, "check": mostBody, "read": mostBody, "uses": mostBody, "depends": mostBody, "edit": mostBody, "change-draft": mostBody,
	"import-users": mostBody, "give-list": mostBody, "add-probe": 4 << 20, "diagnose": 4 << 20, "bundle": 4 << 20, "begin": 256 << 10,
	"commit-draft": 1 << 20, "import-certificate": 256 << 10, "journeys": 512 << 10, "try-certificate": 256 << 10, "make-kits": 1 << 20,
}

// bodyOf is how large the body of a call may be, and how long it may take.
func bodyOf(call string) (int64, time.Duration) {
	if most := bodies[call]; most > 0 {
		return most, largeTime
	}
	return mostAsked, bodyTime
}

// room bounds what is done at once, in all and of one source.
type room struct {
	most, each int
	mu         sync.Mutex
	open       crowd.Count
}

func (r *room) enter(from netip.Addr) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.open.All() >= r.most || r.open.Of(from) >= r.each {
		return false
	}
	r.open.Add(from)
	return true
}

func (r *room) leave(from netip.Addr) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.open.Remove(from)
}

// bounded has no more calls done at once than the records can bear; who looks on for long is not counted.
func (s *Server) bounded(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/api/v1/watch" {
			from := actor.Of(r.Context()).From
			if !s.calls.enter(from) {
				tooMany(w)
				return
			}
			defer s.calls.leave(from)
		}
		next.ServeHTTP(w, r)
	})
}

// tooMany says that there is no room at the moment.
func tooMany(w http.ResponseWriter) {
	w.Header().Set("Retry-After", "5")
	w.Header().Set("Connection", "close") // nothing waits for the rest
	http.Error(w, "too many requests at once from there: try again in a moment", http.StatusServiceUnavailable)
}

// places are where the calls of one caller are done that cost much: each of them at once, while others of theirs wait, most in all.
type places struct {
	each, most int
	mu         sync.Mutex
	of         map[string]*callers
}

type callers struct {
	free  chan struct{}
	users int
}

// enter waits for a place of a caller's; leave gives it back. None: it took too long, or too many of theirs wait.
func (p *places) enter(ctx context.Context, caller string) (leave func(), ok bool) {
	p.mu.Lock()
	if p.of == nil {
		p.of = map[string]*callers{}
	}
	c := p.of[caller]
	if c == nil {
		c = &callers{free: make(chan struct{}, p.each)}
		p.of[caller] = c
	}
	if c.users >= p.most {
		p.mu.Unlock()
		return nil, false
	}
	c.users++
	p.mu.Unlock()
	gone := func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		if c.users--; c.users == 0 {
			delete(p.of, caller)
		}
	}
	bounded, stop := context.WithTimeout(ctx, largeWait)
	defer stop()
	select {
	case c.free <- struct{}{}:
		return func() { <-c.free; gone() }, true
	case <-bounded.Done():
		gone()
		return nil, false
	}
}

// caller is by what a caller is told from others before their credentials are looked at.
func caller(r *http.Request) string {
	if c, err := r.Cookie(cookieName); err == nil {
		return c.Value
	}
	return r.Header.Get("Authorization")
}

// received has bodies of strangers read before anything is done with them: at most mostAsked octets, within strangerTime. Of others it
// leaves reading to the call, which looks at their credentials before.
func (s *Server) received(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Body == nil || r.Body == http.NoBody {
			next.ServeHTTP(w, r)
			return
		}
		if s.signedIn(r) {
			if r.ContentLength < 0 || r.ContentLength > largeBody {
				leave, ok := s.places.enter(r.Context(), caller(r))
				if !ok {
					w.Header().Set("Retry-After", "10")
					w.Header().Set("Connection", "close")
					http.Error(w, "two large calls of yours are under way: try again when one is done", http.StatusServiceUnavailable)
					return
				}
				defer leave()
			}
			r.Body = &timely{ReadCloser: http.MaxBytesReader(w, r.Body, mostBody), control: http.NewResponseController(w)}
			next.ServeHTTP(w, r)
			return
		}
		s.readFirst(w, r, next)
	})
}

// signedIn tells whether a request brings credentials to a call that asks for them.
func (s *Server) signedIn(r *http.Request) bool {
	if !strings.HasPrefix(r.URL.Path, "/api/") || s.openPaths[r.URL.Path] {
		return false
	}
	_, err := r.Cookie(cookieName)
	return err == nil || r.Header.Get("Authorization") != ""
}

func (s *Server) readFirst(w http.ResponseWriter, r *http.Request, next http.Handler) {
	refuse := func(status int, words string) {
		w.Header().Set("Connection", "close") // nothing waits for the rest
		http.Error(w, words, status)
	}
	if r.ContentLength > mostAsked {
		refuse(http.StatusRequestEntityTooLarge, "that is more than 64 KiB")
		return
	}
	from := actor.Of(r.Context()).From
	if !s.strangers.enter(from) {
		tooMany(w)
		return
	}
	control := http.NewResponseController(w)
	_ = control.SetReadDeadline(time.Now().Add(strangerTime))
	b, err := io.ReadAll(http.MaxBytesReader(w, r.Body, mostAsked))
	s.strangers.leave(from)
	var large *http.MaxBytesError
	switch {
	case errors.As(err, &large):
		refuse(http.StatusRequestEntityTooLarge, "that is more than 64 KiB")
		return
	case err != nil:
		refuse(http.StatusRequestTimeout, "the request did not come whole")
		return
	}
	_ = control.SetReadDeadline(time.Time{})
	r.Body = &timely{ReadCloser: io.NopCloser(bytes.NewReader(b)), control: control}
	next.ServeHTTP(w, r)
}

// timely is a body whose deadline ends with it: it is not that of what the call then does.
type timely struct {
	io.ReadCloser
	control *http.ResponseController
}

// Read implements io.Reader.
func (t *timely) Read(p []byte) (int, error) {
	n, err := t.ReadCloser.Read(p)
	if errors.Is(err, io.EOF) {
		_ = t.control.SetReadDeadline(time.Time{})
	}
	return n, err
}
