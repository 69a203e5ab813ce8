package gateway

import (
	"context"
	"encoding/json"
	"errors"
	"net/netip"
	"sync"
	"time"

	"yellowlantern/internal/core/crowd"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/core/tunnel"
)

// rememberFor is for how long after a login its person's device may come back without another one, unless the passage's sessions are
// shorter.
const rememberFor = 12 * time.Hour

// remembered is what is to be shown of somebody who comes back without logging in anew. It is worth nothing under another revision, nor
// once anything has changed that they logged in with.
type remembered struct {
	User     string    `json:"user"`
	Stamp    string    `json:"stamp"`
	Revision int       `json:"revision"`
	At       time.Time `json:"at"`               // of the login
	Key      []byte    `json:"key,omitempty"`    // the public key that they proved themselves with then
	Shared   []string  `json:"shared,omitempty"` // IDs of shared keys that went in then
	Coded    time.Time `json:"coded,omitzero"`   // when a second factor was given
}

func read(r tunnel.Remembered) (m remembered, ok bool) {
	return m, len(r) > 0 && json.Unmarshal(r, &m) == nil && m.User != ""
}

// remember adds to a grant what the device may come back by. g.mu is held.
func (g *Gateway) remember(grant *tunnel.Grant, s *session.Session, r tunnel.Request, longest time.Duration) {
	stamp := r.Stamp
	if back, ok := read(r.Back); ok {
		stamp = back.Stamp
	}
	if stamp == "" {
		return
	}
	lasts := rememberFor
	if longest > 0 {
		lasts = min(lasts, longest)
	}
	b, err := json.Marshal(remembered{r.User, stamp, int(g.revision.Load()), s.LoggedIn, s.Key, s.SharedKeys, s.Coded})
	if err == nil {
		grant.Remember, grant.Until = b, s.LoggedIn.Add(lasts)
	}
}

// Owner implements tunnel.Host.
func (h host) Owner(k login.Key) login.Outcome {
	ctx, stop := context.WithTimeout(context.Background(), answerTime)
	defer stop()
	return h.g.cfg.People.Owner(ctx, k)
}

// Shared implements tunnel.Host.
func (h host) Shared(ask login.SharedKey) login.Shared {
	ctx, stop := context.WithTimeout(context.Background(), answerTime)
	defer stop()
	s := h.g.cfg.People.Shared(ctx, ask)
	if !s.OK || ask.MixedIn {
		return s
	}
	if wait := h.g.keys.waits(s.User, ask.From); wait > 0 {
		why := reason.Of(reason.SharedKeyWaits, reason.With{reason.Limit: (wait + time.Second - 1).Truncate(time.Second).String()})
		return login.Shared{Outcome: login.Outcome{User: s.User, Known: true, Why: why}}
	}
	return s
}

// keyGuard throttles wrong proofs by shared keys, which are judged here: the service hands over whose key it is.
type keyGuard struct {
	mu    sync.Mutex
	guard crowd.Guard
}

func (k *keyGuard) waits(user string, from netip.Addr) time.Duration {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.guard.Waits(time.Now(), user, from)
}

// judged notes what became of one.
func (k *keyGuard) judged(user string, from netip.Addr, right bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	now := time.Now()
	switch {
	case right:
		k.guard.Right(now, user, from)
	case k.guard.Begin(now, user, from) == 0:
		k.guard.Wrong(now, user, from)
	}
}

// Back implements tunnel.Host.
func (h host) Back(r tunnel.Remembered) login.Outcome {
	m, ok := read(r)
	refused := func(why reason.Reason) login.Outcome { return login.Outcome{User: m.User, Known: ok, Why: why} }
	if !ok || m.Revision != int(h.g.revision.Load()) {
		return refused(reason.Of(reason.LoginAnew, reason.With{reason.What: "another revision runs now"}))
	}
	ctx, stop := context.WithTimeout(context.Background(), answerTime)
	defer stop()
	now, err := h.g.cfg.People.Again(ctx, m.User, m.Stamp)
	switch {
	case errors.Is(err, login.ErrStamp):
		return refused(reason.Of(reason.LoginAnew, reason.With{reason.What: err.Error()}))
	case err != nil:
		return refused(reason.Of(reason.LoginsLater, reason.With{reason.Error: err.Error()}))
	}
	return login.Outcome{OK: true, User: m.User, Known: true, Groups: now.Groups, Limits: now.Limits, Stamp: m.Stamp}
}
