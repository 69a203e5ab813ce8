package outline_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/demo"
	"yellowlantern/internal/core/outline"
	"yellowlantern/internal/core/plan"
)

func TestStepOf(t *testing.T) {
	for setting, want := range map[string]string{
		"gateways/jetty/dial": "site", "gateways/jetty/outside/update/key": "trust", "gateways/jetty/defaults/dns/servers/0": "site",
		"tunnels/main/certificate": "trust", "tunnels/main/algorithms": "tunnels", "passages/research/groups/1": "people",
		"passages/research/routes": "passages", "passages": "passages", "time-zone": "people", "host-groups/instruments": "site",
		"hours/watch/to": "people", "nat/way-out": "nat", "rules/archive/to/0": "rules", "expectations/x": "expectations", "": "site",
	} {
		require.Equal(t, want, outline.StepOf(setting), setting)
	}
	// Every kind of object has its step, one alone, and its list.
	kinds, _ := plan.Objects(plan.Plan{})
	seen := map[string]int{}
	for _, s := range outline.Steps() {
		for _, k := range s.Kinds {
			seen[k]++
		}
	}
	lists := outline.Of(&plan.Plan{}).Lists
	require.Len(t, lists, len(kinds))
	for i, k := range kinds {
		require.Equal(t, 1, seen[k], k)
		require.Equal(t, k, lists[i].Kind, "in the document's order")
	}
}

func island(t *testing.T) *plan.Plan {
	s, err := demo.Load("")
	require.NoError(t, err)
	doc, err := plan.Read(s.Plan)
	require.NoError(t, err)
	return &doc.Plan
}

func TestLists(t *testing.T) {
	p := island(t)
	row := func(kind, name string) string {
		for _, l := range outline.Of(p).Lists {
			for _, r := range l.Rows {
				require.Len(t, r.Cells, len(l.Columns), "%s/%s", l.Kind, r.Name)
				if l.Kind == kind && r.Name == name {
					return strings.Join(r.Cells, " | ")
				}
			}
		}
		return "none"
	}
	for _, c := range []struct{ kind, name, want string }{
		{"rules", "wardens-inside", "permit | wardens | web, files, ping | station, archive | always | "},
		{"hosts", "records", "10.20.30.5, fd00:20:30::5 | archive | records.tern.example"},
		{"zones", "field", "turbine | what stands outdoors"},
		{"groups", "volunteers", "volunteers | watch the nest cameras"},
		{"hours", "nesting-nights", "every day | 22:00 | 05:00"},
		{"passages", "wardens", "wardens | main | staff | 10.20.0.53 | everything | "},
		{"nat", "way-out", "translate | staff, station, archive | any | any | the gateway's own"},
	} {
		require.Equal(t, c.want, row(c.kind, c.name), "%s/%s", c.kind, c.name)
	}
	p.Passages[0].Pool, p.Gateways[0].Defaults = "", &plan.Defaults{Pool: "guests"}
	require.Contains(t, row("passages", "wardens"), "| guests |", "with what it takes from the gateway's defaults")
}

// The picture follows what devices route into the tunnel, by names of networks and hosts and by prefixes, through the routers on the way.
func TestDraw(t *testing.T) {
	sends := func(p *plan.Plan, from, to string) string {
		for _, w := range outline.Of(p).Picture.Ways {
			if w.From == from && w.To == to {
				return strings.Join(w.Passages, ", ")
			}
		}
		return "no way"
	}
	p := island(t)
	full := outline.Of(p).Picture
	require.Equal(t, "jetty", full.Gateway.Title)
	require.Zero(t, full.LeftOut)
	for way, want := range map[string]string{
		"passages/research tunnels/main":  "research",
		"tunnels/main gateways/jetty":     "wardens, research, volunteers, contractor",
		"gateways/jetty networks/station": "wardens, research, volunteers, contractor", // the name server is there
		"gateways/jetty routers/ridge":    "wardens, research, volunteers, contractor",
		"routers/ridge networks/archive":  "wardens, research, volunteers", // whose camera is there
		"routers/ridge networks/turbine":  "wardens, contractor",
		"gateways/jetty networks/archive": "no way", // it is behind the ridge
		"gateways/jetty internet":         "wardens",
	} {
		from, to, _ := strings.Cut(way, " ")
		require.Equal(t, want, sends(p, from, to), way)
	}
	require.Equal(t, "field", full.Networks[0].Zone, "zones first")
	require.Equal(t, []string{"10.20.0.0/24, fd00:20::/64", "names, office, boathouse"}, full.Networks[1].Lines)
	p.Passages[1].Routes.Split = []string{"10.20.40.0/28"}
	require.Equal(t, "wardens, research, contractor", sends(p, "routers/ridge", "networks/turbine"), "a part of it, by its prefix")

	require.Nil(t, outline.Of(&plan.Plan{}).Picture.Gateway)
	for range 20 {
		p.Networks = append(p.Networks, p.Networks[0])
	}
	require.Equal(t, 9, outline.Of(p).Picture.LeftOut)
	require.Len(t, outline.Of(p).Picture.Networks, outline.Drawn)
}
