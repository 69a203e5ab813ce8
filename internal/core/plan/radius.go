package plan

import (
	"net/netip"
	"time"
)

// KindRADIUS is a server that judges logins (RFC 2865).
const KindRADIUS = "radius"

// Schemes of a RADIUS server: by UDP (RFC 2865), and over TLS (RFC 6614).
const (
	SchemeRADIUS    = "radius"
	SchemeRADIUSTLS = "radius+tls"
)

// What holds a RADIUS server's groups.
const (
	GroupsFilterID = "filter-id"
	GroupsClass    = "class"
)

// RADIUS is what a source of that kind says beside what every source does.
type RADIUS struct {
	Certificate string     `json:"certificate,omitempty" kept:"certificate" eg:"lantern" doc:"Name of the certificate by which the service proves itself to servers over TLS, kept beside the plan."`
	Called      string     `json:"called,omitempty" eg:"lantern" doc:"What the service calls itself there (NAS-Identifier); yellow-lantern if not given."`
	GroupsFrom  string     `json:"groups-from,omitempty" enum:"filter-id,class" doc:"The attribute of an acceptance that names the person's groups, as often as there are some; filter-id if not given." then:"Class is the server's own affair and may hold anything (RFC 2865 §5.25)."`
	Accounting  []string   `json:"accounting,omitempty" nullable:"false" eg:"radius://radius.tern.example:1813" doc:"Servers that are told when sessions begin, how they go on and when they end (RFC 2866), in order; none is if not given. What cannot be told is kept, and told later."`
	Interim     Duration   `json:"interim,omitempty" eg:"10m" doc:"How often they are told how sessions go on, 1m to 24h; 10m if not given."`
	ChangesAt   netip.Addr `json:"changes-at,omitzero" eg:"10.20.0.1" doc:"The service's own address where it takes what the servers ask for while sessions last: an end, or other groups and limits (RFC 5176); nowhere if not given." then:"Its port must be reached from the servers alone, which must be named by address here."`
	ChangesPort int        `json:"changes-port,omitempty" minimum:"0" maximum:"65535" eg:"3799" doc:"Its UDP port; 3799 if not given."`
}

const (
	defaultInterim     = 10 * time.Minute
	defaultChangesPort = 3799
)

// Changes is where the service takes what servers ask for; not valid: nowhere.
func (o *RADIUS) Changes() netip.AddrPort {
	if !o.ChangesAt.IsValid() {
		return netip.AddrPort{}
	}
	if o.ChangesPort > 0 {
		return netip.AddrPortFrom(o.ChangesAt, uint16(o.ChangesPort))
	}
	return netip.AddrPortFrom(o.ChangesAt, defaultChangesPort)
}

// RADIUS gives the settings of a source of that kind; of another kind there are none.
func (s *Source) RADIUS() *RADIUS {
	if o, ok := s.Own.(*RADIUS); ok {
		return o
	}
	return &RADIUS{}
}

// Name is what the service calls itself.
func (o *RADIUS) Name() string { return or(o.Called, "yellow-lantern") }

// Every is how often servers are told how a session goes on.
func (o *RADIUS) Every() time.Duration {
	if o.Interim > 0 {
		return time.Duration(o.Interim)
	}
	return defaultInterim
}
