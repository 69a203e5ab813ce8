// Package diagnosis goes from a complaint to what may explain it: it gathers what is known of a person, tries as their class, and hands
// that to the core, which ranks the causes.
package diagnosis

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"slices"
	"strings"
	"time"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/journal"
	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/app/proofs"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/app/standing"
	"yellowlantern/internal/app/trials"
	"yellowlantern/internal/app/trust"
	"yellowlantern/internal/core/check"
	"yellowlantern/internal/core/diagnose"
	"yellowlantern/internal/core/fold"
	"yellowlantern/internal/core/forward"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/site"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/people"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/store"
)

// Gateway is what is running.
type Gateway interface {
	Sessions() []gateway.Session
	Pools() []gateway.Pool
	Status() gateway.Status
	Flows(user string, peer netip.Addr, service string, most int) []forward.Flow
	// Written waits until every event so far is in the journal, or the context ends.
	Written(ctx context.Context)
}

// Service finds it.
type Service struct {
	Store   *store.Store
	People  *people.People
	Journal *journal.Service
	Plans   *plans.Service
	Trust   *trust.Service
	Trials  *trials.Service
	Gateway Gateway
	// Status gives the checks of the status.
	Status func(context.Context) []standing.Point
	Log    *slog.Logger
}

// Complaint is what somebody says.
type Complaint struct {
	User      string // who complains
	Complaint string
	To        string   // what they do not reach: a host, name or address; may be empty
	Service   string   // by which service, such as tcp/443; may be empty
	NoTrial   bool     // look at what is known already, and try nothing
	Vantages  []string // where to try from; none: the first that there is
}

// Diagnosis is what may explain a complaint.
type Diagnosis struct {
	User      string           `json:"user"`
	Class     string           `json:"class"`
	Passage   string           `json:"passage,omitempty"`
	Complaint string           `json:"complaint"`
	To        string           `json:"to,omitempty"`
	At        time.Time        `json:"at"`
	Causes    []diagnose.Cause `json:"causes" nullable:"false" doc:"The likeliest first."`
	Looked    []string         `json:"looked" nullable:"false" doc:"What was looked at."`
}

// Diagnose gathers what is known of a person, tries as their class, and ranks what explains the complaint.
func (s *Service) Diagnose(ctx context.Context, in Complaint) (Diagnosis, *diagnose.Evidence, error) {
	out := Diagnosis{
		User: in.User, Complaint: in.Complaint, To: in.To, At: time.Now().UTC(), Causes: []diagnose.Cause{},
		Looked: []string{},
	}
	known, _, err := s.Plans.Known(ctx, "")
	if err != nil {
		return out, nil, err
	}
	m, persons := known.Model, known.People()
	e := &diagnose.Evidence{Now: time.Now(), Complaint: in.Complaint, User: in.User, Model: m}
	if err := s.whoIs(ctx, e); err != nil {
		return out, nil, err
	}
	if in.To != "" {
		if err := s.whereTo(e, in); err != nil {
			return out, nil, err
		}
	}
	if err := s.journalOf(ctx, e, persons); err != nil {
		return out, nil, err
	}
	s.sessionsOf(ctx, e)
	if err := s.findingsFor(ctx, e); err != nil {
		return out, nil, err
	}
	if !in.NoTrial && e.Known && !e.Off {
		if err := s.tryFor(ctx, e, in); err != nil {
			return out, nil, err
		}
	}
	s.checksOf(ctx, e) // last, for a check may follow from what was just tried
	out.Class, out.Causes = e.Class.Name(), diagnose.Find(*e)
	if e.Class.Passage != nil {
		out.Passage = e.Class.Passage.Name
	}
	out.Looked = lookedAt(e)
	return out, e, nil
}

func lookedAt(e *diagnose.Evidence) []string {
	out := []string{
		fmt.Sprintf("%d lines of the journal about %s, and %d refusals that name nobody", len(e.Journal), e.User, len(e.Others)),
		fmt.Sprintf("%d live and %d past sessions, %d flows", len(e.Sessions), len(e.Past), len(e.Flows)),
		fmt.Sprintf("%d checks of the status that are not OK", len(e.Checks)), fmt.Sprintf("%d findings on the plan", len(e.Findings)), "what is computed of the plan that runs",
	}
	for _, t := range e.Trials {
		out = append(out, fmt.Sprintf("a trial from %s with %d attempts: %s", t.Vantage, len(t.Results), t.Login))
	}
	return out
}

func (s *Service) whoIs(ctx context.Context, e *diagnose.Evidence) error {
	users, err := s.People.List(ctx)
	if err != nil {
		return err
	}
	var groups []string
	for _, u := range users {
		switch {
		case u.Name == e.User:
			e.Known, e.Off, groups = true, u.Off, u.Groups
			e.MustChange = u.MustChange
			e.Own = login.Limits{Until: u.Until, Hours: u.Hours, Sessions: u.Sessions, Tunnels: u.Tunnels}
		case alike(u.Name, e.User):
			e.Alike = append(e.Alike, u.Name)
		}
	}
	if !e.Known {
		elsewhere, err := s.People.Elsewhere(ctx)
		if err != nil {
			return err
		}
		for _, x := range elsewhere {
			if x.Name == e.User {
				e.Known, groups, e.Source = true, strings.Fields(x.Groups), x.Source
			}
		}
	}
	e.Class = e.Model.Class(groups)
	for _, p := range s.Gateway.Pools() {
		if e.Class.Passage != nil && p.Name == e.Class.Passage.Passage.Pool {
			e.Free = p.Free
		}
	}
	return nil
}

// alike tells whether two names differ by a letter or two.
func alike(a, b string) bool {
	return len(a) > 3 && strings.EqualFold(a, b) || check.Slips(strings.ToLower(a), strings.ToLower(b)) <= 2
}

func (s *Service) whereTo(e *diagnose.Evidence, in Complaint) error {
	dsts, err := proofs.Destination(e.Model, in.To)
	if err != nil {
		return err
	}
	word := in.Service
	if word == "" {
		word = "tcp/80"
	}
	set, ok := e.Model.Names.Service(word)
	if !ok {
		return refusal.Invalid(fmt.Sprintf("%q is no service: give a name from the plan, or tcp/443, udp/53, ping", word))
	}
	p := proofs.PacketFor(e.Class, dsts, set)
	e.Packet, e.Name = &p, in.To
	return nil
}

// journalOf gathers what is written about the person, and refusals that may be theirs.
func (s *Service) journalOf(ctx context.Context, e *diagnose.Evidence, persons []reach.Person) error {
	s.written(ctx)
	mine, err := s.Journal.Find(ctx, journal.Query{User: e.User, Since: e.Now.Add(-7 * 24 * time.Hour), Limit: 50})
	if err != nil {
		return err
	}
	refused, err := s.Journal.Find(ctx, journal.Query{Kind: "refused", Since: e.Now.Add(-24 * time.Hour), Limit: 200})
	if err != nil {
		return err
	}
	line := func(e gateway.Event) diagnose.Line {
		return diagnose.Line{At: e.Time, Kind: e.Kind, User: e.User, From: e.From, Why: e.Reason, Words: e.Words}
	}
	for _, r := range mine {
		e.Journal = append(e.Journal, line(r))
	}
	e.Began = e.Now.Add(-24 * time.Hour)
	came, err := s.Journal.Find(ctx, journal.Query{Kind: "login", Since: e.Began, Limit: 200})
	if err != nil {
		return err
	}
	s.arrived(e, append(came, refused...))
	known := map[string]bool{}
	for _, p := range persons {
		known[p.User] = true
	}
	for _, r := range refused {
		if !known[r.User] && r.User != e.User && !people.IsTester(r.User) {
			e.Others = append(e.Others, line(r))
		}
	}
	return nil
}

// arrived finds when anybody but the person was last heard from outside, whatever came of it.
func (s *Service) arrived(e *diagnose.Evidence, lines []gateway.Event) {
	own := e.Model.OwnAddresses().Union(e.Model.Names.InsideAddrs())
	for _, l := range lines {
		at, err := netip.ParseAddrPort(l.From)
		if err != nil || l.User == e.User || people.IsTester(l.User) || !l.Time.After(e.Arrived) ||
			at.Addr().IsLoopback() || own.Contains(fold.Addr(at.Addr())) {
			continue
		}
		e.Arrived, e.ArrivedFrom = l.Time, l.From
	}
}

func (s *Service) sessionsOf(ctx context.Context, e *diagnose.Evidence) {
	for _, x := range s.Gateway.Sessions() {
		if x.User == e.User {
			e.Sessions = append(e.Sessions, diagnose.Session{
				From: x.From, TCP: x.TCP, Held: x.Held, In: x.InPackets, Out: x.OutPackets, Lost: x.Lost,
				Missing: x.Missing, Carries: x.Carries,
			})
		}
	}
	past, err := s.Store.PastSessions(ctx, e.User, 20)
	if err != nil {
		s.Log.Warn("past sessions", "error", err)
	}
	for _, p := range past {
		e.Past = append(e.Past, diagnose.Past{
			Since: p.Since, Until: p.Until, In: p.InBytes, From: p.From, Why: journal.Reason(p.Code, p.With),
			Words: p.Reason,
		})
	}
	var peer netip.Addr
	service := ""
	if e.Packet != nil {
		peer, service = e.Packet.Dst, e.Packet.Service.String()
	}
	for _, f := range s.Gateway.Flows(e.User, peer, service, 50) {
		e.Flows = append(e.Flows, diagnose.Flow{Dst: f.Dst, Service: f.Service, Sent: f.Sent, Got: f.Got, Words: f.Words})
	}
}

// checksOf gathers the checks of the status that are not OK.
func (s *Service) checksOf(ctx context.Context, e *diagnose.Evidence) {
	for _, p := range s.Status(ctx) {
		if p.State != standing.Right {
			e.Checks = append(e.Checks, diagnose.Check{
				Name: p.Name, Failed: p.State == standing.Wrong, Words: p.Words, Fix: p.Mend, Setting: p.Setting, Why: p.Why,
			})
		}
	}
}

// findingsFor gathers findings on the running plan.
func (s *Service) findingsFor(ctx context.Context, e *diagnose.Evidence) error {
	newest, err := s.Store.Newest(ctx)
	if err != nil {
		return err
	}
	checked, err := s.Plans.Check(ctx, newest.Text)
	e.Findings = checked.Findings
	return err
}

// tryFor tries as the person's class from vantages now, what is complained of among it.
func (s *Service) tryFor(ctx context.Context, e *diagnose.Evidence, in Complaint) error {
	vantages, err := s.Trials.VantagesFor(ctx, in.Vantages)
	if err != nil {
		return err
	}
	class := reach.Class{Class: e.Class}
	o := trials.OrderFor(e.Model, class, reach.NewComputer(e.Model).Of(e.Class), e.User)
	if o.Authority, err = s.Trust.Of(ctx, e.Model, o.Tunnel); err != nil {
		return err
	}
	o.Trials = slices.DeleteFunc(o.Trials, func(t reach.Trial) bool { return t.Edge || !t.Want })
	if e.Packet != nil {
		o.Trials = append(o.Trials, s.asked(e, *o)...)
	}
	for _, v := range vantages {
		p := s.Trials.TryClass(ctx, *o, class, v)
		e.Trials = append(e.Trials, evidenceOf(p))
		e.Published = append(e.Published, p.Dialled...)
	}
	return nil
}

// asked is what is complained of as a thing to try, where no expectation has it tried already.
func (s *Service) asked(e *diagnose.Evidence, o probe.Order) []reach.Trial {
	p := *e.Packet
	if slices.ContainsFunc(o.Trials, func(t reach.Trial) bool {
		return t.Dst == p.Dst && t.Service == p.Service.String() &&
			t.Name == ""
	}) {
		return nil
	}
	t := reach.Trial{Want: true, Dst: p.Dst, Place: e.Name, Service: p.Service.String()}
	if h := e.Model.Names.HostAt(p.Dst); h != nil {
		t.Place = h.Name
		if strings.Contains(e.Name, ".") && h.DNS == e.Name {
			t.Name = h.DNS
		}
	}
	if n := e.Model.Names.NetworkOf(p.Dst); n != nil {
		t.Network = n.Name
	}
	leased := netset.Addrs{}
	if p.Src.IsValid() {
		leased = netset.OfAddrs(p.Src)
	}
	t.Computed = e.Class.Passage != nil && func() bool {
		j := e.Model.Travel(e.Class, p, leased, site.At(e.Now))
		return j.Arrives
	}()
	return []reach.Trial{t}
}

func evidenceOf(p *probe.Report) diagnose.Trial {
	t := diagnose.Trial{
		Vantage: p.Vantage, Inside: p.Inside, At: p.At, Connected: p.Connected, Fault: p.Fault, Login: p.Login,
		Largest: p.Largest,
	}
	for _, x := range p.Results {
		t.Results = append(t.Results, diagnose.Result{
			Place: x.Place, Network: x.Network, Name: x.Name, Service: x.Service, Dst: x.Dst,
			Want: x.Want, Reached: x.Seen.Reached, Served: x.Answered(), Home: x.Home, Saw: x.Seen.Reason,
		})
	}
	return t
}

// Bundle packs a diagnosis with its evidence: nothing in it is secret, for the plan refers to secrets by name only, and neither the
// journal nor reports hold any.
func (s *Service) Bundle(ctx context.Context, d Diagnosis, e *diagnose.Evidence) ([]byte, error) {
	newest, err := s.Store.Newest(ctx)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	add := func(name string, v any) {
		if err != nil {
			return
		}
		text, isText := v.(string)
		if !isText {
			var j []byte
			j, err = json.MarshalIndent(v, "", "  ")
			text = string(j) + "\n"
		}
		w, errCreate := z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate, Modified: d.At})
		if err = errors.Join(err, errCreate); err == nil {
			_, err = w.Write([]byte(text))
		}
	}
	add("diagnosis.json", d)
	add("plan.yaml", newest.Text)
	add("findings.json", e.Findings)
	add("journal.json", append(append([]diagnose.Line{}, e.Journal...), e.Others...))
	add("sessions.json", map[string]any{"live": e.Sessions, "past": e.Past, "flows": e.Flows})
	add("trials.json", e.Trials)
	add("status.json", s.Gateway.Status())
	if e.Packet != nil && e.Class.Passage != nil {
		add("journey.json", e.Model.Travel(e.Class, *e.Packet, netset.OfAddrs(e.Packet.Src), site.At(e.Now)))
	}
	if err = errors.Join(err, z.Close()); err != nil {
		return nil, err
	}
	s.Journal.Tell(reason.Of(reason.EvidenceSaved, reason.With{reason.Administrator: actor.Name(ctx), reason.What: d.Complaint}), d.User)
	return b.Bytes(), nil
}

// writtenTime is how long the newest events are waited for.
const writtenTime = 2 * time.Second

// written waits until what the gateway tells of is in the journal.
func (s *Service) written(ctx context.Context) {
	ctx, stop := context.WithTimeout(ctx, writtenTime)
	defer stop()
	s.Gateway.Written(ctx)
}
