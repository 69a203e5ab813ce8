package people

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"sync"
	"time"

	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/onetime"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/securitykey"
	"yellowlantern/internal/store"
)

// mostAsked is how many questions to security keys may be open at once.
const mostAsked = 10_000

var errTooMany = errors.New("too many questions to security keys are open")

// asked are questions to security keys that were not answered yet, by whose they are, where, and what for: the newest counts, and once.
// They live in memory alone.
type asked struct {
	mu sync.Mutex
	of map[string]openQuestion
}

type openQuestion struct {
	state []byte
	at    time.Time
}

func about(user string, t *login.Touch) string {
	return user + "\x00" + t.Page + "\x00" + map[bool]string{true: "add", false: "use"}[t.Adds]
}

func (a *asked) keep(what string, state []byte, now time.Time) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.of == nil {
		a.of = map[string]openQuestion{}
	}
	if _, again := a.of[what]; !again && len(a.of) >= mostAsked {
		for k, q := range a.of {
			if now.Sub(q.at) >= securitykey.Lasts {
				delete(a.of, k)
			}
		}
		if len(a.of) >= mostAsked {
			return false
		}
	}
	a.of[what] = openQuestion{state, now}
	return true
}

func (a *asked) take(what string, now time.Time) (state []byte, ok bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	q, ok := a.of[what]
	delete(a.of, what)
	return q.state, ok && now.Sub(q.at) < securitykey.Lasts
}

// touch asks for, or judges, what a security key of somebody's is used for.
func (p *People) touch(ctx context.Context, c login.Code) login.Outcome {
	o := login.Outcome{User: c.User, Known: true}
	later := func(err error) login.Outcome {
		o.Why = reason.Of(reason.LoginsLater, reason.With{reason.Error: err.Error()})
		return o
	}
	factors, keys, err := p.touches(ctx, c.User)
	if err != nil {
		return later(err)
	}
	page, t := securitykey.Page{Name: c.Touch.Page, Origin: c.Touch.Origin, Title: c.Touch.Title}, c.Touch
	if len(t.Answer) == 0 {
		ask := page.Use
		if t.Adds {
			ask = page.Add
		}
		q, err := ask(c.User, keys)
		switch {
		case err != nil:
			o.Why = reason.Of(reason.NoSecurityKey, reason.With{reason.Error: err.Error()})
		case !p.asked.keep(about(c.User, t), q.State, time.Now()):
			return later(errTooMany)
		default:
			o.Asked, o.Why = q.Options, reason.Of(reason.SecurityKeyAsked, nil)
		}
		return o
	}
	state, ok := p.asked.take(about(c.User, t), time.Now())
	if !ok {
		o.Why = reason.Of(reason.SecurityKeyWrong, reason.With{reason.Error: "it came too late, or twice: try again"})
		return o
	}
	if t.Adds {
		return p.addKey(ctx, o, page, t, state)
	}
	which, k, err := page.Used(c.User, keys, state, t.Answer)
	if err != nil {
		o.Why = reason.Of(reason.SecurityKeyWrong, reason.With{reason.Error: err.Error()})
		return o
	}
	b, err := json.Marshal(k)
	if err == nil {
		err = p.keeper.UseSecurityKey(ctx, factors[which].ID, b, time.Now())
	}
	if err != nil {
		return later(err)
	}
	o.OK = true
	return o
}

// touches are somebody's security keys.
func (p *People) touches(ctx context.Context, user string) (fs []store.Factor, keys []securitykey.Key, err error) {
	all, err := p.keeper.Factors(ctx, user)
	if err != nil {
		return nil, nil, err
	}
	for _, x := range all {
		if x.Kind != onetime.ByKey {
			continue
		}
		f, kept, err := p.keeper.FactorSecret(ctx, x.ID)
		if err != nil {
			return nil, nil, err
		}
		var k securitykey.Key
		if err := json.Unmarshal(kept, &k); err != nil {
			return nil, nil, err
		}
		fs, keys = append(fs, f), append(keys, k)
	}
	return fs, keys, nil
}

// addKey keeps a security key that somebody adds. Where it is their first second factor they are given recovery codes.
func (p *People) addKey(ctx context.Context, o login.Outcome, page securitykey.Page, t *login.Touch, state []byte) login.Outcome {
	k, err := page.Added(o.User, state, t.Answer)
	if err != nil {
		o.Why = reason.Of(reason.SecurityKeyWrong, reason.With{reason.Error: err.Error()})
		return o
	}
	all, err := p.keeper.Factors(ctx, o.User)
	var codes, hashes []string
	if err == nil && len(all) == 0 {
		codes, hashes = newRecovery(o.User)
	}
	b, bad := json.Marshal(k)
	switch {
	case err != nil || bad != nil:
		o.Why = reason.Of(reason.LoginsLater, nil)
		return o
	case len(all) >= mostFactors:
		o.Why = reason.Of(reason.SecurityKeyWrong, reason.With{reason.Error: ErrFactors.Error()})
		return o
	}
	f := store.Factor{ID: rand.Text()[:12], User: o.User, Kind: onetime.ByKey, Device: t.Name, At: time.Now().UTC()}
	if err := p.keeper.AddFactor(ctx, f, b, hashes, ""); err != nil {
		o.Why = reason.Of(reason.LoginsLater, reason.With{reason.Error: err.Error()})
		return o
	}
	o.OK, o.Recovery = true, codes
	return o
}
