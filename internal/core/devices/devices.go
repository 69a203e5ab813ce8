// Package devices says what systems' own clients offer and can be set to, by their makers' published documents. None of them could be tried
// here: each entry names its source. Findings, plans made from answers, tests and docs/devices.md are made of it.
package devices

import (
	"slices"
	"time"

	"yellowlantern/internal/core/algorithm"
)

// Platform is a kind of device.
type Platform struct {
	Word   string // in plans
	Name   string
	Source string // where its maker says so
	Tried  bool   // here, for real
	// Default is offered without being set up, Able what it can be set to.
	Default, Able algorithm.Set
	Logins        []string      // the ways of logging in that it has
	RenewsIKE     time.Duration // after which it renews by itself; 0: not told
	RenewsESP     time.Duration
	PFS           bool // it renews with a key exchange of its own, if it is set to
	Fragments     bool // IKE messages (RFC 7383)
	Moves         bool // MOBIKE (RFC 4555)
	MixesIn       bool // shared keys (RFC 8784)
	// Sleeps is for how long a device may be without a network, or asleep, and goes on with its session afterwards, if the gateway lets
	// it; 0: not told.
	Sleeps  time.Duration
	Setting string
	// Identity is the kind of key that a kit's identity has (cert.ECDSA, cert.RSA), OldFile that files of it (PKCS #12) are encrypted as
	// older systems can read them.
	Identity string
	OldFile  bool
	// Takes are the kinds of keys of a gateway's certificate that it surely takes, though it announces nothing.
	Takes []string
	// Demands is what it wants of a gateway's certificate.
	Demands string
	// CallsItself is what it sends for itself, AsksFor for whom it dials (RFC 7296 §3.5). NamesNone is that it asks for nobody by name,
	// so that of several tunnels it gets its gateway's first.
	CallsItself, AsksFor string
	NamesNone            bool
	// Routes, Names and IPv6 are how it learns them.
	Routes, Names, IPv6 string
}

// Platforms are all of them.
var Platforms = []Platform{
	{
		Word: "windows", Name: "Windows 10 and 11",
		Source: "its maker: Set-VpnConnectionIPsecConfiguration; Configure cryptographic settings for IKEv2 VPN connections; VPNv2 CSP; RasSetEntryProperties (network outage time)",
		Default: algorithm.Set{
			Encryption: []string{"AES-256-CBC", "3DES-CBC"}, Integrity: []string{"HMAC-SHA1-96", "HMAC-SHA2-256-128", "HMAC-SHA2-384-192"},
			PRF: []string{"PRF-HMAC-SHA1", "PRF-HMAC-SHA2-256", "PRF-HMAC-SHA2-384"}, Groups: []string{"MODP-1024"},
		},
		Able: algorithm.Set{
			Encryption: []string{"AES-128-GCM-16", "AES-256-GCM-16", "AES-128-CBC", "AES-256-CBC", "3DES-CBC"},
			Integrity:  []string{"HMAC-SHA2-256-128", "HMAC-SHA2-384-192", "HMAC-SHA1-96"},
			PRF:        []string{"PRF-HMAC-SHA2-256", "PRF-HMAC-SHA2-384", "PRF-HMAC-SHA1"},
			Groups:     []string{"P-256", "P-384", "MODP-2048", "MODP-1024"},
		},
		Identity: "rsa", Takes: []string{"rsa"},
		Demands:     "the dialled name, serverAuth, and an authority that the machine trusts, not only its user",
		CallsItself: "its address", AsksFor: "nothing", NamesNone: true,
		Routes: "none of IKE: by DHCPINFORM, or set beforehand", Names: "servers by IKE; the domain by DHCPINFORM, or set beforehand",
		IPv6:      "a router advertisement in the tunnel",
		Logins:    []string{"eap-mschapv2", "eap-relayed", "certificate", "eap-tls", "eap-ttls"},
		RenewsIKE: 8 * time.Hour, RenewsESP: time.Hour, PFS: true, Fragments: true, Moves: true, Sleeps: 30 * time.Minute,
		Setting: "Set-VpnConnectionIPsecConfiguration in PowerShell; the settings' own page has no place for it",
	},
	{
		Word: "apple", Name: "macOS 13, iOS and iPadOS 16 and later",
		Source: "its maker: Device Management, VPN.IKEv2, IKESecurityAssociationParameters and ChildSecurityAssociationParameters",
		Default: algorithm.Set{
			Encryption: []string{"AES-256-CBC"}, Integrity: []string{"HMAC-SHA2-256-128"}, PRF: []string{"PRF-HMAC-SHA2-256"},
			Groups: []string{"MODP-2048"},
		},
		Able: algorithm.Set{
			Encryption: []string{"AES-256-GCM-16", "AES-128-GCM-16", "ChaCha20-Poly1305", "AES-256-CBC", "AES-128-CBC", "3DES-CBC"},
			Integrity:  []string{"HMAC-SHA2-256-128", "HMAC-SHA2-384-192", "HMAC-SHA2-512-256", "HMAC-SHA1-96"},
			PRF:        []string{"PRF-HMAC-SHA2-256", "PRF-HMAC-SHA2-384", "PRF-HMAC-SHA2-512", "PRF-HMAC-SHA1"},
			Groups: []string{
				"X25519", "P-256", "P-384", "P-521", "MODP-2048", "MODP-3072", "MODP-4096", "MODP-6144", "MODP-8192", "MODP-1024",
			},
			Additional: []string{"ML-KEM-768", "ML-KEM-1024"}, // from version 26 on
		},
		Identity: "ecdsa", OldFile: true, Takes: []string{"rsa", "ecdsa"},
		Demands:     "the remote identifier of its profile, serverAuth, and an authority that the profile brings, or a public one",
		CallsItself: "the local identifier of its profile", AsksFor: "the remote identifier of its profile",
		Routes: "the traffic selectors that it is given", Names: "servers by IKE; domains by IKE (RFC 8598) or the profile",
		IPv6:      "its address by IKE",
		Logins:    []string{"eap-mschapv2", "eap-relayed", "certificate", "eap-tls", "pre-shared-key"},
		RenewsIKE: 24 * time.Hour, RenewsESP: 24 * time.Hour, PFS: true, Fragments: true, Moves: true,
		Setting: "a configuration profile; the settings' own page has no place for it",
	},
	{
		Word: "android", Name: "Android 12 and later",
		Source: "its maker: Ikev2VpnProfile, IkeSaProposal and ChildSaProposal; the sources of its VPN settings",
		Default: algorithm.Set{
			Encryption: []string{"AES-256-CBC", "AES-128-CBC", "ChaCha20-Poly1305", "AES-256-GCM-16", "AES-128-GCM-16"},
			Integrity:  []string{"HMAC-SHA2-512-256", "HMAC-SHA2-384-192", "HMAC-SHA2-256-128"},
			PRF:        []string{"PRF-HMAC-SHA2-512", "PRF-HMAC-SHA2-384", "PRF-HMAC-SHA2-256"},
			Groups:     []string{"MODP-4096", "X25519", "MODP-3072", "MODP-2048"},
		},
		Able: algorithm.Set{
			Encryption: []string{"AES-256-GCM-16", "AES-128-GCM-16", "ChaCha20-Poly1305", "AES-256-CBC", "AES-128-CBC"},
			Integrity:  []string{"HMAC-SHA2-256-128", "HMAC-SHA2-384-192", "HMAC-SHA2-512-256"},
			PRF:        []string{"PRF-HMAC-SHA2-256", "PRF-HMAC-SHA2-384", "PRF-HMAC-SHA2-512"},
			Groups:     []string{"X25519", "MODP-2048", "MODP-3072", "MODP-4096"},
		},
		Identity: "rsa", OldFile: true, Takes: []string{"rsa"},
		Demands:     "the dialled name, and the authority that is chosen for the connection, or a public one",
		CallsItself: "the identifier of its settings", AsksFor: "the dialled name",
		Routes: "the traffic selectors that it is given", Names: "servers by IKE; no domains", IPv6: "its address by IKE",
		Logins:    []string{"eap-mschapv2", "eap-relayed", "certificate", "eap-tls", "pre-shared-key"},
		RenewsIKE: 2 * time.Hour, RenewsESP: time.Hour, Fragments: true, Moves: true,
		Setting: "nothing of it can be set",
	},
	{
		Word: "own-client", Name: "yl dial", Source: "this project", Tried: true,
		Default: algorithm.OfLevel(algorithm.Broad), Able: everything(),
		Logins: []string{"eap-mschapv2", "eap-relayed", "certificate", "public-key", "pre-shared-key", "certificate-and-eap-mschapv2", "eap-ttls", "eap-tls"}, MixesIn: true, PFS: true, Fragments: true, Moves: true,
		Takes:   []string{"rsa", "ecdsa"},
		Demands: "the name of its kit, and an authority of its kit", CallsItself: "the user's name", AsksFor: "the name of its kit",
		Routes: "the traffic selectors that it is given", Names: "servers and domains by IKE (RFC 8598)", IPv6: "its address by IKE",
		Setting: "its kit",
	},
}

func everything() (out algorithm.Set) {
	for _, a := range algorithm.All {
		list := out.Kind(a.Kind)
		*list = append(*list, a.Name)
	}
	return out
}

// OwnClient is the word for our own client in plans, and OwnKit that for its kit.
const (
	OwnClient = "own-client"
	OwnKit    = "yl-dial"
)

// Named finds a platform by its word.
func Named(word string) (Platform, bool) {
	if word == OwnKit {
		word = OwnClient
	}
	i := slices.IndexFunc(Platforms, func(p Platform) bool { return p.Word == word })
	if i < 0 {
		return Platform{}, false
	}
	return Platforms[i], true
}
