// Package proofs says what is known of a plan: its expectations held against computed reach, the board, one packet's journey, and the
// verdict on what runs with what trials saw of it.
package proofs

import (
	"context"
	"net/netip"

	"yellowlantern/internal/app/computing"
	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/app/running"
	"yellowlantern/internal/app/trials"
	"yellowlantern/internal/core/forward"
	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/store"
)

// Gateway is what is running, as far as it is asked about.
type Gateway interface {
	Sessions() []gateway.Session
	Flows(user string, peer netip.Addr, service string, most int) []forward.Flow
	// Lookup is where the gateway's machine would send a packet; nil where it has no kernel that routes.
	Lookup(dst netip.Addr) *inside.Looked
}

// Service says it.
type Service struct {
	Store   *store.Store
	Plans   *plans.Service
	Trials  *trials.Service
	Running *running.Service
	Gateway Gateway

	verdicts computing.Shared[judged, Verdict]
}

// Proof is the expectations held against computed reach.
type Proof struct {
	reach.Proof
	Revision int `json:"revision" doc:"0: a draft."`
}

// Board is the reach board with what probes saw last.
type Board struct {
	reach.Board
	Revision     int     `json:"revision"`
	Verdict      Verdict `json:"verdict" doc:"On the whole revision: the same that yl validate and the printed report have."`
	TotalRows    int     `json:"total-rows" doc:"Rows that match, shown or not."`
	TotalColumns int     `json:"total-columns" doc:"Columns that match, shown or not."`
	TotalInward  int     `json:"total-inward" doc:"Rows of what is opened from inside that match, shown or not."`
	Unfinished   bool    `json:"unfinished,omitempty" doc:"The rest is being computed: verdict, troubles and what is opened from inside are not known yet."`
	Troubles     int     `json:"troubles" doc:"Cells of the whole board that are not as they should be."`
	Tried        [][]Try `json:"tried" nullable:"false" doc:"For each row and destination, what the newest probe of somebody of the class saw."`
}

// Proof holds the expectations of the newest revision, or of a draft, against computed reach.
func (s *Service) Proof(ctx context.Context, draft string) (Proof, error) {
	known, number, err := s.Plans.Known(ctx, draft)
	if err != nil {
		return Proof{}, err
	}
	return Proof{known.Proof, number}, nil
}
