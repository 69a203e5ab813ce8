package agent

import (
	"context"
	"errors"
	"sync"
	"time"

	"yellowlantern/internal/core/login"
)

// What a service keeps of logins under way.
const (
	talksMost  = 4096
	talkLasts  = 2 * time.Minute
	rulesMost  = 512 // rulings worked out at once
	settleLong = 20 * time.Second
)

// talkKey names a conversation of one of a gateway's desks.
type talkKey struct {
	of string
	id uint64
}

type kept struct {
	login.Conversation
	at time.Time
}

// talks are the logins that the service carries on.
type talks struct {
	mu sync.Mutex
	by map[talkKey]kept
}

func (t *talks) of(k talkKey) login.Conversation {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.by[k].Conversation
}

// keep keeps a conversation, and forgets those of which nothing was heard.
func (t *talks) keep(k talkKey, c login.Conversation, now time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.by == nil {
		t.by = map[talkKey]kept{}
	}
	if len(t.by) >= talksMost {
		for k, c := range t.by {
			if now.Sub(c.at) > talkLasts {
				delete(t.by, k)
			}
		}
	}
	if len(t.by) < talksMost {
		t.by[k] = kept{c, now}
	}
}

func (t *talks) forget(k talkKey) {
	t.mu.Lock()
	defer t.mu.Unlock()
	delete(t.by, k)
}

// Rule answers what the gateway asks, until the context ends.
func (h *Handle) Rule(ctx context.Context) {
	var taken Mark
	under := make(chan struct{}, rulesMost)
	var done sync.WaitGroup
	defer done.Wait()
	for ctx.Err() == nil {
		x, err := h.Inquiries(ctx, taken)
		if err != nil {
			rest(ctx)
			continue
		}
		for _, i := range x.Inquiries {
			taken = Mark{x.Of, i.ID}
			select {
			case under <- struct{}{}:
			case <-ctx.Done():
				return
			}
			done.Go(func() {
				defer func() { <-under }()
				h.settled(ctx, x.Of, h.rule(ctx, x.Of, i))
			})
		}
	}
}

// settled hands a ruling over, however often that takes: the gateway waits no longer than settleLong.
func (h *Handle) settled(ctx context.Context, of string, r Ruling) {
	ctx, stop := context.WithTimeout(ctx, settleLong)
	defer stop()
	for h.Settle(ctx, of, []Ruling{r}) != nil && ctx.Err() == nil {
		rest(ctx)
	}
}

func (h *Handle) rule(ctx context.Context, of string, i Inquiry) (r Ruling) {
	r.ID = i.ID
	var err error
	switch {
	case i.Round != nil:
		r.Step = h.carry(of, *i.Round)
	case i.Admit != nil:
		err = h.Admit(*i.Admit)
	case i.Key != nil:
		r.Outcome = h.People.Owner(ctx, *i.Key)
	case i.Shared != nil:
		r.Shared = h.People.Shared(ctx, *i.Shared)
	case i.Code != nil:
		r.Outcome = h.People.Code(ctx, *i.Code)
	case i.Coded != nil:
		r.Coded = h.People.Coded(ctx, *i.Coded)
	case i.Again != nil:
		r.Standing, err = h.People.Again(ctx, i.Again.User, i.Again.Stamp)
		r.Stamp = errors.Is(err, login.ErrStamp)
	default:
		r.Standing, err = h.People.Standing(ctx, i.Person)
	}
	if err != nil {
		r.Error = err.Error()
	}
	return r
}

// carry carries a login one round on. One that another service began is left to be begun anew.
func (h *Handle) carry(of string, round Round) login.Step {
	key := talkKey{of, round.Talk}
	c := h.talks.of(key)
	switch {
	case round.Begins:
		c = h.People.Begin(round.Call)
	case c == nil:
		return unheard("the service started again in the middle of the login")
	}
	step := c.Next(round.Message)
	if step.Over {
		h.talks.forget(key)
	} else {
		h.talks.keep(key, c, time.Now())
	}
	return step
}

// rest waits before something that failed is tried again.
func rest(ctx context.Context) {
	select {
	case <-ctx.Done():
	case <-time.After(200 * time.Millisecond):
	}
}
