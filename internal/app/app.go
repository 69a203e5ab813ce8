// Package app is what the service does, put together of its parts, one package each. It knows no HTTP: whoever serves it to somebody gives
// orders to the parts.
package app

import (
	"cmp"
	"context"
	"crypto/x509"
	"log/slog"
	"net/netip"
	"sync/atomic"
	"time"

	"yellowlantern/internal/app/access"
	"yellowlantern/internal/app/accounting"
	"yellowlantern/internal/app/authorities"
	"yellowlantern/internal/app/changes"
	"yellowlantern/internal/app/commits"
	"yellowlantern/internal/app/compiled"
	"yellowlantern/internal/app/diagnosis"
	"yellowlantern/internal/app/equipment"
	"yellowlantern/internal/app/handover"
	"yellowlantern/internal/app/journal"
	"yellowlantern/internal/app/mailing"
	"yellowlantern/internal/app/members"
	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/app/proofs"
	"yellowlantern/internal/app/running"
	"yellowlantern/internal/app/sources"
	"yellowlantern/internal/app/standing"
	"yellowlantern/internal/app/trials"
	"yellowlantern/internal/app/trust"
	"yellowlantern/internal/app/watching"
	"yellowlantern/internal/app/whois"
	"yellowlantern/internal/core/password"
	"yellowlantern/internal/guard"
	"yellowlantern/internal/people"
	"yellowlantern/internal/revocation"
	"yellowlantern/internal/store"
)

// Gateway is what carries plans out: each part says what it asks of it.
type Gateway interface {
	running.Gateway
	plans.Gateway
	trials.Gateway
	members.Gateway
	proofs.Gateway
	watching.Gateway
	diagnosis.Gateway
}

// Config is what the service is made of.
type Config struct {
	Store    *store.Store
	People   *people.People
	Gateway  Gateway
	Vantages []trials.Vantage
	Log      *slog.Logger
	// KeepJournal is for how long lines of the journal are kept; 0: for ever.
	KeepJournal time.Duration
	// OutsideAddresses finds the machine's public addresses towards a name server; nil: as nameupdate does.
	OutsideAddresses func(server string) ([]netip.Addr, error)
	// Roots are the authorities that calls to keep the name up to date believe; nil: the system's.
	Roots *x509.CertPool
	// Webhook is told of events that somebody should look at; nil: nobody is.
	Webhook *journal.Webhook
	// Collector is sent every line of the journal; nil: nobody is.
	Collector *journal.Collector
	// SetupCode must be told to name the first administrator.
	SetupCode string
	// PasswordCost is what it costs to try an administrator's password; the zero value: as recommended.
	PasswordCost password.Cost
	// Names are what a proxy in front calls this service.
	Names []string
	// At is where people and their devices reach what is open to them, such as https://kits.tern.example, where the plan does not say;
	// empty: not known.
	At string
}

// App is the parts.
type App struct {
	Journal     *journal.Service
	Running     *running.Service
	Trust       *trust.Service
	Authorities *authorities.Service
	Sources     *sources.Service
	Accounting  *accounting.Service
	Changes     *changes.Service
	Equipment   *equipment.Service
	Whois       *whois.Service
	Plans       *plans.Service
	Trials      *trials.Service
	Commits     *commits.Service
	Proofs      *proofs.Service
	Mailing     *mailing.Service
	Members     *members.Service
	Handover    *handover.Service
	Watching    *watching.Service
	Diagnosis   *diagnosis.Service
	Access      *access.Service
	Standing    *standing.Service
	Log         *slog.Logger

	store       *store.Store
	otherwiseAt string
	keepJournal time.Duration
	leave       context.CancelFunc
	background  guard.Group // rounds, and what hears of events
}

// New puts the parts together. Close ends what they leave going on.
func New(cfg Config) *App {
	a := &App{Log: cfg.Log, store: cfg.Store, otherwiseAt: cfg.At, keepJournal: cfg.KeepJournal}
	var until context.Context
	until, a.leave = context.WithCancel(context.Background())
	wholes, attempts := compiled.New(cfg.Store, cfg.People), &people.Guesses{}
	wholes.Desk.Log = cfg.Log
	a.Journal = journal.New(cfg.Store, cfg.Log, cfg.Webhook)
	a.Journal.Collector = cfg.Collector
	a.Running = &running.Service{
		Store: cfg.Store, Journal: a.Journal, Wholes: wholes, Gateway: cfg.Gateway, Log: cfg.Log,
	}
	a.Trust = &trust.Service{Store: cfg.Store, Running: a.Running, Wholes: wholes, Names: cfg.Names}
	a.Running.Shown = func(ctx context.Context, name, host string) error {
		return a.Trust.Keep(ctx, trust.ByCode, name, []string{host})
	}
	a.Plans = &plans.Service{Store: cfg.Store, People: cfg.People, Wholes: wholes, Gateway: cfg.Gateway, Log: cfg.Log}
	a.Trials = &trials.Service{
		Store: cfg.Store, People: cfg.People, Journal: a.Journal, Wholes: wholes, Plans: a.Plans, Trust: a.Trust, What: a.Running,
		Gateway: cfg.Gateway, Vantages: cfg.Vantages, Log: cfg.Log, Running: until, Background: &a.background, At: a.at,
	}
	a.Commits = &commits.Service{
		Store: cfg.Store, Journal: a.Journal, Plans: a.Plans, Running: a.Running, Trials: a.Trials, Log: cfg.Log, Until: until,
		Background: &a.background,
	}
	a.Proofs = &proofs.Service{Store: cfg.Store, Plans: a.Plans, Trials: a.Trials, Running: a.Running, Gateway: cfg.Gateway}
	a.Mailing = &mailing.Service{Store: cfg.Store, Journal: a.Journal, Log: cfg.Log, Plan: a.Running.Plan}
	if cfg.People != nil { // the API's document is written without any
		cfg.People.Mail = a.Mailing
	}
	trials := &people.Guesses{}
	a.Members = &members.Service{
		Store: cfg.Store, People: cfg.People, Journal: a.Journal, Wholes: wholes, Gateway: cfg.Gateway, Trust: a.Trust,
		Console: attempts, Trials: trials, At: a.at, Mail: a.Mailing, Plan: a.Running.Plan,
		Background: func(do func(context.Context)) { a.background.Go("app.background", func() { do(until) }) },
	}
	a.Authorities = &authorities.Service{
		Store: cfg.Store, People: cfg.People, Journal: a.Journal, Running: a.Running, Plans: a.Plans, Gateway: cfg.Gateway, Known: revocation.New(cfg.Store),
	}
	a.Sources = &sources.Service{Store: cfg.Store, Running: a.Running, Plans: a.Plans, Journal: a.Journal, Guesses: trials}
	a.Accounting = &accounting.Service{Store: cfg.Store, People: cfg.People, Sources: a.Sources, Gateway: cfg.Gateway, Log: cfg.Log}
	a.Changes = &changes.Service{
		People: cfg.People, Sources: a.Sources, Gateway: cfg.Gateway, Settle: a.Members.Settle, Log: cfg.Log,
	}
	a.Equipment = &equipment.Service{Store: cfg.Store, People: cfg.People, Running: a.Running, Journal: a.Journal, Log: cfg.Log}
	a.Whois = &whois.Service{Store: cfg.Store, People: cfg.People, Plans: a.Plans, Sources: a.Sources, Gateway: cfg.Gateway}
	a.Authorities.Known.Tell = a.Authorities.Told
	if cfg.People != nil { // the document of the API is made without any
		cfg.People.Foreign = a.Authorities
		cfg.People.Ways = ways{a.Running, cfg.Store, new(atomic.Pointer[settled])}
		cfg.People.Sources = a.Sources
	}
	a.Trust.Revoked = a.Members.RevokedSerial
	a.Handover = &handover.Service{
		Store: cfg.Store, People: cfg.People, Plans: a.Plans, Trust: a.Trust, Journal: a.Journal, At: a.at, Gateway: cfg.Gateway,
	}
	a.Handover.Own, a.Plans.Kits = a.Trials.MakeKit, a.Handover.Changes
	a.Handover.Invite = func(ctx context.Context, user, device string) (string, string, error) {
		i, err := a.Members.Invite(ctx, user, device, 0)
		return i.URL, i.Challenge, err
	}
	a.Watching = &watching.Service{
		Store: cfg.Store, Journal: a.Journal, Wholes: wholes, Plans: a.Plans, Trials: a.Trials, Gateway: cfg.Gateway, Log: cfg.Log,
		OutsideAddresses: cfg.OutsideAddresses, Roots: cfg.Roots, Until: until,
	}
	a.Diagnosis = &diagnosis.Service{
		Store: cfg.Store, People: cfg.People, Journal: a.Journal, Plans: a.Plans, Trust: a.Trust, Trials: a.Trials, Gateway: cfg.Gateway,
		Log: cfg.Log,
	}
	a.Access = &access.Service{
		Store: cfg.Store, Journal: a.Journal, Log: cfg.Log, SetupCode: cfg.SetupCode, Attempts: attempts, Cost: cmp.Or(cfg.PasswordCost, password.Recommended),
		Factors: cfg.People, Plan: a.Running.Plan, Elsewhere: a.Sources, Mail: a.Mailing,
		Background: func(do func(context.Context)) { a.background.Go("app.background", func() { do(until) }) },
	}
	a.Plans.Stands = a.Access.Stands
	a.Standing = &standing.Service{
		Store: cfg.Store, Wholes: wholes, Running: a.Running, Trust: a.Trust, Watching: a.Watching, Authorities: a.Authorities, Sources: a.Sources,
		Clock: standing.SystemClock, Elsewhere: standing.Elsewhere, Behind: a.Accounting.Behind, Deaf: a.Changes.Problems, Equipment: a.Equipment.Problem, Unsent: a.Journal.Unsent, Unmailed: a.Mailing.Problem,
		LastResort: a.Access.LastResort, Probes: a.Trials.Connected,
	}
	a.Diagnosis.Status = a.Standing.Look
	a.background.Keep("journal.webhook", func() { a.Journal.Send(until) })
	a.background.Keep("journal.syslog", func() { a.Journal.SendOn(until) })
	return a
}

// at is where people and their devices reach what is open to them: as the plan says that runs, or as the service was told.
func (a *App) at() string {
	if p := a.Running.Plan(); p != nil && p.KitsAt != "" {
		return p.KitsAt
	}
	return a.otherwiseAt
}

// Kits is where the pages of kits are, and the name of the certificate that the plan wants there; empty: it says nothing of it.
func (a *App) Kits() (at, certificate string) {
	if p := a.Running.Plan(); p != nil {
		certificate = p.KitsShown
	}
	return a.at(), certificate
}

// Resume takes up what the service left when it ended: what runs, a commit under way, rounds.
func (a *App) Resume(ctx context.Context) error {
	if err := a.Trials.StopLeft(ctx); err != nil { // a full disk, say: that stops writing, and nothing else
		a.Log.Error("rounds that were under way are not noted as stopped", "error", err)
	}
	if err := a.Members.RestoreSlowed(ctx); err != nil {
		return err
	}
	return a.Commits.Resume(ctx)
}

// Leave ends what goes on without anybody waiting for it: rounds, and what viewers look at.
func (a *App) Leave() { a.leave() }

// Close ends what waits; a trial goes on at the next start.
func (a *App) Close() {
	a.leave()
	a.background.Wait()
	a.keepSlowed(context.Background())
	a.Commits.Close()
}
