package plans

import (
	"context"
	"fmt"
	"time"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/store"
)

// handLasts is for how long an administrator is no other than who made them, or set their password, second factor or role: what they do
// may be that one's doing.
const handLasts = 24 * time.Hour

// ApprovedByAnother tells whether an administrator other than who asks approved a draft as it is, and is one still.
func (s *Service) ApprovedByAnother(ctx context.Context, d store.Draft) (bool, error) {
	all, err := s.Store.Approvals(ctx, Digest(d))
	if err != nil {
		return false, err
	}
	for _, a := range all {
		why, err := s.NoOther(ctx, a)
		if why == "" || err != nil {
			return err == nil, err
		}
	}
	return false, nil
}

// NoOther tells why an approval is not another administrator's than who asks; empty: it is.
func (s *Service) NoOther(ctx context.Context, a store.Approval) (string, error) {
	me := actor.Name(ctx)
	if a.By == me {
		return "who must be another than commits", nil
	}
	who, err := s.Store.Administrator(ctx, a.By)
	if err != nil || s.Stands != nil && !s.Stands(ctx, &who) || who.Role != store.WholeRole {
		return "who may not commit now", nil
	}
	held, err := s.inHand(ctx, a, me)
	if err != nil || !held {
		return "", err
	}
	return fmt.Sprintf("who may be the same as %s: one of both made the other within a day before, or set a password, second factor or role, "+
		"or somebody did so of both", me), nil
}

// inHand tells whether who approved and who commits may be one: since a day before the approval one had the other in hand, or somebody had
// both, also by others between them. That both had a third in hand makes them no one.
func (s *Service) inHand(ctx context.Context, a store.Approval, of string) (bool, error) {
	hands, err := s.Store.Hands(ctx, a.At.Add(-handLasts), time.Now())
	if err != nil {
		return false, err
	}
	mine := controllers(hands, of)
	for name := range controllers(hands, a.By) {
		if mine[name] {
			return true, nil
		}
	}
	return false, nil
}

// controllers are an administrator and all who had them in hand, also by others between them.
func controllers(hands []store.Hand, of string) map[string]bool {
	all := map[string]bool{of: true}
	for grown := true; grown; {
		grown = false
		for _, h := range hands {
			if all[h.Administrator] && !all[h.By] {
				all[h.By], grown = true, true
			}
		}
	}
	return all
}
