// Package plan is the document in which an administrator says what is to be: its types, strict reading with the
// place of every fault, differences between two plans, and the names by which objects refer to each other. What a plan
// means for a packet is left to package site, what is wrong with it to package check.
package plan

import "net/netip"

// Format is the version of the document that this package reads.
const Format = 1

// Plan is the whole configuration. The doc tags are the reference in docs/plan.md. Of the other tags, eg is an example, then
// says what follows from a choice, and ref names the lists whose objects a field may name; forms are made from them.
type Plan struct {
	Format         int              `json:"format" doc:"Version of this document: 1."`
	Name           string           `json:"name" doc:"What the site is called."`
	TimeZone       string           `json:"time-zone,omitempty" eg:"Atlantic/Reykjavik" doc:"The site's time zone, by its IANA name, for hours; UTC if not given."`
	KitsAt         string           `json:"kits-at,omitempty" eg:"https://kits.tern.example" doc:"Where people reach the pages of kits, which the service opens with --listen-kits: links lead there."`
	KitsShown      string           `json:"kits-certificate,omitempty" kept:"certificate" eg:"kits" doc:"Name of the certificate that is shown there, kept beside the plan: one that devices trust before they have a kit. If none is kept under it, the own authority makes one; kits if not given."`
	Approve        bool             `json:"approve-commits,omitempty" doc:"A commit needs the approval of another administrator than who commits, of exactly that text; so do new administrators, their roles, and people's groups." then:"Nobody changes by themselves who reaches what, nor takes this back by themselves."`
	MailServer     string           `json:"mail-server,omitempty" eg:"smtps://mail.tern.example" doc:"By which server people are sent mail: smtps:// (TLS from the first octet), or smtp:// with STARTTLS; in clear nothing is sent."`
	MailFrom       string           `json:"mail-from,omitempty" eg:"gateway@tern.example" doc:"From which address."`
	MailAccount    string           `json:"mail-account,omitempty" eg:"gateway" doc:"The account there, if it wants one."`
	MailSecret     string           `json:"mail-secret,omitempty" kept:"secret" eg:"mail" doc:"Name of its password, kept beside the plan (yl secret keep)."`
	MailCA         string           `json:"mail-authority,omitempty" lines:"many" eg:"-----BEGIN CERTIFICATE----- and so on" doc:"By whom the server's certificate is, PEM; the system's authorities if not given."`
	PasswordHelp   bool             `json:"password-help,omitempty" doc:"The service's own people who forgot their password can have a link sent to their mail address, by which they choose another." then:"Whoever reads somebody's mail can come in as them, where no second factor is asked for."`
	CodesByMail    bool             `json:"codes-by-mail,omitempty" doc:"People without a second factor of their own can have a code sent to their mail address, on the code page." then:"Whoever has somebody's password and reads their mail gets in."`
	LastResort     string           `json:"last-resort,omitempty" kept:"administrator" eg:"keeper" doc:"Where administrators are people of sources: the one administrator of the service's own who can sign in all the same, when none of the sources answers, say." then:"That this one signs in is an alarm. The service's other own administrators do not sign in; tokens of theirs go on."`
	AlarmTo        []string         `json:"alarm-to,omitempty" nullable:"false" eg:"keepers@tern.example" doc:"Mail addresses that are told when the administrator of last resort signs in."`
	EquipmentAt    netip.Addr       `json:"equipment-at,omitzero" eg:"10.20.0.1" doc:"The service's own address where equipment asks about people, by RADIUS; nowhere if not given."`
	EquipmentUDP   int              `json:"equipment-port,omitempty" minimum:"0" maximum:"65535" eg:"1812" doc:"Its UDP port; 1812 if not given."`
	Gateways       []Gateway        `json:"gateways,omitempty" nullable:"false" are:"ordered" doc:"The machines that remote people dial."`
	Zones          []Zone           `json:"zones,omitempty" nullable:"false" doc:"Named sets of inside networks that are treated alike."`
	Networks       []Network        `json:"networks,omitempty" nullable:"false" are:"reach" doc:"The inside networks, and those of other sites behind them."`
	Routers        []Router         `json:"routers,omitempty" nullable:"false" are:"reach" doc:"Inside routers other than the gateway, as far as they decide the way there and back."`
	Hosts          []Host           `json:"hosts,omitempty" nullable:"false" doc:"Inside machines worth a name."`
	HostGroups     []HostGroup      `json:"host-groups,omitempty" nullable:"false" doc:"Named sets of hosts, networks and addresses."`
	Services       []Service        `json:"services,omitempty" nullable:"false" doc:"Named sets of ports."`
	Hours          []Hours          `json:"hours,omitempty" nullable:"false" doc:"Named times of the week."`
	Groups         []Group          `json:"groups,omitempty" nullable:"false" doc:"Groups of people. Who is in them is kept beside the plan."`
	Sources        []Source         `json:"sources,omitempty" nullable:"false" are:"ordered" doc:"Where people are kept beside the service's own users, in the order in which they are looked for."`
	Equipment      []Equipment      `json:"equipment,omitempty" nullable:"false" doc:"What else on the site's network asks the service about people."`
	Administrators []Administrators `json:"administrators,omitempty" nullable:"false" are:"ordered" doc:"People of sources who may sign in to the service itself, beside the administrators that it keeps; the first that holds one of somebody's groups counts."`
	Pools          []Pool           `json:"pools,omitempty" nullable:"false" are:"reach" doc:"Addresses that are leased to remote people."`
	Authorities    []Authority      `json:"authorities,omitempty" nullable:"false" doc:"Who issues certificates to people, beside the service itself."`
	Tunnels        []Tunnel         `json:"tunnels,omitempty" nullable:"false" are:"reach" doc:"The ways in."`
	Passages       []Passage        `json:"passages,omitempty" nullable:"false" are:"ordered,reach" doc:"How each class of people comes in; the first that admits one of the person's groups takes them."`
	NAT            []Translation    `json:"nat,omitempty" nullable:"false" are:"ordered,reach" doc:"Exemptions and translations of the gateway, first match decides."`
	Rules          []Rule           `json:"rules,omitempty" nullable:"false" are:"reach" doc:"What people may use. A refusal wins over a permission; nothing else is allowed."`
	Expectations   []Expectation    `json:"expectations,omitempty" nullable:"false" doc:"Who must reach what, and who must not."`
}

// Words with a meaning of their own where a name is expected.
const (
	Internet = "internet"
	Any      = "any"
	// Itself is the machine that a gateway runs on, at all of its addresses.
	Itself = "gateway-itself"

	Reach       = "reach"
	NotReach    = "not-reach"
	NothingElse = "nothing-else"

	Permit    = "permit"
	Refuse    = "refuse"
	Exempt    = "exempt"
	Translate = "translate"

	OnDemandNames  = "names"
	OnDemandAlways = "always"

	LoginMSCHAPv2    = "eap-mschapv2"
	LoginCertificate = "certificate" // of the person, by the own authority
	LoginPublicKey   = "public-key"  // of the person, without a certificate (RFC 7670)
	LoginSharedKey   = "pre-shared-key"
	LoginTTLS        = "eap-ttls"    // the password handed over inside TLS
	LoginEAPTLS      = "eap-tls"     // by a certificate of the person, inside EAP
	LoginRelayed     = "eap-relayed" // by whatever method of EAP a source has
	LoginBoth        = "certificate-and-eap-mschapv2"
)
