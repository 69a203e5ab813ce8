package httpapi

import (
	"context"
	"time"

	"yellowlantern/internal/app/commits"
	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/app/running"
	"yellowlantern/internal/app/trials"
)

type commitRequest struct {
	Message string             `json:"message" maxLength:"500"`
	Version int                `json:"version,omitempty" minimum:"0" doc:"The draft's version that was reviewed; 0: whatever it is now."`
	For     int                `json:"for,omitempty" minimum:"0" maximum:"604800" doc:"Seconds after which it goes back by itself unless it is kept; 0: it stays."`
	Try     *roundRequest      `json:"try,omitempty" doc:"Try it by a round right after; it goes back by itself if an expectation fails that held before."`
	Partial bool               `json:"allow-partial-trial,omitempty" doc:"With try: also where the trial cannot judge all that the change touches (unjudged of the review); the revision keeps that."`
	Accept  []plans.Acceptance `json:"accept,omitempty" nullable:"false" doc:"Warnings that are accepted, each with a reason."`
}

func (s *Server) commitRoutes() {
	c := s.App.Commits
	register(s, "POST", "/drafts/{name}/commit", "commit-draft", "Make the draft the newest revision, which runs at once", func(ctx context.Context, in *struct {
		Named
		Body commitRequest
	},
	) (*body[commits.Committed], error) {
		out, err := c.Commit(ctx, in.Name, commits.Request{
			Message: in.Body.Message, Version: in.Body.Version, For: time.Duration(in.Body.For) * time.Second,
			Try: (*trials.Request)(in.Body.Try), Partial: in.Body.Partial, Accept: in.Body.Accept,
		})
		out.Review.Checked = out.Review.Checked.Listed()
		return answered(out, err)
	})
	register(s, "GET", "/drafts/{name}/approvals", "approvals", "Who approved the draft as it is, and whether that is demanded", func(ctx context.Context, in *Named) (*body[commits.Approvals], error) {
		return answered(c.Approvals(ctx, in.Name))
	})
	register(s, "POST", "/drafts/{name}/approvals", "approve-draft", "Approve the draft as it is", func(ctx context.Context, in *struct {
		Named
		Body struct {
			Version int `json:"version,omitempty" minimum:"0" doc:"The draft's that was looked at; whatever it is now if not given."`
		}
	},
	) (*body[commits.Approvals], error) {
		return answered(c.Approve(ctx, in.Name, in.Body.Version))
	})
	register(s, "GET", "/trial", "trial", "The revision that goes back by itself unless it is kept", func(ctx context.Context, _ *struct{}) (*body[commits.Trial], error) {
		return answered(c.Trial(ctx))
	})
	register(s, "POST", "/revisions/{number}/keep", "keep-revision", "Keep a revision that is on trial", func(ctx context.Context, in *struct {
		Number int `path:"number" minimum:"0" doc:"0: the newest."`
	},
	) (*body[plans.Revision], error) {
		return answered(c.Keep(ctx, in.Number))
	})
	register(s, "GET", "/status", "status", "What runs, and what the gateway has counted", func(context.Context, *struct{}) (*body[running.Status], error) {
		return answer(s.App.Running.Status()), nil
	})
}
