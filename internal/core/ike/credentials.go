package ike

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/x509"
	"slices"
)

// Credential is a certificate with those above it, DER, and its key.
type Credential struct {
	Chain [][]byte
	Key   crypto.Signer
	// Root is the authority at the top, DER, which is not shown; nil: not known.
	Root []byte
}

// credential picks by which of two certificates the gateway proves itself to a device: by what it announces to take (RFC 9593), then by the
// authorities that it asks for (RFC 7296 §3.7), and otherwise by the first, or by RSA for one that announces nothing, unless it is known
// that all devices here take the first: older systems take nothing else.
func (t Tunnel) credential(m *message, announced announcements, h hashes) Credential {
	all := []Credential{t.Credential}
	if t.Second.Key == nil {
		return t.Credential
	}
	all = append(all, t.Second)
	keep := func(takes func(Credential) bool) {
		if some := slices.DeleteFunc(slices.Clone(all), func(c Credential) bool { return !takes(c) }); len(some) > 0 {
			all = some
		}
	}
	told := announced != nil
	if told {
		keep(func(c Credential) bool { return announced.takes(c.Key.Public(), h) })
	}
	if asked := authoritiesIn(m); len(asked) > 0 {
		keep(func(c Credential) bool { return c.under(asked) })
	}
	if !told && !t.Known {
		keep(func(c Credential) bool { _, is := c.Key.Public().(*rsa.PublicKey); return is })
	}
	return all[0]
}

// authoritiesIn are the authorities that a message asks for certificates of, by the SHA-1 of their public keys.
func authoritiesIn(m *message) (out [][sha1.Size]byte) {
	for _, p := range m.payloads {
		if p.kind != plCertReq || len(p.body) == 0 || p.body[0] != certX509 {
			continue
		}
		for b := p.body[1:]; len(b) >= sha1.Size && len(out) < mostAuthorities; b = b[sha1.Size:] {
			out = append(out, [sha1.Size]byte(b))
		}
	}
	return out
}

const mostAuthorities = 1024 // that a device asks for; several systems name all that they trust

// under tells whether a certificate is of one of the authorities.
func (c Credential) under(asked [][sha1.Size]byte) bool {
	for _, der := range append(slices.Clone(c.Chain[1:]), c.Root) {
		a, err := x509.ParseCertificate(der)
		if err == nil && slices.Contains(asked, sha1.Sum(a.RawSubjectPublicKeyInfo)) {
			return true
		}
	}
	return false
}

// announcement is one method by which a side takes AUTH (RFC 9593 §3.2): algorithm is for method 14 its AlgorithmIdentifier.
type announcement struct {
	method    uint8
	algorithm string
}

type announcements []announcement

// payload writes SUPPORTED_AUTH_METHODS. They are linked with no authority.
func (as announcements) payload() payload {
	var data []byte
	for _, a := range as {
		one := []byte{2, a.method}
		if a.method != authSharedKey {
			one = append(one, 0)
		}
		one = append(one, a.algorithm...)
		one[0] = byte(len(one))
		data = append(data, one...)
	}
	return notify{kind: nMethods, data: data}.payload()
}

// announcedIn reads what the other side announces; nil: nothing, or nothing that can be read.
func announcedIn(m *message) (out announcements) {
	data, _ := m.notified(nMethods)
	for len(data) > 0 {
		n := int(data[0])
		if n < 2 || n > len(data) {
			return nil
		}
		a := announcement{method: data[1]}
		if n > 3 {
			a.algorithm = string(data[3:n])
		}
		out, data = append(out, a), data[n:]
	}
	return out
}

// takes tells whether a signature that we could write with a key is among them.
func (as announcements) takes(key crypto.PublicKey, h hashes) bool {
	var ways []announcement
	by := func(all ...signing) {
		for _, w := range all {
			if h.has(w.hash) {
				ways = append(ways, announcement{authSignature, string(w.id)})
			}
		}
	}
	switch k := key.(type) {
	case *rsa.PublicKey:
		by(rsaSignings...)
		ways = append(ways, announcement{method: authRSA})
	case *ecdsa.PublicKey:
		by(ecdsaSignings...)
		for method, older := range olderWays {
			if older.curve == k.Curve {
				ways = append(ways, announcement{method: method})
			}
		}
	case ed25519.PublicKey:
		by(ed25519Signing)
	}
	return slices.ContainsFunc(ways, func(w announcement) bool { return slices.Contains(as, w) })
}

// bySignature are all the ways to sign that we take.
func bySignature() (out announcements) {
	for _, w := range slices.Concat(ecdsaSignings, rsaSignings, []signing{ed25519Signing}) {
		out = append(out, announcement{authSignature, string(w.id)})
	}
	for _, method := range []uint8{authECDSA256, authECDSA384, authECDSA521, authRSA} {
		out = append(out, announcement{method: method})
	}
	return out
}

// methods are the ways in which devices may prove themselves by any of the tunnels: after EAP they do so by a shared key.
func (s Settings) methods() (out announcements) {
	for _, t := range s.tunnels() {
		add := announcements{{method: authSharedKey}}
		if t.Proof == ByCertificate || t.Proof == ByPublicKey || t.Proof == ByBoth {
			add = bySignature()
		}
		for _, a := range add {
			if !slices.Contains(out, a) {
				out = append(out, a)
			}
		}
	}
	return out
}
