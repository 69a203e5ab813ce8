// Package plan is the document in which an administrator says what is to be: its types, strict reading with the
// place of every fault, differences between two plans, and the names by which objects refer to each other. What a plan
// means for a packet is left to package site, what is wrong with it to package check.
package plan

import "net/netip"

// Format is the version of the document that this package reads.
const Format = 1

// Plan is the whole configuration. The doc tags are the reference in docs/plan.md.
type Plan struct {
	Format       int           `json:"format" doc:"Version of this document: 1."`
	Name         string        `json:"name" doc:"What the site is called."`
	Gateways     []Gateway     `json:"gateways,omitempty" nullable:"false" doc:"The machines that remote people dial."`
	Networks     []Network     `json:"networks,omitempty" nullable:"false" doc:"The inside networks."`
	Routers      []Router      `json:"routers,omitempty" nullable:"false" doc:"Inside routers other than the gateway, as far as they decide the way there and back."`
	Hosts        []Host        `json:"hosts,omitempty" nullable:"false" doc:"Inside machines worth a name."`
	Services     []Service     `json:"services,omitempty" nullable:"false" doc:"Named sets of ports."`
	Groups       []Group       `json:"groups,omitempty" nullable:"false" doc:"Groups of people. Who is in them is kept beside the plan."`
	Pools        []Pool        `json:"pools,omitempty" nullable:"false" doc:"Addresses that are leased to remote people."`
	Tunnels      []Tunnel      `json:"tunnels,omitempty" nullable:"false" doc:"The ways in."`
	Passages     []Passage     `json:"passages,omitempty" nullable:"false" doc:"How each class of people comes in; the first that admits one of the person's groups takes them."`
	NAT          []Translation `json:"nat,omitempty" nullable:"false" doc:"Exemptions and translations of the gateway, first match decides."`
	Rules        []Rule        `json:"rules,omitempty" nullable:"false" doc:"What people may use. A refusal wins over a permission; nothing else is allowed."`
	Expectations []Expectation `json:"expectations,omitempty" nullable:"false" doc:"Who must reach what, and who must not."`
}

// Gateway is a machine that remote people dial.
type Gateway struct {
	Name     string       `json:"name" doc:"Its name."`
	Dial     string       `json:"dial" doc:"The public name or address that people dial; the certificate must hold it."`
	Outside  Outside      `json:"outside" doc:"Its side towards the internet."`
	Inside   []Attachment `json:"inside,omitempty" nullable:"false" doc:"The inside networks that it is attached to."`
	Routes   []Route      `json:"routes,omitempty" nullable:"false" doc:"Its routes to inside networks behind other routers."`
	Internet bool         `json:"internet,omitempty" doc:"Whether it forwards what is not inside to the internet."`
}

// Outside is the gateway's side towards the internet.
type Outside struct {
	Addresses []netip.Addr   `json:"addresses" nullable:"false" doc:"Its own addresses there, IPv4 or IPv6."`
	InFront   *RouterInFront `json:"in-front,omitempty" doc:"The router whose translation the gateway sits behind, if any."`
}

// RouterInFront is a translating router between the gateway and the internet.
type RouterInFront struct {
	Address  netip.Addr `json:"address" doc:"Its public address."`
	Forwards []Forward  `json:"forwards,omitempty" nullable:"false" doc:"What it forwards to the gateway."`
}

// Forward is one port that the router in front hands on.
type Forward struct {
	Service string     `json:"service" doc:"Protocol and port, such as udp/500, or any for everything."`
	To      netip.Addr `json:"to" doc:"The address it is handed to."`
}

// Attachment says that a gateway is on an inside network.
type Attachment struct {
	Network   string       `json:"network" doc:"Name of the network."`
	Addresses []netip.Addr `json:"addresses" nullable:"false" doc:"The gateway's addresses there."`
}

// Route leads to a prefix by a next hop.
type Route struct {
	To  netip.Prefix `json:"to" doc:"Destination prefix; 0.0.0.0/0 or ::/0 for everything else."`
	Via netip.Addr   `json:"via" doc:"Next hop, an address on an attached network."`
}

// Network is an inside network.
type Network struct {
	Name     string         `json:"name" doc:"Its name."`
	Prefixes []netip.Prefix `json:"prefixes" nullable:"false" doc:"Its prefixes, IPv4 or IPv6."`
	Router   string         `json:"router,omitempty" doc:"The gateway or router to which its hosts send what is not on their own link."`
}

// Router is an inside router.
type Router struct {
	Name      string       `json:"name" doc:"Its name."`
	Addresses []netip.Addr `json:"addresses" nullable:"false" doc:"Its addresses; each puts it on the network that holds it."`
	Routes    []Route      `json:"routes,omitempty" nullable:"false" doc:"Its routes, a default route among them."`
}

// Host is an inside machine.
type Host struct {
	Name      string       `json:"name" doc:"Its name."`
	Addresses []netip.Addr `json:"addresses" nullable:"false" doc:"Its addresses."`
	DNS       string       `json:"dns,omitempty" doc:"The name that people use for it."`
}

// Service is a named set of ports.
type Service struct {
	Name  string   `json:"name" doc:"Its name."`
	Ports []string `json:"ports" nullable:"false" doc:"Such as tcp/443, udp/6000-6010, ping, icmp/echo, proto/47, any."`
}

// Group is a group of people.
type Group struct {
	Name string `json:"name" doc:"Its name."`
	Note string `json:"note,omitempty" doc:"What it is for."`
}

// Pool is a supply of addresses for remote people.
type Pool struct {
	Name       string         `json:"name" doc:"Its name."`
	Prefixes   []netip.Prefix `json:"prefixes" nullable:"false" doc:"What is leased from; the first and last address of an IPv4 prefix are left out."`
	Exclude    []netip.Prefix `json:"exclude,omitempty" nullable:"false" doc:"Parts that are not leased."`
	CarvedFrom string         `json:"carved-from,omitempty" doc:"The inside network that the pool is a part of, for which the gateway then answers there."`
	Owned      bool           `json:"owned,omitempty" doc:"Public space that belongs to the site."`
}

// Tunnel is a way in. Each kind brings its own options.
type Tunnel struct {
	Name        string   `json:"name" doc:"Its name."`
	Kind        string   `json:"kind" enum:"ikev2,masque,l2tp-ipsec,key-pair-udp,portal,pptp" doc:"ikev2 is carried out; masque, l2tp-ipsec, key-pair-udp and portal are refused until they are; pptp is refused for good."`
	Gateway     string   `json:"gateway" doc:"The gateway that offers it."`
	Login       string   `json:"login" enum:"eap-mschapv2,eap-tls,eap-ttls,pre-shared-key" doc:"How people log in; eap-mschapv2 is carried out."`
	Suites      []string `json:"suites" nullable:"false" doc:"Algorithms in order of preference: aes256gcm-sha256-x25519, aes256gcm-sha256-p256."`
	Certificate string   `json:"certificate" doc:"Name of the gateway's certificate, kept beside the plan."`
	MTU         int      `json:"mtu,omitempty" minimum:"0" maximum:"1500" doc:"Largest packet inside the tunnel, in octets, 1280 to 1420; 1400 if not given."`
	Off         bool     `json:"off,omitempty" doc:"Keeps the tunnel without offering it."`
}

// Passage is how one class of people comes in.
type Passage struct {
	Name    string   `json:"name" doc:"Its name."`
	Groups  []string `json:"groups" nullable:"false" doc:"Whom it admits."`
	Tunnels []string `json:"tunnels" nullable:"false" doc:"By which tunnels, in order of preference."`
	Pool    string   `json:"pool" doc:"Where their addresses come from."`
	DNS     DNS      `json:"dns,omitempty" doc:"The names they are given."`
	Routes  Routes   `json:"routes" doc:"What their devices send into the tunnel."`
	Off     bool     `json:"off,omitempty" doc:"Keeps the passage without admitting anybody."`
}

// DNS is what a device is told about names.
type DNS struct {
	Servers []netip.Addr `json:"servers,omitempty" nullable:"false" doc:"Name servers, in order."`
	Search  []string     `json:"search,omitempty" nullable:"false" doc:"Domains that are tried for short names; they also go through the tunnel."`
}

// Routes is what a device sends into the tunnel: a list, or everything.
type Routes struct {
	Full  bool     `json:"full,omitempty" doc:"Everything."`
	Split []string `json:"split,omitempty" nullable:"false" doc:"Only these: names of networks or hosts, or prefixes."`
}

// Translation exempts traffic from translation or translates its source.
type Translation struct {
	Name    string     `json:"name" doc:"Its name."`
	Gateway string     `json:"gateway" doc:"The gateway that does it."`
	Action  string     `json:"action" enum:"exempt,translate" doc:"exempt leaves the source alone; translate replaces it."`
	From    []string   `json:"from,omitempty" nullable:"false" doc:"Sources: names of pools, or prefixes. None: any."`
	To      []string   `json:"to,omitempty" nullable:"false" doc:"Destinations: names of networks or hosts, prefixes, or internet. None: any."`
	Out     string     `json:"out,omitempty" doc:"The way out: name of an attached network, or internet. None: any."`
	Address netip.Addr `json:"address,omitzero" doc:"The address to translate to; the gateway's own on the way out if not given."`
	Off     bool       `json:"off,omitempty" doc:"Keeps the entry without using it."`
}

// Rule permits or refuses.
type Rule struct {
	Name     string   `json:"name" doc:"Its name."`
	Action   string   `json:"action" enum:"permit,refuse" doc:"permit or refuse."`
	Groups   []string `json:"groups,omitempty" nullable:"false" doc:"Whom it is about. None: everyone."`
	To       []string `json:"to" nullable:"false" doc:"Destinations: names of networks or hosts, prefixes, internet, or any."`
	Services []string `json:"services" nullable:"false" doc:"Names of services, or services as in ports."`
	Log      bool     `json:"log,omitempty" doc:"Writes each new flow it decides into the journal."`
	Off      bool     `json:"off,omitempty" doc:"Keeps the rule without applying it."`
}

// Expectation says who must reach what, or must not.
type Expectation struct {
	Name     string   `json:"name" doc:"Its name."`
	Users    []string `json:"users,omitempty" nullable:"false" doc:"These users."`
	Groups   []string `json:"groups,omitempty" nullable:"false" doc:"Everybody in these groups."`
	Everyone bool     `json:"everyone,omitempty" doc:"Everybody whom a passage admits."`
	Must     string   `json:"must" enum:"reach,not-reach,nothing-else" doc:"reach, not-reach, or nothing-else: no more than the other expectations ask for."`
	To       []string `json:"to,omitempty" nullable:"false" doc:"Destinations, as in rules."`
	Services []string `json:"services,omitempty" nullable:"false" doc:"Services, as in rules."`
	ByName   bool     `json:"by-name,omitempty" doc:"Reached by the hosts' DNS names through the name servers given."`
}

// Words with a meaning of their own where a name is expected.
const (
	Internet = "internet"
	Any      = "any"

	Reach       = "reach"
	NotReach    = "not-reach"
	NothingElse = "nothing-else"

	Permit    = "permit"
	Refuse    = "refuse"
	Exempt    = "exempt"
	Translate = "translate"

	KindIKEv2          = "ikev2"
	LoginMSCHAPv2      = "eap-mschapv2"
	SuiteGCMX25519     = "aes256gcm-sha256-x25519"
	SuiteGCMP256       = "aes256gcm-sha256-p256"
	DefaultMTU     int = 1400
)

// InnerMTU is the largest packet inside the tunnel, in octets.
func (t Tunnel) InnerMTU() int {
	if t.MTU == 0 {
		return DefaultMTU
	}
	return t.MTU
}
