package standing

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"yellowlantern/internal/app/authorities"
)

// elsewhere says of sources of people whether they can be asked.
func (s *Service) elsewhere(ctx context.Context) (out []Point) {
	if s.Sources == nil {
		return nil
	}
	var right []string
	for _, d := range s.Sources.Sources() {
		name, state := d.Settings().Name, d.State()
		switch {
		case state.Error != "":
			out = append(out, Point{
				Name: "sources", State: Wrong, Words: fmt.Sprintf("%s cannot be asked since %s: %s", name, state.Since.Format("15:04"), state.Error),
				Mend: "its people do not come in until it can: yl sources try " + name + " NAME", Setting: "sources/" + name,
			})
		case state.At.IsZero():
			right = append(right, name+" (not asked yet)")
		default:
			right = append(right, name)
		}
	}
	if s.Equipment != nil && s.Equipment() != "" {
		out = append(out, Point{
			Name: "equipment", State: Wrong, Words: "no equipment is answered: " + s.Equipment(),
			Mend: "give an address that this machine has, and a port that is free", Setting: "equipment-at",
		})
	}
	if s.Deaf != nil {
		deaf := s.Deaf()
		for _, name := range slices.Sorted(maps.Keys(deaf)) {
			out = append(out, Point{
				Name: "sources", State: Wrong, Words: "servers of " + name + " cannot have sessions ended: " + deaf[name],
				Mend: "give an address that this machine has, and a port that is free", Setting: "sources/" + name + "/changes-at",
			})
		}
	}
	if s.Behind != nil {
		behind, _ := s.Behind(ctx)
		for _, name := range slices.Sorted(maps.Keys(behind)) {
			out = append(out, Point{
				Name: "sources", State: Risky, Words: "servers of " + name + " are not told of sessions, " + behind[name],
				Mend: "it is kept and told later; look at the servers under accounting", Setting: "sources/" + name + "/accounting",
			})
		}
	}
	if len(right) > 0 {
		out = append(out, Point{Name: "sources", State: Right, Words: "people are kept in " + strings.Join(right, ", ")})
	}
	return out
}

// lastResort says whether the administrator of last resort is signed in.
func (s *Service) lastResort(ctx context.Context) (out []Point) {
	if s.LastResort == nil {
		return nil
	}
	name, since, err := s.LastResort(ctx)
	if err != nil || name == "" {
		return nil
	}
	return []Point{{
		Name: "administrators", State: Risky,
		Words: fmt.Sprintf("%s, the administrator of last resort, has a browser signed in, or a token, since %s", name, since.Format("15:04 on 2 January")),
		Mend: "sign out once the source of administrators answers; if nobody meant it: yl administrators sign-out " + name +
			", yl tokens list --filter " + name, Setting: "last-resort",
	}}
}

// collector says whether lines of the journal are sent on.
func (s *Service) collector() (out []Point) {
	if s.Unmailed != nil && s.Unmailed() != "" {
		out = append(out, Point{
			Name: "mail", State: Risky, Words: "people are not sent mail: " + s.Unmailed(),
			Mend: "look at the mail server, and at mail-server, mail-account and mail-authority in the plan", Setting: "mail-server",
		})
	}
	if s.Unsent == nil {
		return out
	}
	to, why := s.Unsent()
	switch {
	case why != "":
		out = append(out, Point{
			Name: "journal", State: Risky, Words: "lines of the journal wait to be sent on to " + to + ": " + why,
			Mend: "they are kept, and sent once it answers; look at the collector, at its certificate, and at --syslog-authority",
		})
	case to != "":
		out = append(out, Point{Name: "journal", State: Right, Words: "every line of the journal is sent on to " + to})
	}
	return out
}

// others says of other authorities of people's certificates whether it can be found out which are revoked.
func (s *Service) others(ctx context.Context) (out []Point) {
	if s.Authorities == nil {
		return nil
	}
	all, err := s.Authorities.States(ctx, "")
	if err != nil {
		return nil
	}
	var right []string
	for _, a := range all {
		switch {
		case a.Problem == "":
			right = append(right, a.Name)
			continue
		case len(a.Tunnels) == 0:
			continue
		}
		out = append(out, aboutAuthority(a))
	}
	if len(right) > 0 {
		out = append(out, Point{Name: "authorities", State: Right, Words: "certificates are taken of " + strings.Join(right, ", ")})
	}
	return out
}

func aboutAuthority(a authorities.OtherAuthority) Point {
	p := Point{Name: "authorities", State: Wrong, Words: a.Name + ": " + a.Problem, Mend: a.Mend, Setting: "authorities/" + a.Name}
	if a.Open {
		p.State = Risky
	}
	return p
}

// probes are machines elsewhere that trials are made from: where there are none, nothing is said.
func (s *Service) probes(ctx context.Context) []Point {
	if s.Probes == nil {
		return nil
	}
	connected, gone, err := s.Probes(ctx)
	switch {
	case err != nil:
		return []Point{{Name: "probes", State: Risky, Words: "enrolled probes cannot be read: " + err.Error()}}
	case len(gone) > 0:
		return []Point{{
			Name: "probes", State: Risky, Words: "not connected, so nothing can be tried from there: " + strings.Join(gone, ", "),
			Mend: "on that machine: systemctl status yl-probe; if it is gone for good: yl probe revoke " + gone[0],
		}}
	case len(connected) > 0:
		return []Point{{Name: "probes", State: Right, Words: "connected: " + strings.Join(connected, ", ")}}
	}
	return nil
}
