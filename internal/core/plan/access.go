package plan

import (
	"net/netip"
	"slices"
)

// Group is a group of people.
type Group struct {
	Name string `json:"name" eg:"researchers" doc:"Its name."`
	Note string `json:"note,omitempty" eg:"read the survey archive" ask:"always" doc:"What it is for."`
}

// Pool is a supply of addresses for remote people.
type Pool struct {
	Name       string         `json:"name" eg:"staff" doc:"Its name."`
	Prefixes   []netip.Prefix `json:"prefixes,omitempty" nullable:"false" eg:"10.99.0.0/24" ask:"always" doc:"What is leased from; the first and last address of an IPv4 prefix are left out." then:"Apart from inside networks, and from what home routers use."`
	Ranges     []Range        `json:"ranges,omitempty" nullable:"false" eg:"10.99.2.10-10.99.2.200" doc:"What is leased from, from first to last address, both included."`
	Exclude    []Range        `json:"exclude,omitempty" nullable:"false" eg:"10.99.0.0/28" doc:"Parts that are not leased: prefixes, addresses or ranges."`
	Reserved   []Reservation  `json:"reserved,omitempty" nullable:"false" doc:"Addresses that are kept for one user each."`
	CarvedFrom string         `json:"carved-from,omitempty" ref:"networks" doc:"The inside network that the pool is a part of, for which the gateway then answers there." then:"Inside hosts need no route to people; the network's DHCP must stay away."`
	PrefixEach int            `json:"prefix-each,omitempty" minimum:"0" maximum:"64" eg:"64" doc:"Length of the IPv6 prefix that is leased to each session whole, 48 to 64, in place of one address; the device has its first address." then:"What is behind a device, such as virtual machines, has addresses of its own; yl dial says which. Other systems use the one address."`
	Owned      bool           `json:"owned,omitempty" doc:"Public space that belongs to the site."`
}

// Reservation keeps an address for one user.
type Reservation struct {
	User    string     `json:"user" eg:"rory.researcher" doc:"Whom it is kept for."`
	Address netip.Addr `json:"address" eg:"10.99.0.20" doc:"The address; nobody else is given it."`
}

// Tunnel is a way in: what every kind has, and beside it what its kind brings.
type Tunnel struct {
	Name    string `json:"name" eg:"main" doc:"Its name."`
	Kind    string `json:"kind" oneof:"kinds" doc:"ikev2 is carried out; masque, l2tp-ipsec and portal are refused until they are; pptp is refused for good."`
	Gateway string `json:"gateway" ref:"gateways" doc:"The gateway that offers it."`
	Login   string `json:"login" enum:"eap-mschapv2,certificate,public-key,eap-tls,eap-ttls,eap-relayed,pre-shared-key,certificate-and-eap-mschapv2" doc:"How people log in. eap-mschapv2: user and password. certificate: by a certificate that the own authority issued for the person's key. public-key: by a key alone, which yl dial has. pre-shared-key: by a key that the person and the gateway both know, each person their own; the device calls itself by the person's name. certificate-and-eap-mschapv2: first the certificate of a device, then user and password of whose it is (RFC 4739), which yl dial has. eap-ttls: user and password, handed over inside TLS (RFC 5281), so that people whose passwords another keeps can come in, which yl dial has. eap-relayed: by whatever method of EAP a source of kind radius has, which is carried to and fro (RFC 3579). eap-tls: by the same certificates as certificate, inside EAP (RFC 5216, RFC 9190), for devices that have that." then:"A key never leaves its device, and can be taken back by itself."`
	// Also are ways beside Login.
	Also        []string `json:"also-login,omitempty" nullable:"false" enum:"eap-mschapv2,eap-ttls,eap-tls,eap-relayed" doc:"Further methods, for devices that ask for another than login, or for people whom another source keeps: of eap-mschapv2, eap-ttls, eap-tls and eap-relayed those that login is not. With eap-relayed the service's own people log in by the others." then:"Each person needs one that their device has and that whoever keeps them can check."`
	Identity    string   `json:"identity,omitempty" eg:"field.tern.example" doc:"The name by which devices ask for this tunnel, where a gateway has several; the gateway's dial if not given. The certificate must hold it."`
	Certificate string   `json:"certificate" kept:"certificate" eg:"gate" doc:"Name of the gateway's certificate, kept beside the plan."`
	Second      string   `json:"second-certificate,omitempty" kept:"certificate" eg:"gate-rsa" doc:"Name of another certificate for the same name, of another kind of key: whichever a device says that it takes is shown, and RSA to one that says nothing."`
	// Authorities are those beside the own one.
	Authorities []string `json:"authorities,omitempty" nullable:"false" ref:"authorities" doc:"Whose certificates people may log in by, beside those of the own authority." then:"Who has one that names a user comes in as that user: no key need be added here."`
	MTU         int      `json:"mtu,omitempty" minimum:"0" maximum:"1500" eg:"1400" doc:"Largest packet inside the tunnel, in octets, 1280 to 1420; 1400 if not given."`
	KeepMSS     bool     `json:"keep-mss,omitempty" doc:"Leaves the segment size that TCP agrees on alone." then:"Where ICMP is filtered, connections open and large pages hang."`
	Off         bool     `json:"off,omitempty" doc:"Keeps the tunnel without offering it."`
	// Own are the settings of its kind, a pointer to the kind's struct; in a document they stand among the others.
	Own any `json:"-"`
}

// WantsKey tells whether people prove themselves by a key before any conversation, or in place of one.
func WantsKey(login string) bool {
	return slices.Contains([]string{LoginCertificate, LoginPublicKey, LoginSharedKey, LoginBoth}, login)
}

// ByCertificate tells whether people come in by certificates that may be of other authorities.
func (t Tunnel) ByCertificate() bool {
	return t.Login == LoginCertificate || t.Login == LoginBoth || slices.Contains(t.Logins(), LoginEAPTLS)
}

// Logins are the ways of logging in, the preferred first.
func (t Tunnel) Logins() []string { return append([]string{t.Login}, t.Also...) }

// Certificates are the names of the gateway's certificates: one or two.
func (t Tunnel) Certificates() []string {
	if t.Second == "" || t.Second == t.Certificate {
		return []string{t.Certificate}
	}
	return []string{t.Certificate, t.Second}
}

// Defaults is what passages take that do not say it themselves.
type Defaults struct {
	Tunnels []string `json:"tunnels,omitempty" nullable:"false" ref:"tunnels" doc:"Tunnels, in order of preference."`
	Pool    string   `json:"pool,omitempty" ref:"pools" doc:"Pool."`
	DNS     DNS      `json:"dns,omitzero" doc:"Names; taken whole where a passage says nothing of names."`
	Routes  Routes   `json:"routes,omitzero" doc:"Routes; taken whole where a passage says nothing of routes."`
	Limits  Limits   `json:"limits,omitzero" doc:"Limits; each is taken where a passage does not set it."`
	Banner  string   `json:"banner,omitempty" eg:"Mind the nests." doc:"Words for people on the pages that they see."`
}

// Passage is how one class of people comes in.
type Passage struct {
	Name    string   `json:"name" eg:"research" doc:"Its name."`
	Groups  []string `json:"groups" nullable:"false" ref:"groups" doc:"Whom it admits." then:"A person is taken by the first passage that admits one of their groups."`
	Tunnels []string `json:"tunnels,omitempty" nullable:"false" ref:"tunnels" ask:"always" doc:"By which tunnels, in order of preference."`
	Pool    string   `json:"pool,omitempty" ref:"pools" ask:"always" doc:"Where their addresses come from."`
	DNS     DNS      `json:"dns,omitzero" ask:"always" doc:"The names they are given."`
	Routes  Routes   `json:"routes,omitzero" ask:"always" doc:"What their devices send into the tunnel."`
	Limits  Limits   `json:"limits,omitzero" doc:"How many, how long and when."`
	// Factor is beside what they log in with.
	Factor SecondFactor `json:"second-factor,omitzero" doc:"What they give beside what they log in with."`
	// HomeNetworks are prefixes that people of the passage are known to have at home.
	HomeNetworks []netip.Prefix `json:"home-networks,omitempty" nullable:"false" eg:"192.168.1.0/24" doc:"Networks that people are on at home, as far as they are known." then:"What is routed into the tunnel and equals one of them, or holds it, stays at home: the proof then says who is concerned."`
	Platforms    []string       `json:"platforms,omitempty" nullable:"false" enum:"windows,apple,android,own-client" doc:"The devices that people use, by the systems' built-in clients; the tunnels are held against what these offer."`
	Banner       string         `json:"banner,omitempty" eg:"Mind the nests." doc:"Words for people on the pages that they see; IKEv2 itself has no place for them."`
	OnDemand     string         `json:"on-demand,omitempty" enum:"names,always" doc:"When devices connect by themselves: names, once one of the passage's domains is looked up; always, whenever they have a network." then:"Kits for Apple's systems set it; other systems have a setting of their own for always."`
	Strict       bool           `json:"strict,omitempty" doc:"Devices let nothing of what belongs into the tunnel leave in clear while there is none." then:"yl dial does so by itself; other systems have a setting of their own for it."`
	Off          bool           `json:"off,omitempty" doc:"Keeps the passage without admitting anybody."`
}

// SessionsEach is how many sessions one person may have at once by a passage that says nothing.
const SessionsEach = 8

// Limits bound the sessions of a passage; zero: no limit, but for PerPerson.
type Limits struct {
	Sessions   int      `json:"sessions,omitempty" minimum:"0" maximum:"1000000" eg:"100" doc:"How many sessions there may be at once."`
	PerPerson  int      `json:"per-person,omitempty" minimum:"0" maximum:"1000" eg:"2" doc:"How many sessions one person may have at once; 8 where nothing is said."`
	NewestWins bool     `json:"newest-wins,omitempty" doc:"At the limit of one person the oldest session ends, rather than the new one being refused." then:"A device that lost its connection can come back at once."`
	Addresses  int      `json:"addresses,omitempty" minimum:"0" maximum:"16" eg:"2" doc:"How many addresses of a family one session may have, where its device asks for several; 1 if not given." then:"yl dial asks for several (--addresses); systems' own clients do not."`
	Idle       Duration `json:"idle,omitempty" eg:"30m" doc:"A session whose device has sent nothing for so long is ended, 1m to 168h."`
	Longest    Duration `json:"longest,omitempty" eg:"12h" doc:"How long a session may last at most, 5m to 720h."`
	Patience   Duration `json:"patience,omitempty" eg:"30m" doc:"For how long a device may stay without an answer, asleep or out of reach, before its session ends, 10s to 2h; the tunnel's patience if not given." then:"What it may sleep through keeps its session and its address; so does one that was switched off."`
	OnePlace   bool     `json:"one-place,omitempty" doc:"A session ends when its device turns up at another address (IPv4) or network (/64 of IPv6) than it logged in from." then:"A stolen session cannot be carried elsewhere; who changes from one network to another logs in again."`
	Hours      string   `json:"hours,omitempty" ref:"hours" doc:"When people may be connected; outside of them logins are refused and sessions end."`
}

// Each is how many sessions one person may have at once.
func (l Limits) Each() int {
	if l.PerPerson > 0 {
		return l.PerPerson
	}
	return SessionsEach
}

// Most is how many addresses of a family a session that asks for so many may have.
func (l Limits) Most(asked int) int { return max(1, min(asked, l.Addresses)) }

// DNS is what a device is told about names.
type DNS struct {
	Servers []netip.Addr `json:"servers,omitempty" nullable:"false" eg:"10.20.0.53" doc:"Name servers, in order." then:"Each must be routed into the tunnel and permitted by a rule."`
	Search  []string     `json:"search,omitempty" nullable:"false" eg:"tern.example" doc:"Domains that are tried for short names; they also go through the tunnel."`
	Domains []string     `json:"domains,omitempty" nullable:"false" eg:"skua.example" doc:"Further domains whose names are asked of these servers, through the tunnel (RFC 8598)."`
}

// Routes is what a device sends into the tunnel: a list, or everything.
type Routes struct {
	Full  bool     `json:"full,omitempty" doc:"Everything." then:"All traffic of people's devices uses this site's line; nothing of theirs goes past it."`
	Split []string `json:"split,omitempty" nullable:"false" ref:"networks,hosts,zones,host-groups,literal" eg:"station, archive" doc:"Only these: names of networks, zones, hosts or groups of them, or prefixes." then:"Everything else stays on people's own lines, unseen from here."`
}

// Challenge tells whether a way of logging in has an answer to a challenge judged (MS-CHAPv2), for which a password's NT hash is needed.
func Challenge(login string) bool {
	return slices.Contains([]string{LoginMSCHAPv2, LoginBoth, AskMSCHAPv2}, login)
}

// Challenges tells whether people of a passage log in so, by one of its tunnels.
func (p *Plan) Challenges(x *Passage) bool {
	return slices.ContainsFunc(p.Tunnels, func(t Tunnel) bool {
		return !t.Off && slices.Contains(x.Tunnels, t.Name) && slices.ContainsFunc(t.Logins(), Challenge)
	})
}
