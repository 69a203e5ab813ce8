package httpapi

import (
	"context"
	"strings"
	"time"

	"yellowlantern/internal/app/sources"
	"yellowlantern/internal/app/whois"
)

func (s *Server) sourceRoutes() {
	register(s, "POST", "/sources/{name}/trial", "try-source", "Try a source of people: server, certificate, account, this person, their groups and passage", func(ctx context.Context, in *struct {
		Named
		Drafted
		Body struct {
			User     string `json:"user" maxLength:"256" doc:"Who is to be looked for."`
			Password string `json:"password,omitempty" maxLength:"256" doc:"Tries their login too."`
			Secret   string `json:"secret,omitempty" maxLength:"512" doc:"What the service proves itself with there, given again: the one that is kept is sent to no other servers than it was stored for."`
		}
	},
	) (*body[sources.SourceTrial], error) {
		return answered(s.App.Sources.Try(ctx, sources.Trial{
			Source: in.Name, Draft: in.Draft, User: in.Body.User, Password: in.Body.Password, Secret: in.Body.Secret,
		}))
	})
}

// EveryPerson is somebody who may come in, wherever they are kept.
type EveryPerson struct {
	User   string    `json:"user"`
	Name   string    `json:"full-name,omitempty"`
	Source string    `json:"source"`
	Groups []string  `json:"groups" nullable:"false"`
	Last   time.Time `json:"last,omitzero" doc:"Newest login, of people of sources."`
	Gone   bool      `json:"gone,omitempty" doc:"Their source says that they may not come in."`
}

func (s *Server) whoisRoutes() {
	register(s, "GET", "/people/{name}/explanation", "explain-person", "What a gateway makes of somebody: source, groups, passage and why not another, reach, what keeps them out", func(ctx context.Context, in *struct {
		Name string `path:"name" maxLength:"256"`
	},
	) (*body[whois.ExplainedPerson], error) {
		return answered(s.App.Whois.Explain(ctx, in.Name))
	})
	register(s, "GET", "/people-odd", "odd-people", "People who match no passage, and groups that nobody is in or that no passage admits", func(ctx context.Context, _ *struct{}) (*body[whois.OddPeople], error) {
		return answered(s.App.Whois.All(ctx))
	})
	register(s, "DELETE", "/people-elsewhere/{name}", "forget-person", "Forget somebody of a source, with their second factors and keys here, so that the name is free", func(ctx context.Context, in *struct {
		Name string `path:"name" maxLength:"256"`
	},
	) (*struct{}, error) {
		return nil, s.App.Members.Forget(ctx, in.Name)
	})
	register(s, "GET", "/people-elsewhere", "people-elsewhere", "People of the plan's sources who logged in lately", func(ctx context.Context, in *struct {
		Filter string `query:"filter" maxLength:"128" doc:"Part of a name, source or group."`
	},
	) (*body[[]EveryPerson], error) {
		all, err := s.App.Members.People.Elsewhere(ctx)
		out := []EveryPerson{}
		for _, x := range all {
			if strings.Contains(strings.ToLower(x.Name+" "+x.FullName+" "+x.Source+" "+x.Groups), strings.ToLower(in.Filter)) {
				out = append(out, EveryPerson{x.Name, x.FullName, x.Source, append([]string{}, strings.Fields(x.Groups)...), x.At, x.Gone})
			}
		}
		return answered(out, err)
	})
}
