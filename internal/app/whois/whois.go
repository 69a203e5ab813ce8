// Package whois says of a person what a gateway makes of them: where they are kept, which passage takes them and why not another, what they
// may reach, by what they come, and what would keep them out.
package whois

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/app/sources"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/site"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/people"
	"yellowlantern/internal/people/source"
	"yellowlantern/internal/store"
)

// Service says it.
type Service struct {
	Store   *store.Store
	People  *people.People
	Plans   *plans.Service
	Sources *sources.Service
	Gateway interface{ Sessions() []gateway.Session }
}

// ExplainedPerson is a person, as a gateway sees them.
type ExplainedPerson struct {
	User     string          `json:"user"`
	FullName string          `json:"full-name,omitempty"`
	Source   string          `json:"source" doc:"Where they are kept: local, or a source of the plan; empty: nowhere."`
	Looked   []PersonLooked  `json:"looked" nullable:"false" doc:"Where they were looked for, in order."`
	Groups   []string        `json:"groups" nullable:"false"`
	Passages []PassageChoice `json:"passages" nullable:"false" doc:"In the plan's order, up to the one that takes them."`
	Passage  string          `json:"passage,omitempty" doc:"Which takes them; empty: none."`
	Reaches  []PersonReach   `json:"reaches" nullable:"false" doc:"What they reach, with the answers."`
	Against  []PersonAgainst `json:"against" nullable:"false" doc:"What keeps them out, or will."`
	Devices  []string        `json:"devices" nullable:"false" doc:"Keys and certificates by which they come."`
	Sessions int             `json:"sessions" doc:"That they have now."`
	Logins   []PersonLogin   `json:"logins" nullable:"false" doc:"The newest of them, and what was refused."`
}

// PersonLooked is one place where somebody was looked for.
type PersonLooked struct {
	Source string `json:"source"`
	Found  bool   `json:"found"`
	Words  string `json:"words"`
}

// PassageChoice is whether a passage takes somebody.
type PassageChoice struct {
	Name  string `json:"name"`
	Takes bool   `json:"takes"`
	Words string `json:"words"`
}

// PersonReach is a destination with the services that are reached there.
type PersonReach struct {
	To       string `json:"to"`
	Services string `json:"services" doc:"That are reached at every hour, with their answers; empty: none."`
	Passes   string `json:"passes,omitempty" doc:"Services that the gateway lets through at some hour, where those are others: not all of it arrives or is answered, or not always."`
}

// PersonAgainst is something that keeps somebody out, now or soon.
type PersonAgainst struct {
	Stops bool   `json:"stops" doc:"It does now; otherwise it will, or may."`
	Words string `json:"words"`
	Fix   string `json:"fix,omitempty"`
}

// PersonLogin is one that was let in or refused.
type PersonLogin struct {
	At    time.Time `json:"at"`
	OK    bool      `json:"ok"`
	From  string    `json:"from,omitempty"`
	Words string    `json:"words"`
}

const (
	logins = 5
	soon   = 30 * 24 * time.Hour // before a certificate ends
)

// explaining is what is known of one person.
type explaining struct {
	s   *Service
	ctx context.Context
	now time.Time
	// known is of the people who were seen: whoever is looked up now may be in other groups.
	known *reach.Known
	m     *site.Model
	own   login.Limits
	out   *ExplainedPerson
}

// Explain says what a gateway makes of somebody.
func (s *Service) Explain(ctx context.Context, name string) (ExplainedPerson, error) {
	out := ExplainedPerson{
		User: name, Looked: []PersonLooked{}, Groups: []string{}, Passages: []PassageChoice{}, Reaches: []PersonReach{}, Against: []PersonAgainst{},
		Devices: []string{}, Logins: []PersonLogin{},
	}
	known, _, err := s.Plans.Known(ctx, "")
	if err != nil {
		return out, err
	}
	x := &explaining{s, ctx, time.Now(), known, known.Model, login.Limits{}, &out}
	for _, step := range []func() error{x.find, x.passages, x.devices, x.live, x.lately} {
		if err := step(); err != nil {
			return out, err
		}
	}
	if out.Source == "" && len(out.Logins) == 0 {
		return out, refusal.Missing(fmt.Sprintf("nobody is called %q: %s", name, lookedIn(out.Looked)))
	}
	return out, nil
}

func lookedIn(all []PersonLooked) string {
	var out []string
	for _, l := range all {
		out = append(out, l.Source+": "+l.Words)
	}
	return strings.Join(out, "; ")
}

func (x *explaining) against(stops bool, fix, format string, args ...any) {
	x.out.Against = append(x.out.Against, PersonAgainst{stops, fmt.Sprintf(format, args...), fix})
}

// find looks where somebody is kept.
func (x *explaining) find() error {
	u, err := x.s.People.User(x.ctx, x.out.User)
	switch {
	case err == nil:
		x.out.Source, x.out.FullName, x.out.Groups = people.Source, u.FullName, u.Groups
		x.out.Looked = append(x.out.Looked, PersonLooked{people.Source, true, "the service's own"})
		x.own = login.Limits{Until: u.Until, Hours: u.Hours, Sessions: u.Sessions, Tunnels: u.Tunnels}
		if why := u.Bar(x.now); !why.None() {
			x.against(true, "yl users change "+u.Name, "%s", why.Words())
		}
		if u.MustChange {
			x.against(true, "yl users password-link "+u.Name, "their password was made for them, and counts only to choose another with")
		}
		if !u.Until.IsZero() && u.Until.Sub(x.now) > 0 && u.Until.Sub(x.now) < soon {
			x.against(false, "yl users change "+u.Name+" --until DAY", "they may connect until %s", people.Until(u.Until))
		}
		return nil
	case !errors.Is(err, store.ErrNotFound):
		return err
	}
	x.out.Looked = append(x.out.Looked, PersonLooked{people.Source, false, "no user of that name"})
	for _, d := range x.s.Sources.Sources() {
		if x.elsewhere(d) {
			return nil
		}
	}
	return nil
}

// elsewhere looks for somebody in a source, and tells whether that settles it.
func (x *explaining) elsewhere(d source.Source) bool {
	name := d.Settings().Name
	seen, err := x.s.Store.SourcePerson(x.ctx, x.out.User)
	if !d.Looks() {
		words := "people cannot be looked up there, for it has no account, or judges logins alone"
		if err == nil && seen.Source == name {
			x.out.Source, x.out.FullName, x.out.Groups = name, seen.FullName, strings.Fields(seen.Groups)
			words = "as at their login of " + seen.At.Format(time.DateTime) + ": " + words
		}
		x.out.Looked = append(x.out.Looked, PersonLooked{name, x.out.Source == name, words})
		return x.out.Source == name
	}
	who, err := d.Look(x.ctx, x.out.User, nil)
	if err != nil {
		x.out.Looked = append(x.out.Looked, PersonLooked{name, false, err.Error()})
		switch source.KindOf(err) {
		case source.Unknown:
			return false
		case source.Barred, source.Expired:
			x.out.Source = name
			x.against(true, "mend it there", "source %s does not let them in: %v", name, err)
		default:
			x.against(true, "yl sources try "+name+" "+x.out.User, "source %s cannot be asked: %v", name, err)
		}
		return true
	}
	x.out.Source, x.out.FullName = name, who.FullName
	x.out.Groups = append([]string{}, source.Taken(d.Settings(), who.Groups, x.s.Sources.Groups())...)
	var there []string
	for _, g := range who.Groups {
		there = append(there, g.Name)
	}
	x.out.Looked = append(x.out.Looked, PersonLooked{name, true, fmt.Sprintf("%s, in %s", who.Name, cmp.Or(strings.Join(there, ", "),
		"no group"))})
	return true
}

// passages says which passage takes somebody, and why those before do not.
func (x *explaining) passages() error {
	if x.out.Source == "" {
		return nil
	}
	if i, seen := x.known.Named(x.out.User); seen {
		if was := x.known.Classes[i].Groups; !slices.Equal(was, slices.Compact(slices.Sorted(slices.Values(x.out.Groups)))) {
			x.against(false, "", "the board and journeys count them in %s, as at their last login, until they log in again",
				cmp.Or(strings.Join(was, ", "), "no group"))
		}
	}
	known, n := x.known.Somebody(reach.Person{User: x.out.User, Groups: x.out.Groups})
	class := known.Classes[n].Class
	for i := range x.m.Plan.Passages {
		p := &x.m.Plan.Passages[i]
		c := PassageChoice{Name: p.Name}
		var by []string
		for _, g := range p.Groups {
			if slices.Contains(x.out.Groups, g) {
				by = append(by, g)
			}
		}
		switch {
		case p.Off:
			c.Words = "it is switched off"
		case len(by) == 0:
			c.Words = "it admits " + cmp.Or(strings.Join(p.Groups, ", "), "nobody")
		default:
			c.Takes, c.Words = true, "it admits "+strings.Join(by, ", ")
		}
		x.out.Passages = append(x.out.Passages, c)
		if c.Takes {
			break
		}
	}
	if class.Shut != nil {
		off := x.m.Off(class.Shut)
		x.against(true, "switch tunnel "+off[0]+" on", "passage %s takes them, and its tunnels are off (%s)", class.Shut.Name,
			strings.Join(off, ", "))
		return nil
	}
	if class.Passage == nil {
		x.against(true, "put them into a group that a passage admits", "no passage admits %s",
			cmp.Or(strings.Join(x.out.Groups, ", "), "somebody in no group"))
		return nil
	}
	x.out.Passage = class.Passage.Name
	x.limits(class)
	if err := x.factor(class); err != nil {
		return err
	}
	for _, r := range known.Reached(n) {
		x.out.Reaches = append(x.out.Reaches, PersonReach(r))
	}
	if len(x.out.Reaches) == 0 {
		x.against(false, "add a rule for one of their groups", "they can connect and reach nothing")
	}
	return nil
}

// limits says what of a passage's and a person's own keeps them out.
func (x *explaining) limits(class *site.Class) {
	p := class.Passage
	for _, of := range []struct{ whose, hours string }{
		{"their own hours", x.own.Hours},
		{"the hours of passage " + p.Name, p.Limits.Hours},
	} {
		if of.hours == "" {
			continue
		}
		if h := x.m.Names.Hours[of.hours]; h == nil || !h.Hold(x.m.Local(x.now)) {
			x.against(true, "wait for the hours, or widen them", "%s (%s) do not hold now", of.whose, of.hours)
		}
	}
	var usable, logins []string
	for _, name := range p.Tunnels {
		t := x.m.Names.Tunnels[name]
		if t == nil || t.Off || len(x.own.Tunnels) > 0 && !slices.Contains(x.own.Tunnels, name) {
			continue
		}
		usable, logins = append(usable, name), append(logins, t.Logins()...)
	}
	if len(usable) == 0 {
		x.against(true, "yl users change "+x.out.User+" --tunnel NAME",
			"none of the tunnels of passage %s (%s) is one that they may come by", p.Name, strings.Join(p.Tunnels, ", "))
	}
	kind := ""
	if src := x.m.Names.Sources[x.out.Source]; src != nil {
		kind = src.Kind
	}
	byPassword := slices.ContainsFunc(logins, func(way string) bool { return plan.Judges(kind, way) })
	byKey := slices.Contains(logins,
		plan.LoginCertificate) || slices.Contains(logins,
		plan.LoginEAPTLS) || slices.Contains(logins, plan.LoginPublicKey)
	if x.out.Source != people.Source && len(usable) > 0 && !byPassword && !byKey {
		x.against(true, "say login: eap-ttls at a tunnel of the passage",
			"source %s can only be handed a password, and %s hands none over", x.out.Source, strings.Join(usable, ", "))
	}
}

// devices says by what somebody comes.
func (x *explaining) devices() error {
	keys, err := x.s.People.Keys(x.ctx, x.out.User)
	for _, k := range keys {
		what := k.Kind + " on " + cmp.Or(k.Device, "a device without a name")
		switch {
		case !k.Revoked.IsZero():
			continue
		case k.Expires.IsZero():
		case x.now.After(k.Expires):
			x.against(false, "yl users keys add", "their %s ended on %s", what, k.Expires.Format(time.DateOnly))
		case k.Expires.Sub(x.now) < soon:
			x.against(false, "yl users keys add", "their %s ends on %s", what, k.Expires.Format(time.DateOnly))
		}
		x.out.Devices = append(x.out.Devices, what)
	}
	for _, w := range x.s.People.Guesses.Slowed() {
		if w.Name == x.out.User {
			x.against(true, "yl slowed lift "+w.Name,
				"wrong passwords came from %s: the next from there is looked at from %s on", w.Source, w.Until.Format(time.TimeOnly))
		}
	}
	return err
}

// live says what sessions there are.
func (x *explaining) live() error {
	for _, live := range x.s.Gateway.Sessions() {
		if live.User == x.out.User {
			x.out.Sessions++
		}
	}
	if most := x.own.Sessions; most > 0 && x.out.Sessions >= most {
		x.against(true, "yl sessions end "+x.out.User, "they have %d sessions, as many as they may", x.out.Sessions)
	}
	return nil
}

// lately says what came of their newest logins.
func (x *explaining) lately() error {
	for _, kind := range []string{"login", "refused"} {
		lines, err := x.s.Store.Journal(x.ctx, store.JournalQuery{Kind: kind, User: x.out.User, Limit: logins})
		if err != nil {
			return err
		}
		for _, l := range lines {
			x.out.Logins = append(x.out.Logins, PersonLogin{l.At, kind == "login", l.From, l.Words})
		}
	}
	slices.SortFunc(x.out.Logins, func(a, b PersonLogin) int { return b.At.Compare(a.At) })
	x.out.Logins = x.out.Logins[:min(len(x.out.Logins), logins)]
	return nil
}

// OddPeople is what is found among all of them.
type OddPeople struct {
	Outside []string `json:"outside" nullable:"false" doc:"People who match no passage."`
	Empty   []string `json:"empty" nullable:"false" doc:"Groups that nobody is in who was seen."`
	Unused  []string `json:"unused" nullable:"false" doc:"Groups that no passage admits."`
}

// All finds people who match no passage, and groups that nobody is in or that no passage admits.
func (s *Service) All(ctx context.Context) (OddPeople, error) {
	out := OddPeople{Outside: []string{}, Empty: []string{}, Unused: []string{}}
	known, _, err := s.Plans.Known(ctx, "")
	if err != nil {
		return out, err
	}
	m := known.Model
	held := map[string]bool{}
	for _, c := range known.Classes {
		if c.Passage == nil {
			out.Outside = append(out.Outside, c.Users...)
		}
		for _, g := range c.Groups {
			held[g] = held[g] || len(c.Users) > 0
		}
	}
	admitted := map[string]bool{}
	for _, p := range m.Plan.Passages {
		for _, g := range p.Groups {
			admitted[g] = admitted[g] || !p.Off
		}
	}
	for _, g := range m.Plan.Groups {
		if !held[g.Name] {
			out.Empty = append(out.Empty, g.Name)
		}
		if !admitted[g.Name] {
			out.Unused = append(out.Unused, g.Name)
		}
	}
	slices.Sort(out.Outside)
	return out, nil
}

// factor says what of a second factor keeps somebody out.
func (x *explaining) factor(class *site.Class) error {
	have, err := x.s.People.Factors(x.ctx, x.out.User)
	if err != nil {
		return err
	}
	for _, f := range have {
		x.out.Devices = append(x.out.Devices, "second factor by "+f.Kind+", "+cmp.Or(f.Device, "since "+f.Added.Format(time.DateOnly)))
	}
	if !class.Passage.Factor.Asks(x.out.Groups) {
		return nil
	}
	if len(have) == 0 {
		x.against(true, "yl users second-factor link "+x.out.User, "passage %s asks for a second factor, and they have none: they connect, and reach nothing but the code page",
			class.Passage.Name)
	} else if have[0].Recovery == 0 {
		x.against(false, "yl users second-factor link "+x.out.User,
			"they have no recovery codes left: without their phone they do not get in")
	}
	for _, w := range x.s.People.Codes.Slowed() {
		if w.Name == x.out.User {
			x.against(true, "yl slowed lift "+w.Name, "wrong codes came: the next is looked at from %s on", w.Until.Format(time.TimeOnly))
		}
	}
	return nil
}
