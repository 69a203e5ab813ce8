package plan

import (
	"reflect"
	"slices"
	"strings"

	"yellowlantern/internal/core/algorithm"
	"yellowlantern/internal/core/netset"
)

// Whether keys are mixed in.
const (
	MixedInAccept = "accept"
	MixedInDemand = "demand"
)

// KindIKEv2 is the kind of tunnel that the product itself brings.
const KindIKEv2 = "ikev2"

// IKEv2 is what a tunnel of that kind says beside what every tunnel does.
type IKEv2 struct {
	Algorithms *Algorithms `json:"algorithms,omitempty" ask:"always" doc:"What keys and traffic are protected with: a level, or items by name, or both."`
	MixedIn    string      `json:"mixed-in-key,omitempty" enum:"accept,demand" doc:"Keys that people share with the gateway beside what they log in with, mixed into those for traffic (RFC 8784), so that traffic recorded today is not read by a quantum computer later; the login is. accept: where a device names one. demand: devices without one are refused." then:"yl dial has it; systems' own clients do not."`
	SHA1       bool        `json:"sha1-signatures,omitempty" doc:"Takes signatures with SHA-1 of people's RSA keys, where they log in by certificate." then:"Some systems write no others. Whoever can make two messages with one SHA-1, which has been done, comes closer to writing another's."`
	PFS        bool        `json:"pfs,omitempty" doc:"Renewed associations for traffic must have a key exchange of their own." then:"A key found later opens less; a device that renews without it loses its session."`
	Lifetimes  Lifetimes   `json:"lifetimes,omitzero" doc:"How long keys may be used. Whoever comes first renews them, the gateway when nine tenths are over; a session whose device does not go along is ended."`
	Liveness   Duration    `json:"liveness,omitempty" eg:"30s" doc:"After so long a silence the device is asked whether it is still there, 10s to 1h; 30s if not given."`
	Patience   Duration    `json:"patience,omitempty" eg:"1m" doc:"For how long the gateway's questions may stay without an answer before the device counts as gone, 10s to 10m; 4m if not given." then:"A phone that is out of reach for less keeps its session; its address stays leased meanwhile."`
	Keepalive  Duration    `json:"keepalive,omitempty" eg:"20s" doc:"How often devices behind a translation keep it open, 5s to 5m; 20s if not given. The device does it."`
	SendTo     string      `json:"send-to,omitempty" eg:"other.tern.example" doc:"Another gateway, by name or address, to which devices are sent on that follow (RFC 5685), before they log in; others are served here." then:"yl dial follows; systems' own clients mostly do not. The other gateway's certificate must be of an authority that they trust."`
	// Suites are joined words of three algorithms, as versions before 0.11 named them: they are read once more, and a finding rewrites
	// them.
	Suites  []string `json:"suites,omitempty" nullable:"false" gone:"true"`
	TCPPort int      `json:"tcp-port,omitempty" minimum:"0" maximum:"65535" eg:"443" doc:"Port on which the tunnel is also offered over TCP (RFC 9329), for networks that drop UDP; not offered if not given." then:"Systems' built-in clients do not use it; our own client does. Whatever stands in front must let it through."`
}

// Algorithms names algorithms by a level, item by item, or both. docs/devices.md and package algorithm tie each word to IANA's registry.
type Algorithms struct {
	Level      string   `json:"level,omitempty" enum:"strict,broad,legacy" eg:"strict" doc:"strict: encryption that protects integrity itself, and groups on curves. broad: and AES-CBC with HMAC-SHA2, and MODP-2048, which systems' own clients offer without being set up. legacy: and 3DES, HMAC-SHA1-96 and MODP-1024, which no longer withstand attacks."`
	Encryption []string `json:"encryption,omitempty" nullable:"false" enum:"AES-256-GCM-16,AES-128-GCM-16,ChaCha20-Poly1305,AES-256-CBC,AES-128-CBC,3DES-CBC" was:"aes256gcm,aes128gcm,chacha20poly1305" doc:"Further ones, or all where no level is named; the preferred first."`
	Integrity  []string `json:"integrity,omitempty" nullable:"false" enum:"HMAC-SHA2-256-128,HMAC-SHA2-384-192,HMAC-SHA2-512-256,HMAC-SHA1-96" doc:"For AES-CBC and 3DES-CBC, which protect no integrity themselves."`
	PRF        []string `json:"prf,omitempty" nullable:"false" enum:"PRF-HMAC-SHA2-256,PRF-HMAC-SHA2-384,PRF-HMAC-SHA2-512,PRF-HMAC-SHA1" was:"sha256,sha384,sha512" doc:"What keys are made with."`
	Groups     []string `json:"groups,omitempty" nullable:"false" enum:"X25519,P-256,P-384,P-521,MODP-2048,MODP-3072,MODP-4096,MODP-6144,MODP-8192,MODP-1024" was:"x25519,p256,p384,p521" doc:"Of the key exchange. MODP-3072 to MODP-8192 are in no level: they take long."`
	Additional []string `json:"additional,omitempty" nullable:"false" enum:"ML-KEM-768,ML-KEM-1024" doc:"Key exchanges beside that by group, where the device has one (RFC 9370): what is recorded today is then not read by a quantum computer later."`
	Demand     bool     `json:"demand-additional,omitempty" doc:"Devices without an additional key exchange are refused." then:"Most systems' own clients have none."`
}

// Lifetimes bound how long keys are used; zero: as long as the session lasts.
type Lifetimes struct {
	IKE Duration `json:"ike,omitempty" eg:"24h" doc:"Of the association that carries the session, 10m to 168h; as long as the session lasts if not given."`
	ESP Duration `json:"esp,omitempty" eg:"8h" doc:"Of the associations for traffic, 5m to 168h; as long as the session lasts if not given."`
	// What keys for traffic may protect, in one direction.
	ESPPackets   int `json:"esp-packets,omitempty" minimum:"0" maximum:"8000000000" eg:"2000000000" doc:"How many packets keys for traffic may protect one way, 1,000,000 to 8,000,000,000; nearly as many as there are sequence numbers if not given."`
	ESPMegabytes int `json:"esp-megabytes,omitempty" minimum:"0" maximum:"1000000000" eg:"500000" doc:"How much keys for traffic may protect one way, in millions of octets, at least 1,000; 3DES-CBC never more than 2,147." then:"At 1 Gbit/s a thousand of them are eight seconds."`
}

// IKEv2 gives the settings of a tunnel of that kind; of another kind there are none.
func (t Tunnel) IKEv2() *IKEv2 {
	if o, ok := t.Own.(*IKEv2); ok {
		return o
	}
	return &IKEv2{}
}

// Set are the algorithms of the tunnel: those of the level, then those that are named besides. Words of versions before 0.11 count as what
// they are called now.
func (o *IKEv2) Set() algorithm.Set {
	var out algorithm.Set
	add := func(k algorithm.Kind, words []string) {
		list := out.Kind(k)
		for _, w := range words {
			if a, ok := algorithm.Named(k, w); ok {
				w = a.Name
			}
			if !slices.Contains(*list, w) {
				*list = append(*list, w)
			}
		}
	}
	if a := o.Algorithms; a != nil {
		level := algorithm.OfLevel(a.Level)
		for _, k := range algorithm.Kinds {
			add(k, *level.Kind(k))
		}
		add(algorithm.Encryption, a.Encryption)
		add(algorithm.Integrity, a.Integrity)
		add(algorithm.PRF, a.PRF)
		add(algorithm.Group, a.Groups)
		add(algorithm.Additional, a.Additional)
	}
	for _, s := range o.Suites {
		for i, w := range strings.SplitN(s, "-", 3) {
			if k := []algorithm.Kind{algorithm.Encryption, algorithm.PRF, algorithm.Group}[i]; isWord(k, w) {
				add(k, []string{w})
			}
		}
	}
	return out
}

func isWord(k algorithm.Kind, w string) bool {
	_, ok := algorithm.Named(k, w)
	return ok
}

// OfSuites is what joined words of versions before 0.11 stand for.
func OfSuites(suites []string) algorithm.Set { return (&IKEv2{Suites: suites}).Set() }

// Adding are the edits by which a tunnel gets further algorithms; none where it names none at all, or in words of earlier versions.
func (t Tunnel) Adding(more algorithm.Set) (out []Edit) {
	a := t.IKEv2().Algorithms
	if a == nil || len(t.IKEv2().Suites) > 0 {
		return nil
	}
	for _, k := range algorithm.Kinds {
		named := map[algorithm.Kind][]string{
			algorithm.Encryption: a.Encryption, algorithm.Integrity: a.Integrity, algorithm.PRF: a.PRF, algorithm.Group: a.Groups,
			algorithm.Additional: a.Additional,
		}[k]
		path := "tunnels/" + t.Name + "/algorithms/" + k.String()
		for i, w := range *more.Kind(k) {
			if len(named) == 0 && i == 0 {
				out = append(out, Edit{Op: "set", Path: path, Value: "[" + w + "]"})
				continue
			}
			out = append(out, Edit{Op: "add", Path: path, Value: w})
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
