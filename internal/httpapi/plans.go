package httpapi

import (
	"context"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/compiled"
	"yellowlantern/internal/app/computing"
	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/begin"
	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/outline"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
)

type edited struct {
	Text string `json:"text"`
}

func (s *Server) planRoutes() {
	p := s.App.Plans
	register(s, "GET", "/revisions", "list-revisions", "All revisions, newest first", func(ctx context.Context, _ *struct{}) (*body[[]plans.Revision], error) {
		return answered(p.Revisions(ctx))
	})
	register(s, "GET", "/revisions/{number}", "show-revision", "One revision; 0 is the newest", func(ctx context.Context, in *struct {
		Number int `path:"number" minimum:"0"`
	},
	) (*body[plans.Revision], error) {
		r, err := p.Revision(ctx, in.Number)
		if err != nil {
			return nil, err
		}
		return answer(plans.RevisionOf(r)), nil
	})
	register(s, "GET", "/difference", "difference", "What turns one plan into another", func(ctx context.Context, in *struct {
		From  int    `query:"from" doc:"Revision; 0: the newest." minimum:"0"`
		To    int    `query:"to" doc:"Revision; 0: the newest." minimum:"0"`
		Draft string `query:"draft" doc:"In place of to: a draft."`
	},
	) (*body[plans.Difference], error) {
		return answered(p.Difference(ctx, in.From, in.To, in.Draft))
	})
	register(s, "GET", "/machine", "preview-machine", "Routes, settings and rules that a plan would make on the gateway's machine, and how they differ from what is there", func(ctx context.Context, in *struct {
		Draft string `query:"draft" doc:"A draft; none: the newest revision."`
	},
	) (*body[inside.Preview], error) {
		return answered(p.Machine(ctx, in.Draft))
	})
	register(s, "POST", "/check", "check", "Check a document without keeping it", func(ctx context.Context, in *struct{ Body texted }) (*body[plans.Checked], error) {
		c, err := p.Check(ctx, in.Body.Text)
		return answered(c.Listed(), err)
	})
	register(s, "POST", "/begin", "begin", "Propose a first plan from the things that cannot be guessed", func(_ context.Context, in *struct{ Body begin.Answers }) (*body[begin.Proposal], error) {
		out, err := begin.Plan(in.Body)
		if err != nil {
			return nil, refusal.Mistaken(err)
		}
		return answer(*out), nil
	})
	register(s, "POST", "/edit", "edit", "Make edits in a document without keeping it; comments and layout around them stay", func(_ context.Context, in *struct {
		Body struct {
			Text  string      `json:"text" lines:"many"`
			Edits []plan.Edit `json:"edits" nullable:"false" maxItems:"500"`
		}
	},
	) (*body[edited], error) {
		text, err := plans.Edit(in.Body.Text, in.Body.Edits)
		return answered(edited{text}, err)
	})
	s.draftRoutes()
	register(s, "GET", "/forms", "forms", "What the objects of a plan are made of, for drawing forms", func(context.Context, *struct{}) (*body[[]plan.Form], error) {
		return answer(plan.Forms()), nil
	})
	register(s, "GET", "/steps", "steps", "The steps in which the work is done, with what is settled in each", func(context.Context, *struct{}) (*body[[]outline.Step], error) {
		return answer(outline.Steps()), nil
	})
	register(s, "POST", "/read", "read", "Read a document into its objects without keeping it", func(_ context.Context, in *struct{ Body texted }) (*body[plans.Reading], error) {
		return answered(p.Read(in.Body.Text))
	})
	register(s, "POST", "/uses", "uses", "What names an object of a document", func(_ context.Context, in *struct {
		Body struct {
			Text   string `json:"text" lines:"many"`
			Object string `json:"object" doc:"Such as hosts/records."`
		}
	},
	) (*body[[]string], error) {
		return answered(p.Uses(in.Body.Text, in.Body.Object))
	})
	register(s, "GET", "/plan/size", "plan-size", "How large a plan is for whoever works it out, and what that will take, before it is", func(ctx context.Context, in *Drafted) (*body[compiled.Size], error) {
		return answered(p.Size(ctx, in.Draft))
	})
	register(s, "GET", "/computing", "list-computing", "What is being worked out just now, how far it is, and who waits for it", func(ctx context.Context, _ *struct{}) (*body[[]computing.Task], error) {
		return answer(p.Desk().Tasks(ctx)), nil
	})
	register(s, "DELETE", "/computing/{id}", "stop-computing", "End what is being worked out; who waits for it is told", func(ctx context.Context, in *struct {
		ID int `path:"id" doc:"Its number, as it is listed."`
	},
	) (*struct{}, error) {
		return nil, p.Desk().Stop(in.ID, actor.Name(ctx))
	})
	register(s, "GET", "/surplus", "surplus", "What people reach that no expectation asks for", func(ctx context.Context, in *Drafted) (*body[plans.SurplusAnswer], error) {
		return answered(p.Surplus(ctx, in.Draft))
	})
	register(s, "GET", "/depends", "dependences", "What depends on each rule, NAT entry and route; what nothing depends on", func(ctx context.Context, in *struct {
		Drafted
		Filter string `query:"filter" doc:"Only settings with this text."`
	},
	) (*body[[]reach.Dependence], error) {
		return answered(p.Dependences(ctx, in.Draft, in.Filter))
	})
	register(s, "POST", "/depends", "depends", "Which reach and which expectations depend on a setting of a document", func(ctx context.Context, in *struct {
		Body struct {
			Text    string `json:"text" lines:"many"`
			Setting string `json:"setting" doc:"An object, item or field, such as rules/archive."`
		}
	},
	) (*body[plans.Depends], error) {
		return answered(p.Depends(ctx, in.Body.Text, in.Body.Setting))
	})
	register(s, "GET", "/next", "next", "What is left until the first person is in and tried; nothing once that is done", func(ctx context.Context, _ *struct{}) (*body[[]plans.Next], error) {
		return answered(p.Next(ctx))
	})
}

func (s *Server) draftRoutes() {
	p := s.App.Plans
	register(s, "GET", "/drafts", "list-drafts", "All drafts", func(ctx context.Context, _ *struct{}) (*body[[]plans.Draft], error) {
		return answered(p.Drafts(ctx))
	})
	register(s, "GET", "/drafts/{name}", "show-draft", "One draft", func(ctx context.Context, in *Named) (*body[plans.Draft], error) {
		return answered(p.Draft(ctx, in.Name))
	})
	register(s, "PUT", "/drafts/{name}", "save-draft", "Write a draft", func(ctx context.Context, in *struct {
		Named
		Body struct {
			Text    string `json:"text" lines:"many"`
			Version int    `json:"version" minimum:"0" doc:"The version that the change was made on; 0: the draft is new."`
		}
	},
	) (*body[plans.Draft], error) {
		return answered(p.Save(ctx, in.Name, in.Body.Text, in.Body.Version))
	})
	register(s, "POST", "/drafts/{name}/change", "change-draft", "Edit a draft in one call: version and edits in; text, findings, objects and version out", func(ctx context.Context, in *struct {
		Named
		Body plans.Change
	},
	) (*body[plans.Changed], error) {
		out, err := p.Change(ctx, in.Name, in.Body)
		out.Checked = out.Checked.Listed()
		return answered(out, err)
	})
	register(s, "DELETE", "/drafts/{name}", "delete-draft", "Forget a draft", func(ctx context.Context, in *Named) (*struct{}, error) {
		return nil, p.Remove(ctx, in.Name)
	})
	register(s, "POST", "/drafts/{name}/rebase", "rebase-draft", "Bring a draft onto the newest revision", func(ctx context.Context, in *struct {
		Named
		Body *struct {
			Take []string `json:"take,omitempty" nullable:"false" maxItems:"1000" doc:"Whose lines are to stand, for each conflict in turn: ours (the draft's) or theirs (what was committed)."`
		}
	},
	) (*body[plans.Rebased], error) {
		var take []string
		if in.Body != nil {
			take = in.Body.Take
		}
		return answered(p.Rebase(ctx, in.Name, take...))
	})
	register(s, "GET", "/drafts/{name}/review", "review-draft", "Findings, and what a commit would do", func(ctx context.Context, in *Named) (*body[plans.Review], error) {
		out, err := p.Review(ctx, in.Name)
		out.Checked = out.Checked.Listed()
		return answered(out, err)
	})
}
