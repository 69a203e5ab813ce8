package trials

import (
	"context"
	"fmt"
	"strings"
	"time"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/store"
)

// Bounds of how often everybody is tried by itself.
const (
	oftenest = 5 * time.Minute
	rarest   = 168 * time.Hour
)

// Schedule is when rounds are made by themselves.
type Schedule struct {
	Every    int       `json:"every" minimum:"0" maximum:"604800" doc:"Seconds from one to the next, 300 to 604800; 0: never."`
	Vantages []string  `json:"vantages,omitempty" nullable:"false" doc:"From where; every: from everywhere."`
	Next     time.Time `json:"next,omitzero" readOnly:"true"`
}

// Schedule is when everybody is tried by itself.
func (s *Service) Schedule(ctx context.Context) (Schedule, error) {
	c, err := s.Store.Schedule(ctx)
	if err != nil {
		return Schedule{}, err
	}
	return s.scheduled(ctx, c), nil
}

// SetSchedule says when everybody is tried by itself.
func (s *Service) SetSchedule(ctx context.Context, want Schedule) (Schedule, error) {
	every := time.Duration(want.Every) * time.Second
	if every != 0 && (every < oftenest || every > rarest) {
		return Schedule{}, refusal.Invalid(fmt.Sprintf("every %s will not do: give %s to %s, or 0 for never", every, oftenest, rarest))
	}
	if _, err := s.VantagesFor(ctx, want.Vantages); err != nil {
		return Schedule{}, err
	}
	c := store.Schedule{Every: every, Vantages: strings.Join(want.Vantages, " "), By: actor.Name(ctx)}
	if err := s.Store.SetSchedule(ctx, c); err != nil {
		return Schedule{}, err
	}
	return s.scheduled(ctx, c), nil
}

func (s *Service) scheduled(ctx context.Context, c store.Schedule) Schedule {
	out := Schedule{Every: int(c.Every.Seconds()), Vantages: strings.Fields(c.Vantages)}
	if c.Every > 0 {
		out.Next = s.nextRound(ctx, c)
	}
	return out
}

// nextRound is when the next one is due: now, if there was none yet.
func (s *Service) nextRound(ctx context.Context, c store.Schedule) time.Time {
	if rounds, err := s.Store.Rounds(ctx, 1); err == nil && len(rounds) > 0 {
		return rounds[0].At.Add(c.Every)
	}
	return time.Now().UTC()
}

// WhenDue makes a round where one is due. One that is under way, or a plan that is not there yet, is no error.
func (s *Service) WhenDue(ctx context.Context, now time.Time) {
	c, err := s.Store.Schedule(ctx)
	if err != nil || c.Every == 0 || now.Before(s.nextRound(ctx, c)) {
		return
	}
	if _, _, err := s.start(ctx, "the schedule of "+c.By, Request{Vantages: strings.Fields(c.Vantages)}); err != nil {
		s.Log.Debug("no round was made", "error", err)
	}
}
