// Package agent is how a gateway is told what to run, and tells what it sees: its desired state goes in, and what it observes, events with
// a sequence number, answers to questions and inquiries about who may come in come out. All of it is values that can be put over a wire.
// Both sides are in one process, or the gateway is in one of its own (package socket).
package agent

import (
	"context"
	"io"
	"net/netip"
	"time"

	"yellowlantern/internal/core/forward"
	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/gateway"
)

// Agent is a gateway as seen by whoever tells it what to run. An error means that it was not reached, or could not do it; then nothing was
// changed.
type Agent interface {
	// Hand hands over what is to run. It runs when the call returns.
	Hand(ctx context.Context, want Desired) (Applied, error)
	// Stop ends every session; nobody is admitted until something is handed over.
	Stop(ctx context.Context) error
	Observe(ctx context.Context) (Observed, error)
	// Events gives what happened after a mark, oldest first, and waits until there is something, or the context ends: then it gives
	// nothing. What is up to that mark is acknowledged, and is not kept any longer.
	Events(ctx context.Context, after Mark) (Events, error)
	// Inquiries gives what the gateway wants to know, after a mark, and waits likewise. Each is given until it is settled.
	Inquiries(ctx context.Context, after Mark) (Inquiries, error)
	// Settle hands over rulings on inquiries of a desk.
	Settle(ctx context.Context, of string, rulings []Ruling) error
	// Ask puts a question.
	Ask(ctx context.Context, q Question) (Answer, error)
	// Record writes a session's packets as pcapng until a limit is reached.
	Record(ctx context.Context, id uint64, limits gateway.RecordLimits, w io.Writer) error
}

// Desired is what a gateway is to run: its own part of a plan.
type Desired struct {
	Revision     int           `json:"revision"`
	Gateway      string        `json:"gateway"`
	Plan         plan.Plan     `json:"plan"`
	Again        bool          `json:"again,omitempty"`       // it ran before: what the machine does not have yet may still come
	Certificates []Certificate `json:"certificates"`          // with their keys: whatever carries this is as secret as they are
	Authorities  [][]byte      `json:"authorities,omitempty"` // of people's certificates, DER
}

// Certificate is a certificate with its key.
type Certificate struct {
	Name  string   `json:"name"`
	Chain [][]byte `json:"chain"` // DER, the gateway's first
	Key   []byte   `json:"key"`   // PKCS #8 (RFC 5958)
	Root  []byte   `json:"root,omitempty"`
}

// Applied is what came of handing something over.
type Applied struct {
	Ended []string `json:"ended"` // users whose sessions had to end
}

// Observed is how a gateway is.
type Observed struct {
	Revision int             `json:"revision"` // that runs; 0: none
	Status   gateway.Status  `json:"status"`
	Inside   inside.Observed `json:"inside"`
	Sequence uint64          `json:"sequence"` // of the newest event
}

// Events are what happened.
type Events struct {
	Of     string  `json:"of"` // the log that numbers them
	Events []Event `json:"events,omitempty"`
}

// Event is something that happened: one of both.
type Event struct {
	Sequence uint64         `json:"sequence"`
	Line     *gateway.Event `json:"line,omitempty"`
	Over     *Over          `json:"over,omitempty"`
}

// Over is a session that ended.
type Over struct {
	Session gateway.Session `json:"session"`
	Why     reason.Reason   `json:"why"`
	At      time.Time       `json:"at"`
}

// Question is one of these.
type Question struct {
	Sessions bool   `json:"sessions,omitempty"`
	Pools    bool   `json:"pools,omitempty"`
	Inside   bool   `json:"inside,omitempty"` // without everything else that is observed
	Flows    *Flows `json:"flows,omitempty"`
	End      *End   `json:"end,omitempty"`
	Limit    *Limit `json:"limit,omitempty"`
	// Preview asks what a plan would make of the gateway's machine.
	Preview *Preview `json:"preview,omitempty"`
	// Lookup asks where the gateway's machine would send a packet.
	Lookup netip.Addr `json:"lookup,omitzero"`
	// Follow asks for a record of a user's logins and packets from now on, and Followed for what it holds, with which it ends.
	Follow   string `json:"follow,omitempty"`
	Followed string `json:"followed,omitempty"`
	// Written asks for the mark of the newest event, once everything that happened so far is one.
	Written bool `json:"written,omitempty"`
}

// Flows asks for live flows: of a user, with an end at an address, of a service, where given.
type Flows struct {
	User    string     `json:"user,omitempty"`
	Peer    netip.Addr `json:"peer,omitzero"`
	Service string     `json:"service,omitempty"`
	Most    int        `json:"most"`
}

// Preview is a gateway's own part of a plan.
type Preview struct {
	Gateway string    `json:"gateway"`
	Plan    plan.Plan `json:"plan"`
}

// End asks for a session to end.
type End struct {
	ID  uint64        `json:"id"`
	Why reason.Reason `json:"why"`
}

// Limit tells what a person's own limits are now.
type Limit struct {
	User   string       `json:"user"`
	Limits login.Limits `json:"limits,omitzero"`
}

// Answer is what was asked for.
type Answer struct {
	Sessions []Session       `json:"sessions,omitempty"`
	Pools    []gateway.Pool  `json:"pools,omitempty"`
	Flows    []forward.Flow  `json:"flows,omitempty"`
	Inside   inside.Observed `json:"inside,omitzero"`
	Preview  inside.Preview  `json:"preview,omitzero"`
	Looked   *inside.Looked  `json:"looked,omitempty"`
	Written  Mark            `json:"written,omitzero"`
	// Follows says that a record is kept, or was.
	Follows  bool             `json:"follows,omitempty"`
	Evidence forward.Evidence `json:"evidence,omitzero"`
}

// Session is a live session with what its device was told at login.
type Session struct {
	gateway.Session
	Told gateway.Told `json:"told"`
}
