// Package outline lays a plan out for whoever looks at it or edits it: the steps in which the work is done, its objects as lists with the
// columns that matter, and the picture of the site. It says what is shown; how that is drawn is the console's business.
package outline

import (
	"path"
	"slices"
	"strings"

	"yellowlantern/internal/core/plan"
)

// Step is one step of the work.
type Step struct {
	ID    string   `json:"id"`
	Title string   `json:"title"`
	About string   `json:"about"`
	Kinds []string `json:"kinds" nullable:"false" doc:"The objects that are settled in it."`
	// Owns are settings of objects of other steps.
	Owns  []string     `json:"owns" nullable:"false" doc:"Settings that belong to it though their object belongs to another one; * is any one word, and what is below one belongs to it as well."`
	Whole []plan.Field `json:"whole" nullable:"false" doc:"Settings of the whole plan that belong to it."`
}

var steps = []Step{
	{
		ID: "site", Title: "Site", About: "Where the gateway stands, and what is behind it.",
		Kinds: []string{"gateways", "networks", "routers", "zones", "hosts", "host-groups", "services"}, Whole: whole("name"),
	},
	{
		ID: "trust", Title: "Trust", About: "By what people’s devices know the gateway, and whose certificates it takes of people.",
		Kinds: []string{"authorities"}, Whole: whole("kits-at", "kits-certificate"),
		Owns: []string{"kits-at", "kits-certificate", "tunnels/*/certificate", "tunnels/*/authorities", "gateways/*/outside/update/key"},
	},
	{
		ID: "people", Title: "People", About: "Which groups there are, where people are kept, when they may come, and what else asks about them.", Kinds: []string{"groups", "sources", "hours", "equipment", "administrators"},
		Owns:  []string{"passages/*/groups", "time-zone", "equipment-at", "equipment-port", "last-resort", "alarm-to"},
		Whole: whole("time-zone", "equipment-at", "equipment-port", "last-resort", "alarm-to"),
	},
	{ID: "addresses", Title: "Addresses", About: "What people’s devices are given.", Kinds: []string{"pools"}},
	{ID: "tunnels", Title: "Tunnels", About: "The ways in.", Kinds: []string{"tunnels"}},
	{
		ID: "passages", Title: "Passages", Kinds: []string{"passages"},
		About: "Who comes in how: tunnel, addresses, names, routes, limits. The first that admits a person takes them.",
	},
	{ID: "nat", Title: "NAT", About: "What is translated on its way, and what is not. The first that matches decides.", Kinds: []string{"nat"}},
	{ID: "rules", Title: "Rules", About: "What people may use. A refusal wins; nothing else is allowed.", Kinds: []string{"rules"}},
	{
		ID: "expectations", Title: "Expectations", Kinds: []string{"expectations"},
		About: "Who must reach what, and who must not: proved at every change, and tried.",
	},
}

func whole(names ...string) (out []plan.Field) {
	for _, f := range plan.Fields() {
		if slices.Contains(names, f.Name) {
			out = append(out, f)
		}
	}
	return out
}

// Steps are the steps in the order in which the work is done.
func Steps() []Step {
	out := make([]Step, len(steps))
	for i, s := range steps {
		s.Kinds, s.Owns = append([]string{}, s.Kinds...), append([]string{}, s.Owns...)
		s.Whole = append([]plan.Field{}, s.Whole...)
		out[i] = s
	}
	return out
}

// StepOf is the step that a setting belongs to, by its path. What belongs to none is the site's.
func StepOf(setting string) string {
	for _, s := range steps {
		for _, own := range s.Owns {
			if under(setting, own) {
				return s.ID
			}
		}
	}
	kind, _, _ := strings.Cut(setting, "/")
	for _, s := range steps {
		for _, k := range s.Kinds {
			if k == kind {
				return s.ID
			}
		}
	}
	return steps[0].ID
}

// under tells whether a setting is what a pattern names, or stands below it.
func under(setting, pattern string) bool {
	words := strings.Split(setting, "/")
	n := strings.Count(pattern, "/") + 1
	if len(words) < n {
		return false
	}
	ok, err := path.Match(pattern, strings.Join(words[:n], "/"))
	return ok && err == nil
}
