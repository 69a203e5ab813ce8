package watching

import (
	"context"
	"net/netip"
	"strings"
	"time"

	"yellowlantern/internal/app/journal"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/people"
	"yellowlantern/internal/store"
)

// PastSession is a session that ended.
type PastSession struct {
	Gateway   string    `json:"gateway,omitempty"`
	User      string    `json:"user"`
	Passage   string    `json:"passage"`
	Addresses string    `json:"addresses"`
	From      string    `json:"from"`
	Over      string    `json:"over" enum:"UDP,TCP"`
	Since     time.Time `json:"since"`
	Until     time.Time `json:"until"`
	InBytes   uint64    `json:"in-bytes"`
	OutBytes  uint64    `json:"out-bytes"`
	Lost      uint64    `json:"lost" doc:"Packets that the gateway lost."`
	Missing   uint64    `json:"missing" doc:"Packets that did not come."`
	reason.Reason
	Words string `json:"words" doc:"Why it ended."`
}

// PastOf is what is kept of a session that ended. Those of trials are not kept: their reports are.
func PastOf(x gateway.Session, why reason.Reason, at time.Time) (rec store.PastSession, kept bool) {
	return store.PastSession{
		Gateway: x.Gateway, User: x.User, Passage: x.Passage, Addresses: addressWords(x.Addresses), From: x.From, TCP: x.TCP, Since: x.Since.UTC(), Until: at.UTC(),
		InBytes: x.InBytes, OutBytes: x.OutBytes, Lost: sum(x.Lost), Missing: x.Missing, Reason: why.Words(),
		Code: string(why.Code), With: journal.Params(why),
	}, !people.IsTester(x.User)
}

// Past lists sessions that ended, the newest first; of one user, if a name is given.
func (s *Service) Past(ctx context.Context, user string, limit int) ([]PastSession, error) {
	records, err := s.Store.PastSessions(ctx, user, limit)
	out := []PastSession{}
	for _, r := range records {
		over := "UDP"
		if r.TCP {
			over = "TCP"
		}
		out = append(out, PastSession{
			r.Gateway, r.User, r.Passage, r.Addresses, r.From, over, r.Since, r.Until, r.InBytes, r.OutBytes, r.Lost,
			r.Missing, journal.Reason(r.Code, r.With), r.Reason,
		})
	}
	return out, err
}

func addressWords(as []netip.Addr) string {
	words := make([]string, len(as))
	for i, a := range as {
		words[i] = a.String()
	}
	return strings.Join(words, ", ")
}
