package httpapi

import (
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/core/reason"
)

// quiet are calls that change nothing that anybody goes by, though they are no mere reading: drafts that are typed, and what is computed.
var quiet = []string{
	"save-draft", "change-draft", "rebase-draft", "check", "read", "uses", "depends", "edit", "begin", "diagnose", "add-probe", "sign-out",
}

// changed writes into the journal what somebody did by a call: who, from where, by what, and about what. What came of it, where that is
// more, is told by whoever did it.
func (s *Server) changed(ctx huma.Context) {
	op := ctx.Operation()
	who := actor.Of(ctx.Context())
	if op.Method == http.MethodGet || ctx.Status() >= 300 || slices.Contains(quiet, op.OperationID) || who.Name == "" {
		return
	}
	var about []string
	for _, part := range strings.Split(op.Path, "/") {
		if name, ok := strings.CutPrefix(part, "{"); ok {
			about = append(about, ctx.Param(strings.TrimSuffix(name, "}")))
		}
	}
	user := ""
	if strings.Contains(op.Path, "/users/{name}") {
		user = ctx.Param("name")
	}
	s.App.Journal.Tell(reason.Of(reason.Changed, reason.With{
		reason.Administrator: who.Name, reason.Way: who.By, reason.Source: who.From.String(), reason.Change: op.Summary,
		reason.What: strings.Join(about, ", "),
	}), user)
}
