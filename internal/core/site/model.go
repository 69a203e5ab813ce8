// Package site compiles a plan into the stations of docs/semantics.md. Each station's file holds what it does to one
// packet and, beside it, what it does to a set of packets. Forwarding, reach, journeys and checks consume only this.
// A Model does not change once compiled and may be used from many goroutines. Flows, counters and time are left to
// package forward.
package site

import (
	"fmt"
	"net/netip"
	"strings"
	"sync"
	"time"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
)

// Station names, as in docs/semantics.md.
const (
	Admission   = "admission"
	Device      = "device"
	OwnServices = "own-services" // what the gateway answers by itself
	Selectors   = "selectors"
	Source      = "source"
	Held        = "held" // until a second factor is given
	Rules       = "rules"
	Routing     = "route"
	Translating = "translation"
	Size        = "size"
	Fragments   = "fragments" // no station of journeys: where parts wait for the whole
	Onward      = "onward"
	Return      = "return"
	State       = "state"
	Approach    = "approach" // of what is opened from inside: its way to the gateway
	Origin      = "origin"   // whether it comes from where it says
)

// Model is one gateway's view of a compiled plan. Plan is settled: passages have what they take from defaults.
type Model struct {
	Plan       *plan.Plan
	Names      *plan.Names
	Gateway    *plan.Gateway
	passages   []Passage
	rules      []Rule
	rulesFor   map[string][]int // by group; everyone: rules that name none
	timed      bool             // some rule has hours
	zone       *time.Location
	taken      map[string]string // settings of passages that are defaults, by path
	nat        []entry
	table      longest[hop]
	own        netset.Addrs
	page       netset.Addrs   // of the code page
	beyondPing netset.Traffic // what only a rule about the gateway itself permits
	pools      netset.Addrs
	never      netset.Addrs
	notMeant   netset.Addrs
	devices    map[string]*device
	owners     map[netip.Addr]string
	routed     netset.Addrs
	ways       []wayOut
	cells      []cell
	returns    returns
	cuts       []netset.Addrs // sets that a station tests a source against
	classes    sync.Map       // by groups: what is worked out stays as it is
	onward     netset.Addrs
}

// Verdict is what a station says of one packet.
type Verdict struct {
	OK      bool
	Setting string // path of the setting that decided
	Words   string // why, in plain words
}

func pass(setting, format string, args ...any) Verdict {
	return Verdict{true, setting, fmt.Sprintf(format, args...)}
}

func lost(setting, format string, args ...any) Verdict {
	return Verdict{false, setting, fmt.Sprintf(format, args...)}
}

// Compile prepares a plan for the named gateway. References to what does not exist stand for nothing: finding them
// is left to package check.
func Compile(p *plan.Plan, gateway string) (*Model, error) {
	p, taken := p.Settle()
	m := &Model{Plan: p, Names: plan.Index(p), zone: time.UTC, taken: taken}
	if m.Gateway = m.Names.Gateways[gateway]; m.Gateway == nil {
		return nil, fmt.Errorf("the plan has no gateway %q; it has %s", gateway, gatewayNames(p))
	}
	if m.Gateway.CodePage != nil {
		m.page = netset.OfAddrs(m.Gateway.CodePage.Addresses...)
	}
	m.compilePassages()
	m.compileRoutes()
	m.compileRules()
	m.compileTranslations()
	m.compileSurroundings()
	return m, nil
}

// In makes hours count in a time zone, and gives the model. It is called before the model is used.
func (m *Model) In(zone *time.Location) *Model {
	m.zone = zone
	return m
}

// Local is a moment in the time zone in which hours count.
func (m *Model) Local(t time.Time) time.Time { return t.In(m.zone) }

func gatewayNames(p *plan.Plan) string {
	if len(p.Gateways) == 0 {
		return "none"
	}
	names := make([]string, len(p.Gateways))
	for i, g := range p.Gateways {
		names[i] = g.Name
	}
	return strings.Join(names, ", ")
}

// Packet is what the stations look at: addresses, and the service as netset has it.
type Packet struct {
	Src, Dst netip.Addr
	Service  netset.Point
}

// Opens tells whether the packet can open a flow at all (docs/semantics.md, "What can open a flow").
func (p Packet) Opens() bool {
	if p.Dst.Is4() {
		return netset.Opening4.Contains(p.Service)
	}
	return netset.Opening6.Contains(p.Service)
}

var opening = netset.Of(netset.All4, netset.Opening4).Union(netset.Of(netset.All6, netset.Opening6))

// span is any prefix as the set that it covers.
func span(ps ...netip.Prefix) netset.Addrs { return netset.OfPrefixes(ps...) }
