package linux

import (
	"fmt"
	"slices"
	"strings"

	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/kernel"
)

// Preview tells what a plan would make of the machine, and makes nothing.
func (p *Port) Preview(want inside.Desired) inside.Preview {
	p.mu.Lock()
	defer p.mu.Unlock()
	out := inside.Preview{Port: Name, Lines: []inside.Line{}, Problems: []inside.Problem{}}
	m, err := look(p.device)
	if err != nil {
		return out
	}
	out.Problems = append(m.missing(want), takenPools(&m, want)...)
	links := m.assign(want, p.device)
	links.Timeouts = true
	state := kernel.Of(want, links)
	settings := wouldSet(state, &m, p.device, want.MayChange)
	links.Guard = p.guards() || slices.ContainsFunc(settings, func(s string) bool { return strings.Contains(s, "forwarding=") })
	state = kernel.Of(want, links)
	out.Lines = append(kernel.Compare(m.ourRoutes(), sorted(state.Routes)), kernel.Compare(p.haveSet(), merge(p.haveSet(), settings))...)
	then := strings.Split(strings.TrimRight(state.Table.String(), "\n"), "\n")
	var now []string
	if p.made != "" {
		now = strings.Split(strings.TrimRight(p.made, "\n"), "\n")
	}
	out.Lines = append(out.Lines, kernel.Compare(now, then)...)
	return out
}

func sorted(routes []kernel.Route) []string {
	out := make([]string, len(routes))
	for i, r := range routes {
		out[i] = "route " + r.String()
	}
	slices.Sort(out)
	return out
}

// ourRoutes are the routes of ours that are there.
func (m *machine) ourRoutes() []string {
	now, err := lookRoutes()
	if err != nil {
		return nil
	}
	var all []kernel.Route
	for _, r := range now.ours {
		one := placedOf(r)
		k := kernel.Route{To: one.to, Via: one.via, Unreachable: one.unreachable, Metric: one.metric, MTU: one.mtu}
		if !one.unreachable {
			if k.Link = m.nameOf(one.link); k.Link == "no link" {
				k.Link = Device
			}
		}
		all = append(all, k)
	}
	return sorted(all)
}

// wouldSet are the settings that would be changed.
func wouldSet(s kernel.State, m *machine, device string, allowed bool) (out []string) {
	for _, x := range settingsFor(s, m, device) {
		if now, err := readSetting(x.key); err == nil && !x.must(now) && !x.own && allowed {
			out = append(out, fmt.Sprintf("setting %s=%s", strings.ReplaceAll(x.key, "/", "."), x.to))
		}
	}
	slices.Sort(out)
	return out
}

// haveSet are the settings that are changed already.
func (p *Port) haveSet() (out []string) {
	for key, value := range p.was.Set {
		out = append(out, fmt.Sprintf("setting %s=%s", strings.ReplaceAll(key, "/", "."), value))
	}
	slices.Sort(out)
	return out
}

func merge(a, b []string) []string {
	out := append(slices.Clone(a), b...)
	slices.Sort(out)
	return slices.Compact(out)
}
