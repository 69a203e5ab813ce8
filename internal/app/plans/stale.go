package plans

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"time"

	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/store"
)

const mostChanges = 20 // that an answer tells

// changed refuses what was made on an older version, and tells what changed since: each setting with its values before and after.
func (s *Service) changed(why reason.Reason, before, after string) error {
	var details []refusal.Detail
	old, errOld := s.Wholes.Read(before)
	now, errNow := s.Wholes.Read(after)
	if errOld == nil && errNow == nil {
		changes := plan.Difference(old.Plan, now.Plan)
		for i, c := range changes {
			if i == mostChanges {
				details = append(details, refusal.Detail{Place: "body", Words: fmt.Sprintf("and %d more", len(changes)-i)})
				break
			}
			details = append(details, refusal.Detail{Place: c.Path, Words: c.String()})
		}
	}
	return refusal.Because(refusal.Clashes, why, details...)
}

// staleDraft tells by what the draft differs from what was sent on an older version of it.
func (s *Service) staleDraft(ctx context.Context, name, sent string) error {
	d, err := s.Store.Draft(ctx, name)
	if err != nil {
		return refusal.Known(store.ErrStale, "draft", name)
	}
	return s.changed(reason.Of(reason.DraftChanged, reason.With{
		reason.Name: name, reason.Count: strconv.Itoa(d.Version), reason.When: d.At.Format(time.DateTime),
	}), sent, d.Text)
}

// Behind tells what was committed after a draft was begun.
func (s *Service) Behind(ctx context.Context, d store.Draft, newest store.Revision) error {
	base, err := s.Store.Revision(ctx, d.Base)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	return s.changed(reason.Of(reason.DraftBehind, reason.With{
		reason.Revision: strconv.Itoa(newest.Number), reason.Who: newest.Author, reason.Message: newest.Message,
		reason.Back: strconv.Itoa(d.Base), reason.Name: d.Name,
	}), base.Text, newest.Text)
}
