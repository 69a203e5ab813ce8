package agent

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"yellowlantern/internal/core/crowd"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/gateway"
)

const (
	// deskPatience is for how long a gateway waits for a ruling, within the 30 s that a login may take: a service that starts again
	// meanwhile is asked then.
	deskPatience = 20 * time.Second
	// deskMost bounds what waits for a ruling at once, and deskShare what of the logins of one source does.
	deskMost  = 4096
	deskShare = 256
)

// Inquiry is what a gateway cannot know by itself: one of these.
type Inquiry struct {
	ID     uint64         `json:"id"` // counted up
	Round  *Round         `json:"round,omitempty"`
	Person string         `json:"person,omitempty"` // who this user is now
	Admit  *gateway.Event `json:"admit,omitempty"`  // to be recorded before somebody is let in
	Again  *Again         `json:"again,omitempty"`
	Key    *login.Key     `json:"key,omitempty"` // whose it is

	Shared *login.SharedKey `json:"shared,omitempty"`
	// Over is the number of a conversation that goes no further; nothing is ruled on it.
	Over  uint64       `json:"over,omitempty"`
	Code  *login.Code  `json:"code,omitempty"`
	Coded *login.Coded `json:"coded,omitempty"`
}

// Again is somebody who logged in earlier, and what stood for what they logged in with.
type Again struct {
	User  string `json:"user"`
	Stamp string `json:"stamp"`
}

// Round is one round of a login.
type Round struct {
	Talk    uint64     `json:"talk"`   // the conversation's number
	Begins  bool       `json:"begins"` // with these
	Call    login.Call `json:"call,omitzero"`
	Message []byte     `json:"message,omitempty"`
}

// Ruling answers an inquiry.
type Ruling struct {
	ID      uint64        `json:"id"`
	Step    login.Step    `json:"step,omitzero"`
	Outcome login.Outcome `json:"outcome,omitzero"`
	Shared  login.Shared  `json:"shared,omitzero"`
	// Standing is who a person is.
	Standing login.Standing `json:"standing,omitzero"`
	Stamp    bool           `json:"stamp,omitempty"` // the stamp is another now
	Coded    time.Time      `json:"coded,omitzero"`
	Error    string         `json:"error,omitempty"`
}

// Inquiries are what waits for rulings.
type Inquiries struct {
	Of        string    `json:"of"` // the desk that numbers them
	Inquiries []Inquiry `json:"inquiries,omitempty"`
}

// Desk is where a gateway asks who may come in, and waits for whoever rules on it. Nobody there means that logins are left to be tried
// again. It is the gateway's People.
type Desk struct {
	name     string
	Patience time.Duration

	closed chan struct{}
	once   sync.Once

	mu      sync.Mutex
	last    uint64
	talks   uint64
	waiting []*inquiry    // by number
	sources crowd.Count   // of what waits of logins
	more    chan struct{} // closed when something comes; nil: nobody waits
}

type inquiry struct {
	Inquiry
	ruled  chan Ruling // nil: nobody waits for one
	source netip.Addr  // of the login that it is of; not valid: it is of none
}

var _ gateway.People = (*Desk)(nil)

// NewDesk opens a desk.
func NewDesk() *Desk {
	return &Desk{name: newName(), Patience: deskPatience, closed: make(chan struct{})}
}

// Close leaves everything that waits, and whatever comes, to be tried again: the gateway ends.
func (d *Desk) Close() { d.once.Do(func() { close(d.closed) }) }

var errCrowded = fmt.Errorf("%w: too many wait already", gateway.ErrLater)

// put has something wait; false: too much waits already, in all or of its source. d.mu is held.
func (d *Desk) put(w *inquiry) bool {
	if len(d.waiting) >= deskMost || w.source.IsValid() && d.sources.Of(w.source) >= deskShare {
		return false
	}
	d.last++
	w.ID = d.last
	d.waiting = append(d.waiting, w)
	if w.source.IsValid() {
		d.sources.Add(w.source)
	}
	if d.more != nil {
		close(d.more)
		d.more = nil
	}
	return true
}

// remove takes out what waits no longer. d.mu is held.
func (d *Desk) remove(which func(*inquiry) bool) {
	d.waiting = slices.DeleteFunc(d.waiting, func(w *inquiry) bool {
		if !which(w) {
			return false
		}
		if w.source.IsValid() {
			d.sources.Remove(w.source)
		}
		return true
	})
}

// ask waits for a ruling.
func (d *Desk) ask(ctx context.Context, i Inquiry) (Ruling, error) {
	return d.askFor(ctx, netip.Addr{}, i)
}

// askFor does the same for a login that comes from somewhere.
func (d *Desk) askFor(ctx context.Context, source netip.Addr, i Inquiry) (Ruling, error) {
	w := &inquiry{Inquiry: i, ruled: make(chan Ruling, 1), source: source}
	d.mu.Lock()
	if !d.put(w) {
		d.mu.Unlock()
		return Ruling{}, errCrowded
	}
	d.mu.Unlock()
	ctx, stop := context.WithTimeout(ctx, d.Patience)
	defer stop()
	select {
	case r := <-w.ruled:
		if r.Error != "" {
			return r, errors.New(r.Error)
		}
		return r, nil
	case <-ctx.Done():
	case <-d.closed:
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.remove(func(x *inquiry) bool { return x == w })
	return Ruling{}, gateway.ErrLater
}

// inquiries gives what waits with a number after one of this desk's; nothing if the context ends before there is any.
func (d *Desk) inquiries(ctx context.Context, after Mark) Inquiries {
	out := Inquiries{Of: d.name}
	from := uint64(0)
	if after.Of == d.name {
		from = after.Sequence
	}
	for {
		d.mu.Lock()
		d.remove(func(w *inquiry) bool { return w.ruled == nil && w.ID <= from }) // it is known there
		for _, w := range d.waiting {
			if w.ID > from {
				out.Inquiries = append(out.Inquiries, w.Inquiry)
			}
		}
		if len(out.Inquiries) > 0 {
			d.mu.Unlock()
			return out
		}
		if d.more == nil {
			d.more = make(chan struct{})
		}
		more := d.more
		d.mu.Unlock()
		select {
		case <-more:
		case <-ctx.Done():
			return out
		}
	}
}

// settle takes rulings on this desk's inquiries; those of another one, or that nobody waits for, are nobody's.
func (d *Desk) settle(of string, rulings []Ruling) {
	if of != d.name {
		return
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, r := range rulings {
		d.remove(func(w *inquiry) bool {
			if w.ID != r.ID || w.ruled == nil {
				return false
			}
			w.ruled <- r
			return true
		})
	}
}

// Begin implements gateway.People.
func (d *Desk) Begin(c login.Call) login.Conversation {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.talks++
	t := &talk{d: d, source: c.From, round: Round{Talk: d.talks, Begins: true, Call: c}}
	t.goesOn, t.over = context.WithCancel(context.Background())
	return t
}

// Standing implements gateway.People.
func (d *Desk) Standing(ctx context.Context, user string) (login.Standing, error) {
	r, err := d.ask(ctx, Inquiry{Person: user})
	return r.Standing, err
}

// Owner implements gateway.People.
func (d *Desk) Owner(ctx context.Context, shown login.Key) login.Outcome {
	r, err := d.ask(ctx, Inquiry{Key: &shown})
	if err != nil {
		return login.Outcome{Why: reason.Of(reason.LoginsLater, reason.With{reason.Error: err.Error()})}
	}
	return r.Outcome
}

// Shared implements gateway.People.
func (d *Desk) Shared(ctx context.Context, ask login.SharedKey) login.Shared {
	r, err := d.ask(ctx, Inquiry{Shared: &ask})
	if err != nil {
		return login.Shared{Outcome: login.Outcome{Why: reason.Of(reason.LoginsLater, reason.With{reason.Error: err.Error()})}}
	}
	return r.Shared
}

// Code implements gateway.People.
func (d *Desk) Code(ctx context.Context, c login.Code) login.Outcome {
	r, err := d.ask(ctx, Inquiry{Code: &c})
	if err != nil {
		return login.Outcome{User: c.User, Known: true, Why: reason.Of(reason.LoginsLater, reason.With{reason.Error: err.Error()})}
	}
	return r.Outcome
}

// Coded implements gateway.People.
func (d *Desk) Coded(ctx context.Context, c login.Coded) time.Time {
	r, _ := d.ask(ctx, Inquiry{Coded: &c}) // whoever is asked for nothing is not let in for that
	return r.Coded
}

// Again implements gateway.People.
func (d *Desk) Again(ctx context.Context, user, stamp string) (login.Standing, error) {
	r, err := d.ask(ctx, Inquiry{Again: &Again{user, stamp}})
	if r.Stamp {
		err = login.ErrStamp
	}
	return r.Standing, err
}

// Admit has an admission recorded; gateway.ErrLater where nobody rules on it.
func (d *Desk) Admit(e gateway.Event) error {
	_, err := d.ask(context.Background(), Inquiry{Admit: &e})
	return err
}

// talk is a conversation that is carried on elsewhere.
type talk struct {
	d      *Desk
	source netip.Addr
	round  Round
	goesOn context.Context
	over   context.CancelFunc
	begun  atomic.Bool // somebody there may know of it
}

// Next implements login.Conversation.
func (t *talk) Next(message []byte) login.Step {
	round := t.round
	round.Message = message
	t.round.Begins, t.round.Call = false, login.Call{}
	t.begun.Store(true)
	r, err := t.d.askFor(t.goesOn, t.source, Inquiry{Round: &round})
	if err != nil {
		return unheard(err.Error())
	}
	if r.Step.Over {
		t.begun.Store(false)
	}
	return r.Step
}

// End implements login.Conversation. It may come while Next is under way, which returns then.
func (t *talk) End() {
	t.over()
	if !t.begun.Swap(false) {
		return
	}
	t.d.mu.Lock()
	defer t.d.mu.Unlock()
	t.d.put(&inquiry{Inquiry: Inquiry{Over: t.round.Talk}}) // where there is no room it is forgotten there by its time
}

// unheard leaves a login to be tried again.
func unheard(why string) login.Step {
	return login.Step{Over: true, Later: true, Outcome: login.Outcome{
		Why: reason.Of(reason.LoginsLater, reason.With{reason.Error: why}),
	}}
}
