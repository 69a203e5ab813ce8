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

	"yellowlantern/internal/app/computing"
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
	// Desk runs what is worked out, and knows how far it is.
	Desk computing.Desk
	// Room is how much memory there is for it, in octets; 0: it cannot be told. What takes no more than Few is worked out all the same.
	Room func() int64
	Few  int64

	store  *store.Store
	people *people.People

	mu    sync.Mutex
	plans []*Whole // the one that was used last is the last

	last atomic.Pointer[reach.Known] // what was computed last, of whichever plan: most of it holds after an edit
}

// New makes an empty cache. The store says what findings depend on beside the text, and people who is looked at.
func New(st *store.Store, who *people.People) *Cache {
	return &Cache{Room: computing.Room, Few: 64 << 20, store: st, people: who}
}

// Whole is a plan with everything that is worked out of it, each thing when it is asked for first. Findings, reach and board are those of
// the people and certificates of the moment, and worked out anew when those change.
type Whole struct {
	Doc *plan.Document

	cache   *Cache
	digest  [sha256.Size]byte
	what    atomic.Pointer[string] // what people call it
	read    sync.Once
	unread  error
	compile sync.Once
	model   *site.Model
	fault   error

	mu       sync.Mutex
	work     *reach.Work // begun, and perhaps left: who asks again goes on with it
	workOf   uint64
	known    computing.Shared[uint64, *reach.Known]
	findings computing.Shared[around, []check.Finding]
	surplus  computing.Shared[*reach.Known, []reach.Surplus]
	pinned   computing.Shared[*reach.Known, Pinned]
}

// around is what findings depend on beside the text.
type around struct {
	people, trust, outside uint64
	minute                 int64 // certificates run out, and people's hours begin
}

// Of gives a plan. Faults in the text are the error. However many ask at once, it is read once.
func (c *Cache) Of(text string) (*Whole, error) {
	w := c.find(sha256.Sum256([]byte(text)))
	w.read.Do(func() {
		defer func() {
			if w.unread != nil {
				c.forget(w)
			}
		}()
		w.unread = errUnread // until it is
		w.Doc, w.unread = plan.Read(text)
	})
	if w.unread != nil {
		return nil, w.unread
	}
	return w, nil
}

// errUnread is of a text at which reading failed by a fault.
var errUnread = errors.New("the document could not be read: a fault in the service, which its log tells")

// Called gives a plan, and notes what people call it.
func (c *Cache) Called(name, text string) (*Whole, error) {
	w, err := c.Of(text)
	if err == nil {
		w.what.Store(&name)
	}
	return w, err
}

// Name is what people call it.
func (w *Whole) Name() string {
	if name := w.what.Load(); name != nil {
		return *name
	}
	return "a plan"
}

func (c *Cache) find(digest [sha256.Size]byte) *Whole {
	c.mu.Lock()
	defer c.mu.Unlock()
	w := &Whole{cache: c, digest: digest}
	if i := slices.IndexFunc(c.plans, func(w *Whole) bool { return w.digest == digest }); i >= 0 {
		w = c.plans[i]
		c.plans = slices.Delete(c.plans, i, i+1)
	}
	if c.plans = append(c.plans, w); len(c.plans) > kept {
		c.plans = slices.Delete(c.plans, 0, 1)
	}
	return w
}

// forget leaves what cannot be read: it would push out what can.
func (c *Cache) forget(w *Whole) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.plans = slices.DeleteFunc(c.plans, func(x *Whole) bool { return x == w })
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

// Findings are what the checks find, with the people, certificates and secrets of the moment. They are shared: do not change them.
func (w *Whole) Findings(ctx context.Context) ([]check.Finding, error) {
	now := time.Now()
	st := w.cache.store
	of := around{st.PeopleVersion(), st.TrustVersion(), st.OutsideVersion(), now.Unix() / 60}
	return w.findings.Get(ctx, &w.cache.Desk, w.Name(), of, func(ctx context.Context, r *computing.Run) ([]check.Finding, error) {
		in, err := w.input(ctx, now)
		if err != nil {
			return nil, err
		}
		if in.Known, err = w.Known(ctx); err != nil && !errors.Is(err, ErrNoGateway) {
			return nil, err
		}
		work := check.Begin(in)
		if err := r.Do(ctx, "findings", work); err != nil {
			return nil, err
		}
		return work.Findings(), nil
	})
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
