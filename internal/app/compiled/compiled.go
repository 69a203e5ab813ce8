// Package compiled keeps what was worked out of the plans that are looked at just now: each text is read, compiled, checked and computed
// once, whoever looks at it and however often. A plan is found by its text's digest, so two people with the same draft share one.
package compiled

import (
	"context"
	"crypto/sha256"
	"errors"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"yellowlantern/internal/core/check"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/site"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/people"
	"yellowlantern/internal/store"
)

// kept is how many plans are remembered: what runs, what it is compared with, and some drafts.
const kept = 4

// Cache remembers plans. It is safe for use by many.
type Cache struct {
	store  *store.Store
	people *people.People

	mu    sync.Mutex
	plans []*Whole // the one that was used last is the last

	last atomic.Pointer[reach.Known] // what was computed last, of whichever plan: most of it holds after an edit
}

// New makes an empty cache. The store says what findings depend on beside the text, and people who is looked at.
func New(st *store.Store, who *people.People) *Cache { return &Cache{store: st, people: who} }

// Whole is a plan with everything that is worked out of it, each thing when it is asked for first. Findings, reach and board are those of
// the people and certificates of the moment, and worked out anew when those change.
type Whole struct {
	Doc *plan.Document

	cache   *Cache
	digest  [sha256.Size]byte
	compile sync.Once
	model   *site.Model
	fault   error

	mu       sync.Mutex // whoever comes while it is worked out waits, and has it
	known    *reach.Known
	people   uint64 // that it was computed for
	findings []check.Finding
	around   around
	board    reach.Board
	boardOf  *reach.Known
}

// around is what findings depend on beside the text.
type around struct {
	people, trust, outside uint64
	minute                 int64 // certificates run out, and people's hours begin
}

// Of gives a plan. Faults in the text are the error.
func (c *Cache) Of(text string) (*Whole, error) {
	digest := sha256.Sum256([]byte(text))
	if w := c.find(digest); w != nil {
		return w, nil
	}
	doc, err := plan.Read(text)
	if err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if i := slices.IndexFunc(c.plans, func(w *Whole) bool { return w.digest == digest }); i >= 0 { // somebody was quicker
		return c.plans[i], nil
	}
	w := &Whole{Doc: doc, cache: c, digest: digest}
	if c.plans = append(c.plans, w); len(c.plans) > kept {
		c.plans = slices.Delete(c.plans, 0, 1)
	}
	return w, nil
}

func (c *Cache) find(digest [sha256.Size]byte) *Whole {
	c.mu.Lock()
	defer c.mu.Unlock()
	i := slices.IndexFunc(c.plans, func(w *Whole) bool { return w.digest == digest })
	if i < 0 {
		return nil
	}
	w := c.plans[i]
	c.plans = append(slices.Delete(c.plans, i, i+1), w)
	return w
}

// Read gives a plan's document alone.
func (c *Cache) Read(text string) (*plan.Document, error) {
	w, err := c.Of(text)
	if err != nil {
		return nil, err
	}
	return w.Doc, nil
}

// ErrNoGateway is the error of a plan that says nothing of a gateway: nothing is reached, and nothing runs.
var ErrNoGateway = errors.New("the plan has no gateway")

// Model compiles the plan for its first gateway; ErrNoGateway without one.
func (w *Whole) Model() (*site.Model, error) {
	w.compile.Do(func() { w.model, w.fault = Model(&w.Doc.Plan) })
	return w.model, w.fault
}

// Model compiles a plan that nobody will look at again.
func Model(p *plan.Plan) (*site.Model, error) {
	if len(p.Gateways) == 0 {
		return nil, ErrNoGateway
	}
	m, err := site.Compile(p, p.Gateways[0].Name)
	if err != nil {
		return nil, err
	}
	if zone, err := gateway.Zone(p); err == nil { // an unknown zone is a finding of its own
		m.In(zone)
	}
	return m, nil
}

// Known is the reach and proof of the people of the moment. What is known of the plan that was looked at last is taken over where it holds.
func (w *Whole) Known(ctx context.Context) (*reach.Known, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.compute(ctx)
}

// compute works reach out. w.mu is held.
func (w *Whole) compute(ctx context.Context) (*reach.Known, error) {
	m, err := w.Model()
	if err != nil {
		return nil, err
	}
	version := w.cache.store.PeopleVersion() // before they are read: whoever changes them meanwhile has it computed again
	if w.known != nil && w.people == version {
		return w.known, nil
	}
	persons, err := w.cache.people.Persons(ctx)
	if err != nil {
		return nil, err
	}
	w.known, w.people = w.cache.last.Load().Again(m, persons), version
	w.cache.last.Store(w.known)
	return w.known, nil
}

// Board is the reach board. It is shared: do not change it.
func (w *Whole) Board(ctx context.Context) (reach.Board, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	known, err := w.compute(ctx)
	if err != nil {
		return reach.Board{}, err
	}
	if w.boardOf != known {
		w.board, w.boardOf = known.Board(), known
	}
	return w.board, nil
}

// Findings are what the checks find, with the people, certificates and secrets of the moment. They are shared: do not change them.
func (w *Whole) Findings(ctx context.Context) ([]check.Finding, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	now := time.Now()
	st := w.cache.store
	of := around{st.PeopleVersion(), st.TrustVersion(), st.OutsideVersion(), now.Unix() / 60}
	if w.findings != nil && w.around == of {
		return w.findings, nil
	}
	in, err := w.input(ctx, now)
	if err != nil {
		return nil, err
	}
	if in.Known, err = w.compute(ctx); err != nil && !errors.Is(err, ErrNoGateway) {
		return nil, err
	}
	w.findings, w.around = check.Run(in), of
	return w.findings, nil
}

func (w *Whole) input(ctx context.Context, now time.Time) (in check.Input, err error) {
	in = check.Input{Doc: w.Doc, Now: now, Secrets: map[string]bool{}, KnowsZone: knowsZone}
	st := w.cache.store
	if in.People, err = w.cache.people.Persons(ctx); err != nil {
		return in, err
	}
	if in.Certificates, in.Authority, err = st.Trusted(ctx); err != nil {
		return in, err
	}
	administrators, err := st.Administrators(ctx)
	if err != nil {
		return in, err
	}
	for _, a := range administrators {
		in.Administrators = append(in.Administrators, check.Administrator{Name: a.Name, Role: a.Role, Source: a.Source})
	}
	if in.Outside, err = st.SeenFromOutside(ctx); err != nil {
		return in, err
	}
	shared, err := st.AllShared(ctx)
	for _, x := range shared {
		in.Secrets[x.Name] = true
	}
	return in, err
}

func knowsZone(name string) bool {
	_, err := time.LoadLocation(name)
	return err == nil && name != "Local"
}
