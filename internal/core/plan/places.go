package plan

import "net/netip"

// Gateway is a machine that remote people dial.
type Gateway struct {
	Name     string       `json:"name" eg:"jetty" doc:"Its name."`
	Dial     string       `json:"dial" eg:"gate.tern.example" doc:"The public name or address that people dial; the certificate must hold it." then:"Every device is set to it: a name can follow an address that changes, an address cannot."`
	Outside  Outside      `json:"outside" doc:"Its side towards the internet."`
	Inside   []Attachment `json:"inside,omitempty" nullable:"false" ask:"always" doc:"The inside networks that it is attached to."`
	Routes   []Route      `json:"routes,omitempty" nullable:"false" ask:"always" doc:"Its routes to inside networks behind other routers."`
	Internet bool         `json:"internet,omitempty" ask:"always" doc:"Whether it forwards what is not inside to the internet." then:"A full tunnel needs it, with a translation on the way out."`
	Machine  *Machine     `json:"machine,omitempty" doc:"What the gateway may change on the machine that it runs on."`
	CodePage *CodePage    `json:"code-page,omitempty" doc:"Where people whose sessions are held give their second factor."`
	Defaults *Defaults    `json:"defaults,omitempty" doc:"What passages take that do not say it themselves."`
}

// What a gateway may do with its machine.
const (
	SetThem = "set"
	MendIt  = "mend"
)

// Machine is what the gateway may change on the machine that it runs on, beside its own device, routes and table.
type Machine struct {
	Settings string `json:"settings,omitempty" enum:"tell,set" doc:"tell says which of the machine's settings, such as forwarding, keep people from what they may reach; set sets them, and sets them back at the end. tell if not given." then:"Forwarding makes a router of the machine: what neither comes from people nor goes to them is not forwarded then."`
	Drift    string `json:"drift,omitempty" enum:"tell,mend" doc:"What becomes of a route, rule or setting that somebody changes by hand: tell says so, mend makes it good too. tell if not given."`
}

// Outside is the gateway's side towards the internet.
type Outside struct {
	Addresses []netip.Addr   `json:"addresses" nullable:"false" eg:"192.0.2.10" doc:"Its own addresses there, IPv4 or IPv6; of addresses that change, today's."`
	Changes   bool           `json:"changes,omitempty" doc:"The public address changes now and then." then:"People must dial a name, and something must keep that name up to date."`
	Update    *NameUpdate    `json:"update,omitempty" doc:"Keeps the dialled name up to date in the DNS (RFC 2136, signed with TSIG, RFC 8945)."`
	Calls     []NameCall     `json:"calls,omitempty" nullable:"false" doc:"HTTP calls that keep the dialled name up to date, for providers without DNS UPDATE; all of them are made."`
	InFront   *RouterInFront `json:"in-front,omitempty" doc:"The router whose translation the gateway sits behind, if any."`
}

// NameUpdate says how the dialled name follows the public address.
type NameUpdate struct {
	Server    string   `json:"server" eg:"198.51.100.53:53" doc:"The zone's primary name server: address and port."`
	Zone      string   `json:"zone" eg:"tern.example" doc:"The zone that the name is in."`
	Key       string   `json:"key" kept:"secret" eg:"jetty-update" doc:"Name of the TSIG key at the server; its secret is kept beside the plan under the same name."`
	Algorithm string   `json:"algorithm,omitempty" enum:"hmac-sha256,hmac-sha384,hmac-sha512" doc:"The key's algorithm; hmac-sha256 if not given."`
	TTL       Duration `json:"ttl,omitempty" eg:"60s" doc:"How long others may remember the address, 30s to 1h; 60s if not given."`
	Every     Duration `json:"every,omitempty" eg:"1m" doc:"How often the address is looked at, 10s to 1h; 1m if not given."`
}

// RouterInFront is a translating router between the gateway and the internet.
type RouterInFront struct {
	Address  netip.Addr `json:"address" eg:"192.0.2.10" doc:"Its public address."`
	Forwards []Forward  `json:"forwards,omitempty" nullable:"false" doc:"What it forwards to the gateway."`
}

// Forward is one port that the router in front hands on.
type Forward struct {
	Service string     `json:"service" eg:"udp/500" doc:"Protocol and port, such as udp/500, or any for everything."`
	To      netip.Addr `json:"to" eg:"192.168.9.10" doc:"The address it is handed to."`
}

// Attachment says that a gateway is on an inside network.
type Attachment struct {
	Network   string       `json:"network" ref:"networks" doc:"Name of the network."`
	Addresses []netip.Addr `json:"addresses" nullable:"false" eg:"10.20.0.1" doc:"The gateway's addresses there."`
}

// Route leads to a prefix by a next hop.
type Route struct {
	To  netip.Prefix `json:"to" eg:"10.20.30.0/24" doc:"Destination prefix; 0.0.0.0/0 or ::/0 for everything else."`
	Via netip.Addr   `json:"via" eg:"10.20.0.2" doc:"Next hop, an address on an attached network."`
}

// Zone is a set of networks that are treated alike: a network says in which it is.
type Zone struct {
	Name string `json:"name" eg:"field" doc:"Its name."`
	Note string `json:"note,omitempty" eg:"what stands outdoors" ask:"always" doc:"What it is for."`
}

// Network is an inside network, or one of another site that is reached by way of the inside.
type Network struct {
	Name     string         `json:"name" eg:"station" doc:"Its name."`
	Prefixes []netip.Prefix `json:"prefixes" nullable:"false" eg:"10.20.0.0/24" doc:"Its prefixes, IPv4 or IPv6."`
	Router   string         `json:"router,omitempty" ref:"routers,gateways" ask:"always" doc:"The gateway or router to which its hosts send what is not on their own link." then:"Answers to remote people take this way: it must lead back to the gateway."`
	Zone     string         `json:"zone,omitempty" ref:"zones" doc:"The zone that it is in."`
	Site     string         `json:"site,omitempty" eg:"Skua Point" doc:"The other site that it belongs to; not given: this one."`
	DHCP     []Range        `json:"dhcp,omitempty" nullable:"false" eg:"10.20.0.100-10.20.0.199" doc:"What its DHCP server gives out; no pool may be carved from that."`
}

// Router is an inside router.
type Router struct {
	Name      string       `json:"name" eg:"ridge" doc:"Its name."`
	Addresses []netip.Addr `json:"addresses" nullable:"false" eg:"10.20.0.2" doc:"Its addresses; each puts it on the network that holds it."`
	Routes    []Route      `json:"routes,omitempty" nullable:"false" doc:"Its routes, a default route among them."`
}

// Host is an inside machine, or a row of them.
type Host struct {
	Name      string       `json:"name" eg:"records" doc:"Its name."`
	Addresses []netip.Addr `json:"addresses,omitempty" nullable:"false" eg:"10.20.30.5" ask:"always" doc:"Its addresses."`
	Ranges    []Range      `json:"ranges,omitempty" nullable:"false" eg:"10.20.30.20-10.20.30.29" doc:"For a row of machines: their addresses from first to last."`
	DNS       string       `json:"dns,omitempty" eg:"records.tern.example" ask:"always" doc:"The name that people use for it."`
}

// HostGroup is a named set of destinations.
type HostGroup struct {
	Name    string   `json:"name" eg:"instruments" doc:"Its name."`
	Members []string `json:"members" nullable:"false" ref:"hosts,networks,zones,host-groups,literal" eg:"records, nestcams" doc:"Names of hosts, networks, zones or other groups; prefixes, addresses or ranges."`
}

// Service is a named set of ports.
type Service struct {
	Name     string   `json:"name" eg:"web" doc:"Its name."`
	Ports    []string `json:"ports,omitempty" nullable:"false" eg:"tcp/80, tcp/443" ask:"always" doc:"Such as tcp/443, udp/6000-6010, ping, icmp/echo, proto/47, any."`
	Includes []string `json:"includes,omitempty" nullable:"false" ref:"services" eg:"names" doc:"Other services that belong to it."`
}

// Hours is a named time of the week, in the site's time zone.
type Hours struct {
	Name string   `json:"name" eg:"field-season" doc:"Their name."`
	Days []string `json:"days,omitempty" nullable:"false" enum:"monday,tuesday,wednesday,thursday,friday,saturday,sunday" ask:"always" doc:"On these days; none: every day."`
	From Clock    `json:"from" eg:"08:00" doc:"From then on."`
	To   Clock    `json:"to" eg:"18:00" doc:"Until then, not included; earlier than from: until that time of the next day; 24:00 for midnight."`
}
