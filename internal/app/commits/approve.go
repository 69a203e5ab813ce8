package commits

import (
	"context"
	"fmt"
	"strings"
	"time"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/store"
)

// Approvals are who approved a draft as it is, and whether the newest revision demands that somebody does.
type Approvals struct {
	Demanded bool     `json:"demanded" doc:"The newest revision demands that another administrator approves what is committed."`
	By       []string `json:"by" nullable:"false" doc:"Who approved the draft as it is now."`
}

// Approvals tells it of a draft.
func (s *Service) Approvals(ctx context.Context, name string) (out Approvals, err error) {
	d, err := s.Store.Draft(ctx, name)
	if err != nil {
		return out, refusal.Known(err, "draft", name)
	}
	return s.approvals(ctx, d)
}

// Demanded tells whether the newest revision demands that another administrator approves what changes who may do what.
func (s *Service) Demanded(ctx context.Context) bool {
	newest, err := s.Store.Newest(ctx)
	if err != nil {
		return false
	}
	w, err := s.Plans.Wholes.Of(newest.Text) // which was read already
	return err == nil && w.Doc.Plan.Approve
}

func (s *Service) approvals(ctx context.Context, d store.Draft) (Approvals, error) {
	out := Approvals{Demanded: s.Demanded(ctx), By: []string{}}
	all, err := s.Store.Approvals(ctx, plans.Digest(d))
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
	if err := s.Store.AddApproval(ctx, store.Approval{Digest: plans.Digest(d), By: actor.Name(ctx), At: time.Now()}); err != nil {
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
	if yes, err := s.Plans.ApprovedByAnother(ctx, d); yes || err != nil {
		return err
	}
	words, err := s.noOther(ctx, d)
	if err != nil {
		return err
	}
	return &refusal.Error{Sort: refusal.Denied, Words: fmt.Sprintf(
		"the plan that runs demands that another administrator approves draft %s as it is (yl plan approve --draft %s): %s", d.Name, d.Name, words)}
}

// noOther says of each approval of a draft why it is not another administrator's.
func (s *Service) noOther(ctx context.Context, d store.Draft) (string, error) {
	all, err := s.Store.Approvals(ctx, plans.Digest(d))
	if len(all) == 0 {
		return "nobody has", err
	}
	var words []string
	for _, a := range all {
		why, err := s.Plans.NoOther(ctx, a)
		if err != nil {
			return "", err
		}
		words = append(words, a.By+" has, "+why)
	}
	return strings.Join(words, "; "), nil
}
