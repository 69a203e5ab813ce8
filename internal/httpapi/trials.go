package httpapi

import (
	"context"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/trials"
	"yellowlantern/internal/enrolled"
	"yellowlantern/internal/probe"
)

type roundRequest struct {
	Vantages []string `json:"vantages,omitempty" nullable:"false" doc:"Where to try from; none: the first that there is."`
	Classes  []string `json:"classes,omitempty" nullable:"false" doc:"Only classes of people with this name; none: all."`
}

func (s *Server) trialRoutes() {
	t := s.App.Trials
	register(s, "GET", "/probes/order", "probe-order", "What a probe is to try for a user", func(ctx context.Context, in *struct {
		User  string `query:"user" required:"true"`
		Group string `query:"group" doc:"A group of theirs, where they are somebody of a source that judges logins alone, and were not here yet."`
	},
	) (*body[probe.Order], error) {
		return answered(t.Order(ctx, in.User, in.Group))
	})
	register(s, "POST", "/users/{name}/probe-kit", "make-probe-kit", "A signed file by which a machine without access to the service probes, and connects, as a user", func(ctx context.Context, in *struct {
		Named
		Group string `query:"group" doc:"A group of theirs, where they are somebody of a source that judges logins alone, and were not here yet."`
	},
	) (*body[trials.ProbeKit], error) {
		return answered(s.App.Handover.MakeOwn(ctx, in.Name, in.Group))
	})
	register(s, "GET", "/probes", "list-probes", "The newest probe reports", func(ctx context.Context, in *struct {
		Limit int `query:"limit" default:"20" minimum:"1" maximum:"200"`
	},
	) (*body[[]probe.Report], error) {
		return answered(t.Reports(ctx, in.Limit))
	})
	register(s, "POST", "/probes", "add-probe", "Hand in a probe report", func(ctx context.Context, in *struct {
		Body probe.Report `lines:"many"`
	},
	) (*struct{}, error) {
		return nil, t.HandIn(ctx, in.Body)
	})
	register(s, "GET", "/vantages", "list-vantages", "Places that a probe can try from", func(ctx context.Context, _ *struct{}) (*body[[]trials.Vantage], error) {
		return answered(t.Places(ctx))
	})
	register(s, "GET", "/probes/enrolled", "list-enrolled-probes", "Machines elsewhere that try when they are asked to, and such that are invited", func(ctx context.Context, _ *struct{}) (*body[[]trials.EnrolledProbe], error) {
		return answered(t.Enrolled(ctx))
	})
	register(s, "POST", "/probes/enrolled/{name}", "invite-probe", "An invitation by which one machine becomes a probe, for a day", func(ctx context.Context, in *struct{ Named }) (*body[enrolled.Invitation], error) {
		return answered(t.Invite(ctx, in.Name))
	})
	register(s, "DELETE", "/probes/enrolled/{name}", "revoke-probe", "Forget an enrolled probe, or an invitation: nothing that it says counts any longer", func(ctx context.Context, in *struct{ Named }) (*struct{}, error) {
		return nil, t.Revoke(ctx, in.Name)
	})
	register(s, "POST", "/probes/enrol", "enrol-probe", "A machine becomes a probe, by an invitation; it needs no account", func(ctx context.Context, in *struct{ Body enrolled.Enrolment }) (*struct{}, error) {
		return nil, t.Enrol(ctx, in.Body)
	})
	register(s, "POST", "/probes/calls", "call-of-probe", "An enrolled probe brings a report, or waits for what to try; it proves itself by its key", func(ctx context.Context, in *struct{ Body enrolled.Call }) (*body[enrolled.Answer], error) {
		return answered(t.Call(ctx, in.Body))
	})
	register(s, "POST", "/rounds", "start-round", "Try every class of people from vantages; it goes on by itself", func(ctx context.Context, in *struct{ Body roundRequest }) (*body[trials.Round], error) {
		r, _, err := t.Start(ctx, actor.Name(ctx), trials.Request(in.Body))
		return answered(r, err)
	})
	register(s, "GET", "/rounds", "list-rounds", "The newest rounds, newest first", func(ctx context.Context, in *struct {
		Limit int `query:"limit" default:"20" minimum:"1" maximum:"500"`
	},
	) (*body[[]trials.Round], error) {
		return answered(t.Rounds(ctx, in.Limit))
	})
	register(s, "GET", "/rounds/{id}", "round", "One round with what was seen; 0: the newest", func(ctx context.Context, in *struct {
		ID uint `path:"id"`
	},
	) (*body[trials.Round], error) {
		return answered(t.Round(ctx, in.ID))
	})
	register(s, "GET", "/schedule", "schedule", "When everybody is tried by itself", func(ctx context.Context, _ *struct{}) (*body[trials.Schedule], error) {
		return answered(t.Schedule(ctx))
	})
	register(s, "PUT", "/schedule", "set-schedule", "Say when everybody is tried by itself", func(ctx context.Context, in *struct{ Body trials.Schedule }) (*body[trials.Schedule], error) {
		return answered(t.SetSchedule(ctx, in.Body))
	})
}
