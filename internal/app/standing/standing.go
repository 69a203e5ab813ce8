// Package standing says in one look whether people can get in, and what to do where they cannot: what runs, whether gateway and machine do
// their work, how long certificates last, and whether disk and clock let the service do its own.
package standing

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"math"
	"net/netip"
	"slices"
	"strings"
	"time"

	"yellowlantern/internal/app/authorities"
	"yellowlantern/internal/app/compiled"
	"yellowlantern/internal/app/running"
	"yellowlantern/internal/app/sources"
	"yellowlantern/internal/app/trust"
	"yellowlantern/internal/app/watching"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/store"
)

// How a point stands.
const (
	Right = "right"
	Risky = "risky" // people get in; somebody should look
	Wrong = "wrong"
)

// Point is one thing that must be right.
type Point struct {
	Name    string `json:"name" doc:"What it is about: plan, gateway, inside, outside, ports, name, console, certificate, authority, authorities, sources, equipment, probes, journal, disk, clock."`
	State   string `json:"state" enum:"right,risky,wrong"`
	Words   string `json:"words" doc:"How it is."`
	Mend    string `json:"mend,omitempty" doc:"What to do."`
	Setting string `json:"setting,omitempty" doc:"Where in the plan."`
	Code    string `json:"code,omitempty" doc:"Why, by the codes of docs/reasons.md."`
	// Why is that with what it is about; none: the point has no code.
	Why reason.Reason `json:"-"`
}

// Service looks.
type Service struct {
	Store    *store.Store
	Wholes   *compiled.Cache
	Running  *running.Service
	Trust    *trust.Service
	Watching *watching.Service
	// Authorities are others that issue certificates to people; nil: not looked at.
	Authorities *authorities.Service
	// Sources are where people are kept beside the service's own; nil: not looked at.
	Sources *sources.Service
	// Behind says of sources what their servers could not be told of sessions; nil: not looked at.
	Behind func(ctx context.Context) (map[string]string, error)
	// Probes tells which enrolled probes are connected, and which are not; nil: not looked at.
	Probes func(ctx context.Context) (connected, gone []string, err error)
	// Unmailed tells why people are not sent mail; nil, or none: they are.
	Unmailed func() string
	// LastResort tells whether the administrator of last resort is signed in, and since when; nil: not looked at.
	LastResort func(ctx context.Context) (name string, since time.Time, err error)
	// Unsent tells where lines of the journal should be sent on to, and why they wait; nil, or none: they do not.
	Unsent func() (to, why string)
	// Equipment says why no equipment is answered; nil: not looked at.
	Equipment func() string
	// Deaf says of sources why nothing is taken of what their servers ask for; nil: not looked at.
	Deaf func() map[string]string
	// Clock is the system's clock, and whether it is set by others' clocks.
	Clock func() (now time.Time, synchronised bool)

	// Elsewhere refuses a mirror that is on this machine: Elsewhere.
	Elsewhere func(ctx context.Context, address string) error

	// Doors are where console and API are open with TLS.
	Doors []netip.AddrPort
}

// When somebody should look.
const (
	certificateWarn = 30 * 24 * time.Hour
	authorityWarn   = 180 * 24 * time.Hour
	diskRisky       = 1 << 30   // octets that are free
	diskWrong       = 100 << 20 // below which writes will soon fail
	ahead           = 2 * time.Minute
	waitingMost     = 5000 // events
)

// Look tells how everything stands, in the order in which to look.
func (s *Service) Look(ctx context.Context) []Point {
	status := s.Running.Status()
	out := []Point{s.plan(status.State)}
	out = append(out, aboutInside(status)...)
	out = append(out, s.fromOutside(ctx)...)
	out = append(out, s.name()...)
	out = append(out, s.doors(ctx)...)
	out = append(out, s.certificates(ctx)...)
	out = append(out, s.others(ctx)...)
	out = append(out, s.elsewhere(ctx)...)
	out = append(out, s.probes(ctx)...)
	out = append(out, s.collector()...)
	out = append(out, s.lastResort(ctx)...)
	out = append(out, s.disk(), s.clock(ctx))
	return out
}

func (s *Service) plan(now running.State) Point {
	switch {
	case now.Problem != "":
		return Point{Name: "plan", State: Wrong, Words: now.Problem, Mend: "the page Plan; yl plan review"}
	case now.Runs == 0:
		return Point{Name: "plan", State: Wrong, Words: "no plan is committed yet: nobody can come in", Mend: "yl next says what is left"}
	}
	return Point{Name: "plan", State: Right, Words: fmt.Sprintf("revision %d runs, the newest", now.Runs)}
}

// aboutInside is the gateway, and what carries packets away from the tunnels.
func aboutInside(status running.Status) (out []Point) {
	away := false
	for _, p := range status.Inside.Problems {
		point := Point{Name: "inside", State: Wrong, Words: p.Words, Code: string(p.Code), Setting: p.With[reason.Setting], Why: p.Reason}
		switch p.Code {
		case reason.GatewayNotReached:
			away = true
			point.Name, point.Mend = "gateway", "systemctl status yellow-lantern-gateway; journalctl -u yellow-lantern-gateway"
		case reason.NothingRunsHere:
			away = true
			point.Name = "gateway"
		}
		out = append(out, point)
	}
	if !away {
		words := fmt.Sprintf("answers, with %d sessions, %d logins under way and %d flows", status.Sessions, status.LoggingIn, status.Flows)
		if len(status.Techniques) > 0 {
			words += "; its packets go by " + strings.Join(status.Techniques, ", ")
		}
		out = append([]Point{{Name: "gateway", State: Right, Words: words}}, out...)
	}
	if len(status.Inside.Problems) == 0 {
		out = append(out, Point{Name: "inside", State: Right, Words: "carried by " + status.Inside.Port})
	}
	return append(out, filling(status)...)
}

// filling is what runs full.
func filling(status running.Status) (out []Point) {
	if m := status.Inside.Machine; m != nil && m.Most > 0 && m.Connections*10 > m.Most*8 {
		out = append(out, Point{
			Name: "inside", State: Risky,
			Words: fmt.Sprintf("the kernel follows %d connections and can follow %d: new ones will soon be lost", m.Connections, m.Most),
			Mend:  fmt.Sprintf("sysctl -w net.netfilter.nf_conntrack_max=%d", 2*m.Most),
		})
	}
	if status.Waiting > waitingMost {
		out = append(out, Point{
			Name: "journal", State: Risky, Words: fmt.Sprintf("%d events wait to be written", status.Waiting), Mend: "a slow disk, or a flood of refusals: yl journal",
		})
	}
	return out
}

func (s *Service) name() (out []Point) {
	o := s.Watching.Outside()
	switch {
	case o.Problem != "":
		out = append(out, Point{
			Name: "name", State: Wrong, Words: o.Name + " is not kept up to date: " + o.Problem,
			Mend: "the name server, its key and zone", Setting: "gateways",
		})
	case !o.At.IsZero():
		out = append(out, Point{Name: "name", State: Right, Words: o.Name + " leads to " + join(o.Published)})
	}
	for _, c := range o.Calls {
		told := cmp.Or(join(c.Told), "who is called to look for itself")
		p := Point{Name: "name", State: Right, Words: "call " + c.Name + " told " + told}
		switch {
		case c.Problem != "":
			p.State, p.Words = Wrong, fmt.Sprintf("%s is not kept up to date by call %s: %s", o.Name, c.Name, c.Problem)
			p.Mend, p.Setting = "the call's address, user and secret", "gateways"
		case c.At.IsZero():
			p.State, p.Words = Risky, "call "+c.Name+" was not made yet"
		default:
			p.Words += ", " + c.At.Local().Format(time.DateTime)
		}
		out = append(out, p)
	}
	return out
}

func days(left time.Duration) int { return int(math.Floor(left.Hours() / 24)) }

func (s *Service) certificates(ctx context.Context) (out []Point) {
	all, err := s.Trust.Certificates(ctx)
	if err != nil {
		return []Point{{
			Name: "certificate", State: Wrong, Words: "certificates cannot be read: " + err.Error(), Mend: "the data folder and its disk",
		}}
	}
	fit := s.fit(ctx)
	for _, c := range all {
		if len(c.Used) == 0 || c.Waiting {
			continue
		}
		left := time.Until(c.Expires)
		p := Point{
			Name: "certificate", State: Right,
			Words: fmt.Sprintf("%s, shown by %s, lasts %d more days", c.Name, strings.Join(c.Used, ", "), days(left)),
		}
		switch {
		case c.Revoked:
			p.State, p.Words = Wrong, fmt.Sprintf("%s, shown by %s, is revoked", c.Name, strings.Join(c.Used, ", "))
		case left <= 0:
			p.State, p.Words = Wrong, fmt.Sprintf("%s, shown by %s, has expired: devices refuse it", c.Name, strings.Join(c.Used, ", "))
		case left < certificateWarn:
			p.State = Risky
		}
		if p.State != Right {
			p.Mend = "yl certificate make " + c.Name + " --for " + strings.Join(c.Holds, " --for ")
			if !c.Own {
				p.Mend = "yl certificate request " + c.Name + ", and import what its authority gives for it"
			}
		}
		out = append(out, p)
	}
	out = append(out, outsiders(fit)...)
	until, err := s.Trust.AuthorityUntil(ctx)
	if err != nil {
		return append(out, Point{
			Name: "authority", State: Wrong, Words: "the own authority cannot be read: " + err.Error(), Mend: "yl restore",
		})
	}
	p := Point{Name: "authority", State: Right, Words: fmt.Sprintf("the own one lasts %d more days", days(time.Until(until)))}
	if time.Until(until) < authorityWarn {
		p.State, p.Mend = Risky, "devices must trust another one before it ends: plan for new kits"
	}
	return append(out, p)
}

// fit is whom the certificates of the plan that runs keep out, as far as that is known at once.
func (s *Service) fit(ctx context.Context) (none trust.Fit) {
	newest, err := s.Store.Newest(ctx)
	if err != nil {
		return none
	}
	w, err := s.Wholes.Of(newest.Text)
	if err != nil {
		return none
	}
	m, err := w.Model()
	if err != nil {
		return none
	}
	known, _, _ := w.Soon(ctx)
	fit, err := s.Trust.Fits(ctx, m, known)
	if err != nil {
		return none
	}
	return fit
}

// outsiders are tunnels and people whom certificates keep out.
func outsiders(fit trust.Fit) (out []Point) {
	for _, t := range slices.Sorted(maps.Keys(fit.Tunnels)) {
		out = append(out, Point{
			Name: "certificate", State: Wrong, Setting: "tunnels/" + t + "/certificate",
			Words: "nobody can connect by tunnel " + t + ": " + fit.Tunnels[t].Why, Mend: fit.Tunnels[t].Mend,
		})
	}
	people := slices.Sorted(maps.Keys(fit.People))
	people = slices.DeleteFunc(people, func(u string) bool { return len(fit.Tunnels) > 0 && !strings.Contains(fit.People[u], "kit") })
	if len(people) > 0 {
		words := strings.Join(people[:min(len(people), mostNamed)], ", ")
		if n := len(people) - mostNamed; n > 0 {
			words += fmt.Sprintf(" and %d more", n)
		}
		out = append(out, Point{
			Name: "certificate", State: Risky, Words: words + " cannot connect with the kits that they have: " + fit.People[people[0]],
			Mend: "hand them new kits (yl handover), or show a certificate that their devices take",
		})
	}
	return out
}

const mostNamed = 5 // people

func (s *Service) disk() Point {
	free, err := s.Store.Free()
	p := Point{Name: "disk", State: Right, Words: fmt.Sprintf("%.1f GiB are free for records", float64(free)/(1<<30))}
	switch {
	case err != nil:
		return Point{Name: "disk", State: Risky, Words: "how much is free is not known: " + err.Error()}
	case free < diskWrong:
		p.State = Wrong
		p.Words = fmt.Sprintf("%d MiB are free for records: soon nothing is written, and nobody let in who is not recorded", free>>20)
	case free < diskRisky:
		p.State = Risky
	}
	if p.State != Right {
		p.Mend = "make room in the data folder's file system; --keep-journal shortens the journal"
	}
	return p
}

// clock looks whether the clock went back behind what is written down, and whether others set it.
func (s *Service) clock(ctx context.Context) Point {
	now, synchronised := s.Clock()
	later, err := s.Store.AheadOf(ctx, now.Add(ahead))
	switch {
	case err == nil && !later.IsZero():
		return Point{
			Name: "clock", State: Wrong,
			Words: fmt.Sprintf("it shows %s, and a line of the journal is of %s: it went back, or was ahead then; certificates are judged by it",
				now.Format(time.DateTime), later.In(now.Location()).Format(time.DateTime)),
			Mend: "set the clock; timedatectl set-ntp true",
		}
	case !synchronised:
		return Point{
			Name: "clock", State: Risky, Words: "it shows " + now.Format(time.DateTime) + ", and no other clock sets it",
			Mend: "timedatectl set-ntp true, or another time service",
		}
	}
	return Point{Name: "clock", State: Right, Words: "it shows " + now.Format(time.DateTime) + ", and others' clocks set it"}
}
