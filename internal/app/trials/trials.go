// Package trials has the service try as a remote user: rounds of every class of people from vantages, orders for probes that run
// elsewhere and their reports, and the schedule by which it happens by itself.
package trials

import (
	"context"
	"log/slog"
	"net/netip"
	"sync"

	"yellowlantern/internal/app/compiled"
	"yellowlantern/internal/app/journal"
	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/app/running"
	"yellowlantern/internal/app/trust"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/guard"
	"yellowlantern/internal/people"
	"yellowlantern/internal/store"
)

// Vantage is a place that a probe can try from, where the service knows of any.
type Vantage struct {
	Name  string         `json:"name"`
	About string         `json:"about"`
	Link  netip.AddrPort `json:"link,omitzero" doc:"UDP address on loopback that carries the home network's packets; left out of enrolled probes."`
	// Enrolled is that an enrolled probe tries there.
	Enrolled  bool `json:"enrolled,omitempty" doc:"An enrolled probe tries there, on a machine elsewhere."`
	Connected bool `json:"connected,omitempty" doc:"That probe waits for something to try."`
}

// Gateway is what is running: what trials leave behind in it is ended.
type Gateway interface {
	Sessions() []gateway.Session
	End(id uint64, why reason.Reason) error
}

// Service tries.
type Service struct {
	Store    *store.Store
	People   *people.People
	Journal  *journal.Service
	Wholes   *compiled.Cache
	Plans    *plans.Service
	Trust    *trust.Service
	What     *running.Service // runs
	Gateway  Gateway
	Vantages []Vantage
	Log      *slog.Logger
	At       func() string // where devices reach the service; empty: not known
	// Running ends when the service does, and Background holds what it waits for then.
	Running    context.Context
	Background *guard.Group

	underWay sync.Mutex // one round at a time
	handed   pace
	desk     desk // where enrolled probes get what they are to try
}
