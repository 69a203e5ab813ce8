// Package tour runs the whole job once on the demonstration site, without a person: start, commit, findings, proof,
// probes as several people, sessions, stop. With a mistake it shows who finds it.
package tour

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"strings"
	"time"

	"yellowlantern/demo"
	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/app/trials"
	"yellowlantern/internal/client"
	"yellowlantern/internal/core/check"
	"yellowlantern/internal/core/password"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/site"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/guard"
	"yellowlantern/internal/instance"
	"yellowlantern/internal/people"
	"yellowlantern/internal/postbox"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/underlay"
)

// CertificateName is the demo gateway's certificate, as its plan names it.
const CertificateName = "gate"

// Outcome is everything that one run saw.
type Outcome struct {
	Mistake   string            `json:"mistake,omitempty"`
	About     string            `json:"about,omitempty"`
	Findings  []check.Finding   `json:"findings"`
	Refused   string            `json:"refused,omitempty" doc:"Why the commit was refused."`
	Revision  int               `json:"revision"`
	Proof     []reach.Result    `json:"proof"`
	Probes    []probe.Report    `json:"probes"`
	Sessions  []gateway.Session `json:"sessions"`
	Ended     bool              `json:"ended" doc:"A session was ended, and its device noticed."`
	Took      time.Duration     `json:"took-ns"`
	OK        bool              `json:"ok" doc:"Every expectation holds, as computed and as tried."`
	Verdict   string            `json:"verdict"`
	ProofOK   bool              `json:"proof-ok"`
	TriedOK   bool              `json:"tried-ok"`
	Different bool              `json:"different" doc:"What was tried differs from what was computed: plan and site differ."`
}

// NewPassword makes a password for somebody of the demo.
func NewPassword() string {
	made, err := password.New(rand.Reader)
	if err != nil {
		panic(err) // the system's randomness does not fail
	}
	return made
}

// Demo is a started instance with Tern Island's people, ready for its plan.
type Demo struct {
	*instance.Instance
	Scenario  *demo.Scenario
	Admin     string
	Client    *client.Client
	Passwords map[string]string
}

// Prepare starts an instance and puts Tern Island's people into it. Everybody gets a password of their own.
func Prepare(ctx context.Context, mistake string, o instance.Options) (*Demo, error) {
	s, err := demo.Load(mistake)
	if err != nil {
		return nil, err
	}
	return PrepareScenario(ctx, s, o)
}

// PrepareScenario does the same with a scenario of the caller's.
func PrepareScenario(ctx context.Context, s *demo.Scenario, o instance.Options) (*Demo, error) {
	o.SiteLab = s.Site
	d := &Demo{Scenario: s, Admin: NewPassword(), Passwords: map[string]string{}}
	var err error
	if d.Instance, err = instance.Start(ctx, o); err != nil {
		return nil, err
	}
	if err := d.people(ctx); err != nil {
		d.Stop()
		return nil, err
	}
	return d, nil
}

func (d *Demo) people(ctx context.Context) error {
	if err := d.App.Access.NameAdministrator(ctx, "admin", d.Admin); err != nil {
		return err
	}
	for _, p := range d.Scenario.People {
		d.Passwords[p.User] = NewPassword()
		if err := d.People.Add(ctx, people.User{Name: p.User, FullName: p.Name, Groups: p.Groups}, d.Passwords[p.User]); err != nil {
			return err
		}
	}
	ctx = actor.With(ctx, actor.Actor{Name: "admin"})
	if _, err := d.App.Trust.Make(ctx, CertificateName, "gate.tern.example"); err != nil {
		return err
	}
	d.Client = client.New(d.URL(), "")
	return d.Client.SignIn(ctx, "admin", d.Admin, "demo")
}

// Mail gives everybody a mail address, and the plan a stand-in for a mail server that keeps what it is sent in a folder.
func (d *Demo) Mail(ctx context.Context, folder string) (*postbox.Box, error) {
	b, err := postbox.Open(postbox.Options{Listen: "127.0.0.1:0", Folder: folder})
	if err != nil {
		return nil, err
	}
	for _, p := range d.Scenario.People {
		u := people.User{Name: p.User, FullName: p.Name, Groups: p.Groups, Mail: p.User + "@tern.example"}
		if err := d.Client.Do(ctx, "PUT", "/users/"+p.User, u, nil); err != nil {
			b.Close()
			return nil, err
		}
	}
	d.Scenario.Plan += "\n# Mail to people goes to a stand-in that the demonstration brings along.\nmail-server: " + b.URL() +
		"\nmail-from: gateway@tern.example\npassword-help: true\nmail-authority: |\n  " +
		strings.ReplaceAll(strings.TrimSpace(b.Authority), "\n", "\n  ") + "\n"
	return b, nil
}

// Commit saves the scenario's plan as a draft, checks it and commits it.
func (d *Demo) Commit(ctx context.Context) (checked plans.Checked, revision int, err error) {
	c := d.Client
	if err = c.Do(ctx, "PUT", "/drafts/first", map[string]any{"text": d.Scenario.Plan, "version": 0}, nil); err != nil {
		return checked, 0, err
	}
	var review plans.Review
	if err = c.Do(ctx, "GET", "/drafts/first/review", nil, &review); err != nil {
		return checked, 0, err
	}
	var done struct {
		Revision int `json:"revision"`
	}
	err = c.Do(ctx, "POST", "/drafts/first/commit", map[string]any{"message": "Tern Island begins"}, &done)
	return review.Checked, done.Revision, err
}

// Run does the whole job once. say is told what happens.
func Run(ctx context.Context, mistake string, log *slog.Logger, say func(string)) (*Outcome, error) {
	begun := time.Now()
	folder, err := os.MkdirTemp("", "yellow-lantern-demo-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(folder)
	say("starting service, gateway and site lab on free ports")
	d, err := Prepare(ctx, mistake, instance.Options{
		Data: folder, Listen: "127.0.0.1:0", IKE: "127.0.0.1:0", NATT: "127.0.0.1:0", PasswordCost: password.Light,
		Log: log,
	})
	if err != nil {
		return nil, err
	}
	defer d.Stop()
	out := &Outcome{Mistake: mistake, Sessions: []gateway.Session{}}
	if d.Scenario.Mistake != nil {
		out.About = d.Scenario.Mistake.About
	}
	say("committing the plan")
	checked, revision, err := d.Commit(ctx)
	var refused *client.Error
	switch {
	case errors.As(err, &refused) && checked.Stops > 0:
		out.Refused = fmt.Sprintf("findings that stop it: %d", checked.Stops)
	case err != nil:
		return nil, err
	}
	out.Findings, out.Revision = checked.Findings, revision
	m, persons, err := d.Model(ctx)
	if err != nil {
		return nil, err
	}
	if out.Refused != "" {
		say("running the refused plan in the lab all the same, to show where journeys end")
		if err := d.runRefused(ctx, m); err != nil {
			return nil, err
		}
	}
	proof := reach.Prove(m, persons)
	out.Proof, out.ProofOK = proof.Results, proof.Failed == 0
	if err := d.probes(ctx, m, persons, out, say); err != nil {
		return nil, err
	}
	if out.Refused == "" {
		if err := d.sessions(ctx, m, persons, out, say); err != nil {
			return nil, err
		}
	}
	out.conclude()
	out.Took = time.Since(begun)
	return out, nil
}

// Model compiles the scenario's plan, and gives its people.
func (d *Demo) Model(ctx context.Context) (*site.Model, []reach.Person, error) {
	doc, err := plan.Read(d.Scenario.Plan)
	if err != nil {
		return nil, nil, err
	}
	m, err := site.Compile(&doc.Plan, doc.Plan.Gateways[0].Name)
	if err != nil {
		return nil, nil, err
	}
	persons, err := d.People.Persons(ctx)
	return m, persons, err
}

// runRefused hands the plan straight to the gateway: it never becomes a revision.
func (d *Demo) runRefused(ctx context.Context, m *site.Model) error {
	pair, err := d.Store.Certificate(ctx, CertificateName)
	if err != nil {
		return err
	}
	_, err = d.Runner.Apply(gateway.Settings{
		Plan: m.Plan, Gateway: m.Gateway.Name,
		Certificates: map[string]gateway.Certificate{CertificateName: {Chain: pair.Chain(), Key: pair.Key}},
	})
	return err
}

func (d *Demo) order(ctx context.Context, m *site.Model, persons []reach.Person, user string) (*probe.Order, error) {
	o, err := trials.OrderOf(reach.Compute(m, persons), user)
	if err != nil {
		return nil, err
	}
	var ca struct {
		PEM string `json:"pem"`
	}
	err = d.Client.Do(ctx, "GET", "/authority", nil, &ca)
	o.Authority = ca.PEM
	return o, err
}

// probes tries as everybody at once; the reports come in the order of the people.
func (d *Demo) probes(ctx context.Context, m *site.Model, persons []reach.Person, out *Outcome, say func(string)) error {
	people := d.Scenario.People
	out.Probes = make([]probe.Report, len(people))
	errs := make([]error, len(people))
	var wait guard.Group
	for i, p := range people {
		say("probing as " + p.User)
		wait.Go("tour.probes", func() {
			r, err := d.Probe(ctx, m, persons, p.User, out.Revision)
			if errs[i] = err; err == nil {
				out.Probes[i] = *r
			}
		})
	}
	wait.Wait()
	return errors.Join(errs...)
}

// Probe tries as one person from the first vantage, and hands the report in if there is a revision.
func (d *Demo) Probe(ctx context.Context, m *site.Model, persons []reach.Person, user string, revision int) (*probe.Report, error) {
	o, err := d.order(ctx, m, persons, user)
	if err != nil {
		return nil, err
	}
	o.Revision = revision
	u, err := underlay.Vantage(ctx, d.Lab.Vantages()[0].Link)
	if err != nil {
		return nil, err
	}
	defer u.Close()
	r, err := probe.Run(ctx, u, *o, probe.Options{Password: d.Passwords[user]})
	if err == nil && revision > 0 {
		err = d.Client.Do(ctx, "POST", "/probes", r, nil)
	}
	return r, err
}

// sessions connects somebody, lists the live session, and ends it.
func (d *Demo) sessions(ctx context.Context, m *site.Model, persons []reach.Person, out *Outcome, say func(string)) error {
	say("looking at a live session, and ending it")
	user := d.Scenario.People[0].User
	o, err := d.order(ctx, m, persons, user)
	if err != nil {
		return err
	}
	u, err := underlay.Vantage(ctx, d.Lab.Vantages()[0].Link)
	if err != nil {
		return err
	}
	defer u.Close()
	t, err := probe.Open(ctx, u, *o, probe.Options{Password: d.Passwords[user]})
	if err != nil {
		return nil // the probes have told already that nobody gets in
	}
	defer t.Close()
	if out.Sessions, err = client.Get[[]gateway.Session](ctx, d.Client, "/sessions"); err != nil {
		return err
	}
	for _, s := range out.Sessions {
		if err := d.Client.Do(ctx, "DELETE", "/sessions/"+s.ID, nil, nil); err != nil {
			return err
		}
	}
	for range 100 {
		if t.Ended() != nil {
			out.Ended = true
			return nil
		}
		time.Sleep(20 * time.Millisecond)
	}
	return nil
}

func (o *Outcome) conclude() {
	o.TriedOK = true
	for _, r := range o.Probes {
		o.TriedOK = o.TriedOK && r.OK
		o.Different = o.Different || r.Differs > 0
	}
	o.OK = o.ProofOK && o.TriedOK && o.Refused == "" && o.Ended
	switch {
	case o.OK:
		o.Verdict = "every expectation holds, as computed and as tried"
	case o.Refused != "":
		o.Verdict = "the plan is refused: " + o.Refused
	case o.ProofOK && o.Different:
		o.Verdict = "the proof holds and the trial does not: what the plan believes and what the site is differ"
	default:
		o.Verdict = "not everything is as expected"
	}
}
