package plan

import "net/netip"

// Translation exempts traffic from translation or translates its source.
type Translation struct {
	Name    string     `json:"name" eg:"keep-inside" doc:"Its name."`
	Gateway string     `json:"gateway" ref:"gateways" doc:"The gateway that does it."`
	Action  string     `json:"action" enum:"exempt,translate" doc:"exempt leaves the source alone; translate replaces it." then:"Translated, inside logs do not show who it was; exempt, inside routers must know the way back."`
	From    []string   `json:"from,omitempty" nullable:"false" ref:"pools,networks,hosts,zones,host-groups,any,literal" eg:"staff" ask:"always" doc:"Sources: names of pools, networks, zones, hosts or groups of them, prefixes, ranges, or any. None: any."`
	To      []string   `json:"to,omitempty" nullable:"false" ref:"networks,hosts,zones,host-groups,pools,internet,any,literal" eg:"station" ask:"always" doc:"Destinations: names of networks, zones, hosts or groups of them, of pools, prefixes, ranges, internet, or any. None: any." then:"What is opened from inside towards people is translated too, unless an exemption stands before it."`
	Out     string     `json:"out,omitempty" ref:"networks,internet" eg:"internet" ask:"always" doc:"The way out: name of an attached network, or internet. None: any, also the tunnels."`
	Address netip.Addr `json:"address,omitzero" eg:"192.0.2.10" doc:"The address to translate to; the gateway's own on the way out if not given, towards people its first inside address."`
	Off     bool       `json:"off,omitempty" doc:"Keeps the entry without using it."`
}

// Rule permits or refuses: what people open towards inside, or, where it has From, what is opened from there towards their devices.
type Rule struct {
	Name     string   `json:"name" eg:"archive" doc:"Its name."`
	Action   string   `json:"action" enum:"permit,refuse" doc:"permit or refuse." then:"A refusal wins over every permission, wherever it stands."`
	Groups   []string `json:"groups,omitempty" nullable:"false" ref:"groups" ask:"always" doc:"Whom it is about. None: everyone."`
	To       []string `json:"to,omitempty" nullable:"false" ref:"networks,hosts,zones,host-groups,internet,gateway-itself,any,literal" eg:"records" ask:"always" doc:"Destinations: names of networks, zones, hosts or groups of them, prefixes, ranges, internet, any, or gateway-itself: the machine that the gateway runs on. Other words let people do no more there than ping."`
	From     []string `json:"from,omitempty" nullable:"false" ref:"networks,hosts,zones,host-groups,any,literal" eg:"office" doc:"In place of to: the rule is about what these places open towards people's devices. Words as in to, without internet." then:"A help desk can reach people's devices; so can whoever takes over its host."`
	Services []string `json:"services" nullable:"false" ref:"services" eg:"web, ping" doc:"Names of services, or services as in ports."`
	Hours    string   `json:"hours,omitempty" ref:"hours" doc:"When it applies; not given: always."`
	Log      bool     `json:"log,omitempty" ask:"always" doc:"Writes each new flow it decides into the journal."`
	Off      bool     `json:"off,omitempty" doc:"Keeps the rule without applying it."`
}

// Expectation says who must reach what, or must not.
type Expectation struct {
	Name     string   `json:"name" eg:"researchers-read-the-archive" doc:"Its name."`
	Users    []string `json:"users,omitempty" kept:"user" nullable:"false" doc:"These users."`
	Groups   []string `json:"groups,omitempty" nullable:"false" ref:"groups" ask:"always" doc:"Everybody in these groups."`
	Everyone bool     `json:"everyone,omitempty" doc:"Everybody whom a passage admits."`
	Must     string   `json:"must" enum:"reach,not-reach,nothing-else" doc:"reach, not-reach, or nothing-else: no more than the other expectations ask for." then:"reach is held against the whole way there and back, not-reach against what the gateway enforces."`
	To       []string `json:"to,omitempty" nullable:"false" ref:"networks,hosts,zones,host-groups,internet,gateway-itself,any,literal" eg:"records" ask:"always" doc:"Destinations, as in rules."`
	From     []string `json:"from,omitempty" nullable:"false" ref:"networks,hosts,zones,host-groups,any,literal" eg:"office" doc:"In place of to: these places must, or must not, reach the devices of the people."`
	Services []string `json:"services,omitempty" nullable:"false" ref:"services" eg:"web" ask:"always" doc:"Services, as in rules."`
	ByName   bool     `json:"by-name,omitempty" ask:"always" doc:"Reached by the hosts' DNS names through the name servers given."`
	Off      bool     `json:"off,omitempty" doc:"Keeps the expectation without holding the plan to it."`
}

// Inward tells whether the rule is about what is opened from inside towards people's devices.
func (r *Rule) Inward() bool { return len(r.From) > 0 }

// Inward tells whether the expectation is about what is opened from inside towards people's devices.
func (e *Expectation) Inward() bool { return len(e.From) > 0 }

// Peers are the words for the other end: where people go, or where what comes to them begins.
func (r *Rule) Peers() []string {
	if r.Inward() {
		return r.From
	}
	return r.To
}

// Peers are the words for the other end: where people go, or where what comes to them begins.
func (e *Expectation) Peers() []string {
	if e.Inward() {
		return e.From
	}
	return e.To
}
