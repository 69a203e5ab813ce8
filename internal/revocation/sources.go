package revocation

import (
	"cmp"
	"context"
	"slices"
	"time"

	"yellowlantern/internal/core/foreign"
)

// States of what is gone by.
const (
	Fresh = "fresh" // it may be gone by
	Over  = "over"  // its time is over
	None  = "none"  // there was nothing yet
)

// Source is something by which it is known what is revoked, with how fresh it is.
type Source struct {
	From    string    `json:"from" doc:"Its address, or that it was given by hand, and who signed it."`
	Kind    string    `json:"kind" enum:"list,server"`
	State   string    `json:"state" enum:"fresh,over,none" doc:"fresh: it may be gone by. over: its time is over. none: there was nothing yet."`
	Number  string    `json:"number,omitempty" doc:"Of the list."`
	This    time.Time `json:"this,omitzero" doc:"When the list was made."`
	Next    time.Time `json:"next,omitzero" doc:"Until when it may be gone by."`
	Entries int       `json:"entries,omitempty" doc:"How many certificates it revokes."`
	Fetched time.Time `json:"fetched,omitzero"`
	Failed  string    `json:"failed,omitempty" doc:"Why it could not be had last."`
	Tried   time.Time `json:"tried,omitzero" doc:"When that was."`
}

// told is what there is to say of a list. mu is held.
func (l *list) told(now time.Time) Source {
	s := Source{From: l.from, Kind: "list", State: None, Fetched: l.fetched, Failed: l.failed}
	if l.failed != "" {
		s.Tried = l.tried
	}
	if l.read == nil {
		return s
	}
	s.State, s.This, s.Next, s.Entries = Over, l.read.This, l.read.Next, l.read.Entries
	if l.read.Fresh(now) {
		s.State = Fresh
	}
	if l.read.Number != nil {
		s.Number = l.read.Number.String()
	}
	return s
}

// Sources lists what is gone by for an authority.
func (k *Keeper) Sources(ctx context.Context, a *foreign.Authority) []Source {
	lists := k.all(ctx, a)
	k.mu.Lock()
	servers := []Source{}
	for u, f := range k.asked {
		if f.authority == a.Name {
			servers = append(servers, f.told(u))
		}
	}
	k.mu.Unlock()
	out := []Source{}
	for _, l := range lists {
		l.mu.Lock()
		for _, by := range a.Certificates {
			if l.read == nil {
				_, _ = l.readBy(by)
			}
		}
		out = append(out, l.told(k.now()))
		l.mu.Unlock()
	}
	out = append(out, servers...)
	slices.SortFunc(out, func(x, y Source) int { return cmp.Compare(x.From, y.From) })
	return out
}

// Refresh fetches lists before anybody needs them; at once: also those that are good for a while.
func (k *Keeper) Refresh(ctx context.Context, a *foreign.Authority, atOnce bool) {
	for _, l := range k.all(ctx, a) {
		l.mu.Lock()
		signers := slices.Clone(a.Certificates)
		if l.by != nil {
			signers = append(signers, l.by)
		}
		l.mu.Unlock()
		k.fetch(ctx, l, atOnce, signers...)
	}
}

// all are the lists of an authority: at the places that the plan says, or at those that certificates named, and those given by hand.
func (k *Keeper) all(ctx context.Context, a *foreign.Authority) []*list {
	out := k.having(ctx, a.Name, a.Lists)
	if len(a.Lists) > 0 {
		return out
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	for p, l := range k.lists {
		if p.authority == a.Name && !slices.Contains(out, l) {
			out = append(out, l)
		}
	}
	return out
}
