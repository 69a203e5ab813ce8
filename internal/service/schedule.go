package service

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

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

func (s *Service) scheduleRoutes() {
	register(s, "GET", "/schedule", "schedule", "When everybody is tried by itself", func(ctx context.Context, _ *struct{}) (*body[Schedule], error) {
		c, err := s.Store.Schedule(ctx)
		if err != nil {
			return nil, err
		}
		return answer(s.scheduled(ctx, c)), nil
	})
	register(s, "PUT", "/schedule", "set-schedule", "Say when everybody is tried by itself", func(ctx context.Context, in *struct{ Body Schedule }) (*body[Schedule], error) {
		every := time.Duration(in.Body.Every) * time.Second
		if every != 0 && (every < oftenest || every > rarest) {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("every %s will not do: give %s to %s, or 0 for never", every, oftenest,
				rarest))
		}
		if _, err := s.vantagesFor(in.Body.Vantages); err != nil {
			return nil, err
		}
		c := store.Schedule{Every: every, Vantages: strings.Join(in.Body.Vantages, " "), By: administrator(ctx)}
		if err := s.Store.SetSchedule(ctx, c); err != nil {
			return nil, err
		}
		return answer(s.scheduled(ctx, c)), nil
	})
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

// keepTrying makes a round where one is due. One that is under way, or a plan that is not there yet, is no error.
func (s *Service) keepTrying(ctx context.Context, now time.Time) {
	c, err := s.Store.Schedule(ctx)
	if err != nil || c.Every == 0 || now.Before(s.nextRound(ctx, c)) {
		return
	}
	if _, _, err := s.startRound(ctx, "the schedule of "+c.By, roundRequest{Vantages: strings.Fields(c.Vantages)}); err != nil {
		s.Log.Debug("no round was made", "error", err)
	}
}
