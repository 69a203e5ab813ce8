package plan

import "net/netip"

// How equipment has people log in: beside those of tunnels the two that hand something over without EAP.
const (
	AskPassword = "password"
	AskMSCHAPv2 = "ms-chapv2"
)

// DefaultEquipmentPort is where RADIUS is asked (RFC 2865 §3).
const DefaultEquipmentPort = 1812

// Equipment is something else on the site's network that asks the service about people, by RADIUS: switches, access points, other servers.
type Equipment struct {
	Name        string         `json:"name" eg:"jetty-switches" doc:"Its name."`
	Addresses   []netip.Prefix `json:"addresses" nullable:"false" eg:"10.20.0.0/28" doc:"Where it asks from; of several that hold an address the longest counts."`
	Secret      string         `json:"secret" kept:"secret" eg:"jetty-switches" doc:"Name of the secret that both share, kept beside the plan (yl secret make)."`
	Groups      []string       `json:"groups" nullable:"false" ref:"groups" doc:"Whom it may let in; others are refused."`
	Logins      []string       `json:"logins,omitempty" nullable:"false" enum:"password,ms-chapv2,eap-mschapv2,eap-ttls,eap-tls" doc:"How it may have people log in: password: handed over (PAP); ms-chapv2: an answer to a challenge; eap-mschapv2, eap-ttls and eap-tls: as by tunnels, with certificates of the own authority. eap-ttls and eap-mschapv2 if not given." then:"Of a password that is handed over the equipment learns."`
	Certificate string         `json:"certificate,omitempty" kept:"certificate" eg:"gate" doc:"Name of the certificate that is shown inside EAP-TTLS and EAP-TLS, kept beside the plan."`
	// Factor is asked for in the login itself: nobody can be held here.
	Factor bool `json:"second-factor,omitempty" doc:"People give a code of their second factor here too: behind a password that is handed over, or when the equipment asks once more (password, and EAP-GTC inside eap-ttls). Those who have none are refused." then:"By ms-chapv2, eap-mschapv2 and eap-tls there is no room for a code: nobody gets in by these."`
	// Optional lets in who has none.
	Optional bool    `json:"factor-optional,omitempty" doc:"With second-factor: people who have no second factor get in without one." then:"The password of one of these people is enough to get in."`
	Gives    []Given `json:"gives,omitempty" nullable:"false" doc:"What it is told to do with people; the first that fits counts."`
	Off      bool    `json:"off,omitempty" doc:"Keeps it without answering it."`
}

// Given is what equipment is told to do with people.
type Given struct {
	Groups  []string   `json:"groups,omitempty" nullable:"false" ref:"groups" doc:"For people of these groups; for everybody if neither groups nor users are given."`
	Users   []string   `json:"users,omitempty" kept:"user" nullable:"false" eg:"rory.researcher" doc:"For these people."`
	VLAN    int        `json:"vlan,omitempty" minimum:"0" maximum:"4094" eg:"20" doc:"The VLAN that they are put into (RFC 3580), 1 to 4094; none is told if not given."`
	Address netip.Addr `json:"address,omitzero" eg:"10.20.30.77" doc:"The address that they are to have (Framed-IP-Address)."`
}

// Ways are how it has people log in.
func (e *Equipment) Ways() []string {
	if len(e.Logins) == 0 {
		return []string{LoginTTLS, LoginMSCHAPv2}
	}
	return e.Logins
}
