package agent

import (
	"context"
	"errors"
	"net/netip"
	"sync"
	"time"

	"yellowlantern/internal/core/crowd"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/guard"
)

// What a service keeps of logins under way: of one source as many as a gateway lets begin.
const (
	talksMost  = 4096
	talksShare = 128
	talkLasts  = 2 * time.Minute
	rulesMost  = 512 // rulings worked out at once
	settleLong = 20 * time.Second
)

// talkKey names a conversation of one of a gateway's desks.
type talkKey struct {
	of string
	id uint64
}

// kept is a login that is carried on here. Its messages come one after the other; its end may come between any two.
type kept struct {
	turn sync.Mutex
	login.Conversation
	over bool
}

// next takes the login a step further; false: it has ended.
func (k *kept) next(message []byte) (step login.Step, ok bool) {
	k.turn.Lock()
	defer k.turn.Unlock()
	if k.over {
		return step, false
	}
	step = k.Next(message)
	if k.over = step.Over; k.over {
		k.End()
	}
	return step, true
}

// end ends it, once a message that is being judged is.
func (k *kept) end() {
	k.turn.Lock()
	defer k.turn.Unlock()
	if !k.over {
		k.over = true
		k.End()
	}
}

// talks are the logins that the service carries on.
type talks struct {
	mu   sync.Mutex
	room crowd.Room[talkKey, netip.Prefix, *kept]
}

func (t *talks) of(k talkKey) *kept {
	t.mu.Lock()
	defer t.mu.Unlock()
	x, _ := t.room.Heard(time.Now(), k)
	return x
}

// begin keeps a conversation; those that give way for it end.
func (t *talks) begin(k talkKey, from netip.Addr, c login.Conversation) *kept {
	x := &kept{Conversation: c}
	t.mu.Lock()
	t.room.Most, t.room.Share, t.room.Lasts = talksMost, talksShare, talkLasts
	gone := t.room.Add(time.Now(), k, crowd.Source(from), x)
	t.mu.Unlock()
	for _, g := range gone {
		guard.Go("agent.talkOver", g.end)
	}
	return x
}

// forget ends a conversation, if it is kept.
func (t *talks) forget(k talkKey) {
	t.mu.Lock()
	x, ok := t.room.Remove(k)
	t.mu.Unlock()
	if ok {
		x.end()
	}
}

// Rule answers what the gateway asks, until the context ends.
func (h *Handle) Rule(ctx context.Context) {
	var taken Mark
	under := make(chan struct{}, rulesMost)
	var done guard.Group
	defer done.Wait()
	for ctx.Err() == nil {
		x, err := h.Inquiries(ctx, taken)
		if err != nil {
			rest(ctx)
			continue
		}
		for _, i := range x.Inquiries {
			taken = Mark{x.Of, i.ID}
			if i.Over != 0 { // it may wait for its turn: nobody else does
				guard.Go("agent.talkOver", func() { h.talks.forget(talkKey{x.Of, i.Over}) })
				continue
			}
			select {
			case under <- struct{}{}:
			case <-ctx.Done():
				return
			}
			done.Go("agent.ruling", func() {
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

// carry carries a login one round on. One that another service began is left to be begun again.
func (h *Handle) carry(of string, round Round) login.Step {
	key := talkKey{of, round.Talk}
	c := h.talks.of(key)
	if round.Begins {
		c = h.talks.begin(key, round.Call.From, h.People.Begin(round.Call))
	}
	if c != nil {
		if step, ok := c.next(round.Message); ok {
			if step.Over {
				h.talks.forget(key)
			}
			return step
		}
	}
	return unheard("the service started again in the middle of the login, or gave it up for newer ones from the same source")
}

// rest waits before something that failed is tried again.
func rest(ctx context.Context) {
	select {
	case <-ctx.Done():
	case <-time.After(200 * time.Millisecond):
	}
}
