package commits

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"
	"time"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/store"
)

// Approvals are who approved a draft as it is, and whether the newest revision demands that somebody does.
type Approvals struct {
	Demanded bool     `json:"demanded" doc:"The newest revision demands that another administrator approves what is committed."`
	By       []string `json:"by" nullable:"false" doc:"Who approved the draft as it is now."`
}

// digestOf stands for a text and for what it is to take the place of.
func digestOf(d store.Draft) string {
	sum := sha256.Sum256(fmt.Appendf(nil, "%d\x00%s", d.Base, d.Text))
	return hex.EncodeToString(sum[:])
}

// Approvals tells it of a draft.
func (s *Service) Approvals(ctx context.Context, name string) (out Approvals, err error) {
	d, err := s.Store.Draft(ctx, name)
	if err != nil {
		return out, refusal.Known(err, "draft", name)
	}
	return s.approvals(ctx, d)
}

func (s *Service) approvals(ctx context.Context, d store.Draft) (Approvals, error) {
	out := Approvals{By: []string{}}
	if newest, err := s.Store.Newest(ctx); err == nil {
		if doc, err := plan.Read(newest.Text); err == nil {
			out.Demanded = doc.Plan.Approve
		}
	}
	all, err := s.Store.Approvals(ctx, digestOf(d))
	for _, a := range all {
		out.By = append(out.By, a.By)
	}
	return out, err
}

// Approve approves a draft as it is: another text needs another approval. version is the draft's that was looked at; 0: whatever it is now.
func (s *Service) Approve(ctx context.Context, name string, version int) (Approvals, error) {
	d, _, err := s.ready(ctx, name, version)
	if err != nil {
		return Approvals{}, err
	}
	if err := s.Store.AddApproval(ctx, store.Approval{Digest: digestOf(d), By: actor.Name(ctx), At: time.Now()}); err != nil {
		return Approvals{}, err
	}
	return s.approvals(ctx, d)
}

// approved tells why a draft may not be committed by who asks: the newest revision demands that another administrator has approved it, and
// who did is one still.
func (s *Service) approved(ctx context.Context, d store.Draft) error {
	a, err := s.approvals(ctx, d)
	if err != nil || !a.Demanded {
		return err
	}
	for _, by := range a.By {
		if who, gone := s.Store.Administrator(ctx, by); by != actor.Name(ctx) && gone == nil && who.Role == store.WholeRole {
			return nil
		}
	}
	words := "nobody has"
	if len(a.By) > 0 {
		words = strings.Join(a.By, ", ") + " has, who must be another than commits"
	}
	return &refusal.Error{Sort: refusal.Denied, Words: fmt.Sprintf(
		"the plan that runs demands that another administrator approves draft %s as it is (yl plan approve --draft %s): %s", d.Name, d.Name, words)}
}
