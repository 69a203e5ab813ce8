package plan

import (
	"reflect"
	"strings"

	"yellowlantern/internal/core/netset"
)

// KindIKEv2 is the kind of tunnel that the product itself brings.
const KindIKEv2 = "ikev2"

// IKEv2 is what a tunnel of that kind says beside what every tunnel does.
type IKEv2 struct {
	Suites     []string    `json:"suites,omitempty" nullable:"false" eg:"aes256gcm-sha256-x25519, aes256gcm-sha256-p256" ask:"always" doc:"Algorithms as suites of encryption, PRF and group, in order of preference, such as aes256gcm-sha256-x25519."`
	Algorithms *Algorithms `json:"algorithms,omitempty" doc:"Algorithms item by item, in place of suites: every combination is offered, the first of each list first."`
	PFS        bool        `json:"pfs,omitempty" doc:"Renewed associations for traffic must have a key exchange of their own." then:"A key found later opens less; a device that renews without it loses its session."`
	Lifetimes  Lifetimes   `json:"lifetimes,omitzero" doc:"How long keys may be used. Whoever comes first renews them, the gateway when nine tenths are over; a session whose device does not go along is ended."`
	Liveness   Duration    `json:"liveness,omitempty" eg:"30s" doc:"After so long a silence the device is asked whether it is still there, 10s to 1h; 30s if not given."`
	Patience   Duration    `json:"patience,omitempty" eg:"1m" doc:"For how long the gateway's questions may stay without an answer before the device counts as gone, 10s to 10m; 4m if not given." then:"A phone that is out of reach for less keeps its session; its address stays leased meanwhile."`
	Keepalive  Duration    `json:"keepalive,omitempty" eg:"20s" doc:"How often devices behind a translation keep it open, 5s to 5m; 20s if not given. The device does it."`
	TCPPort    int         `json:"tcp-port,omitempty" minimum:"0" maximum:"65535" eg:"443" doc:"Port on which the tunnel is also offered over TCP (RFC 9329), for networks that drop UDP; not offered if not given." then:"Systems' built-in clients do not use it; our own client does. Whatever stands in front must let it through."`
}

// Algorithms lists algorithms item by item, the preferred first.
type Algorithms struct {
	Encryption []string `json:"encryption" nullable:"false" enum:"aes256gcm,aes128gcm,chacha20poly1305" doc:"With integrity of their own (RFC 4106, RFC 5282, RFC 7634)."`
	PRF        []string `json:"prf" nullable:"false" enum:"sha256,sha384,sha512" doc:"HMAC with these hashes (RFC 4868)."`
	Groups     []string `json:"groups" nullable:"false" enum:"x25519,p256,p384,p521" doc:"Groups of the key exchange (RFC 8031, RFC 5903)."`
}

// Lifetimes bound how long keys are used; zero: as long as the session lasts.
type Lifetimes struct {
	IKE Duration `json:"ike,omitempty" eg:"24h" doc:"Of the association that carries the session, 10m to 168h; as long as the session lasts if not given."`
	ESP Duration `json:"esp,omitempty" eg:"8h" doc:"Of the associations for traffic, 5m to 168h; as long as the session lasts if not given."`
}

// IKEv2 gives the settings of a tunnel of that kind; of another kind there are none.
func (t Tunnel) IKEv2() *IKEv2 {
	if o, ok := t.Own.(*IKEv2); ok {
		return o
	}
	return &IKEv2{}
}

// SuiteNames lists the tunnel's suites in order of preference, also where algorithms are given item by item: then encryption is
// chosen before the PRF, and that before the group.
func (o *IKEv2) SuiteNames() []string {
	if o.Algorithms == nil {
		return o.Suites
	}
	var out []string
	for _, e := range o.Algorithms.Encryption {
		for _, p := range o.Algorithms.PRF {
			for _, g := range o.Algorithms.Groups {
				out = append(out, strings.Join([]string{e, p, g}, "-"))
			}
		}
	}
	return out
}

// ikev2 is what plans know of the kind.
var ikev2 = Kind{
	Name: KindIKEv2, Options: reflect.TypeFor[IKEv2](),
	Ports: func(t Tunnel) []netset.Point {
		out := []netset.Point{netset.PortPoint(netset.UDP, 500), netset.PortPoint(netset.UDP, 4500)}
		if port := t.IKEv2().TCPPort; port > 0 {
			out = append(out, netset.PortPoint(netset.TCP, uint16(port)))
		}
		return out
	},
}
