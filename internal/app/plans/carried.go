package plans

import (
	"cmp"
	"slices"
	"strings"

	"yellowlantern/internal/core/check"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/store"
)

// carried are the warnings that were accepted with a revision and of which nothing changed since: neither what is found in words, nor any
// setting of the object that it is about. They need not be accepted again.
func carried(findings []check.Finding, before store.Revision, changes []plan.Change) []Acceptance {
	accepted := map[string]Acceptance{}
	for _, a := range RevisionOf(before).Accepted {
		accepted[a.Finding] = a
	}
	out := []Acceptance{}
	for _, f := range findings {
		a, was := accepted[f.ID()]
		touched := slices.ContainsFunc(changes, func(c plan.Change) bool { return objectOf(c.Path) == objectOf(f.Path) })
		if f.Severity != check.Warn || !was || a.Problem != f.Problem || touched {
			continue
		}
		a.Revision = cmp.Or(a.Revision, before.Number)
		out = append(out, a)
	}
	return out
}

// objectOf is the object that a setting belongs to, such as rules/records-web.
func objectOf(path string) string {
	parts := strings.SplitN(path, "/", 3)
	return strings.Join(parts[:min(len(parts), 2)], "/")
}
