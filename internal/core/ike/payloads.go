package ike

import (
	"iter"
	"net/netip"

	"golang.org/x/crypto/cryptobyte"
)

func build(f func(b *cryptobyte.Builder)) []byte {
	b := cryptobyte.NewBuilder(make([]byte, 0, 64))
	f(b)
	return b.BytesOrPanic()
}

// keyExchange is the KE payload (RFC 7296 §3.4).
type keyExchange struct {
	group uint16
	data  []byte
}

func (k keyExchange) payload() payload {
	return payload{kind: plKE, body: build(func(b *cryptobyte.Builder) {
		b.AddUint16(k.group)
		b.AddUint16(0)
		b.AddBytes(k.data)
	})}
}

func parseKE(body []byte) (keyExchange, error) {
	s := cryptobyte.String(body)
	var k keyExchange
	if !s.ReadUint16(&k.group) || !s.Skip(2) || s.Empty() {
		return k, errMalformed
	}
	k.data = s
	return k, nil
}

// keyExchange is the KE payload of a message, where there is one.
func (m *message) keyExchange() (ke keyExchange, ok bool, err error) {
	body, ok := m.find(plKE)
	if ok {
		ke, err = parseKE(body)
	}
	return ke, ok, err
}

// Identification types (RFC 7296 §3.5).
const (
	idIPv4   = 1
	idFQDN   = 2
	idRFC822 = 3
	idIPv6   = 5
	idKey    = 11 // octets of the device's own
)

// identity is the body of an ID payload.
type identity struct {
	kind uint8
	data []byte
}

func (id identity) body() []byte { return append([]byte{id.kind, 0, 0, 0}, id.data...) }

func parseID(body []byte) (identity, error) {
	if len(body) < 4 {
		return identity{}, errMalformed
	}
	return identity{body[0], body[4:]}, nil
}

func (id identity) String() string {
	if id.kind == idIPv4 || id.kind == idIPv6 {
		if a, ok := netip.AddrFromSlice(id.data); ok {
			return a.String()
		}
	}
	return printable(id.data)
}

// identityFor is a gateway's name or address as an identity.
func identityFor(name string) identity {
	if a, err := netip.ParseAddr(name); err == nil {
		kind := uint8(idIPv6)
		if a.Is4() {
			kind = idIPv4
		}
		return identity{kind, a.AsSlice()}
	}
	return identity{idFQDN, []byte(name)}
}

// printable keeps hostile text out of journals: what is not plain becomes a question mark.
func printable(b []byte) string {
	out := make([]byte, 0, min(len(b), 128))
	for _, c := range b[:min(len(b), 128)] {
		if c < 0x20 || c > 0x7e {
			c = '?'
		}
		out = append(out, c)
	}
	return string(out)
}

const certX509 = 4 // X.509 certificate, signature (RFC 7296 §3.6)

// notifyType is the message type of a notification (RFC 7296 §3.10.1).
type notifyType uint16

const (
	nUnsupportedCritical  notifyType = 1
	nInvalidIKESPI        notifyType = 4
	nInvalidSyntax        notifyType = 7
	nInvalidSPI           notifyType = 11
	nInvalidMajorVersion  notifyType = 5
	nNoProposalChosen     notifyType = 14
	nInvalidKE            notifyType = 17
	nAuthenticationFailed notifyType = 24
	nNoAdditionalSAs      notifyType = 35
	nInternalAddress      notifyType = 36
	nTemporaryFailure     notifyType = 43
	nFailedCPRequired     notifyType = 37
	nTSUnacceptable       notifyType = 38
	nStateNotFound        notifyType = 47 // RFC 9370 §5
	nChildSANotFound      notifyType = 44
	nUnexpectedNAT        notifyType = 41 // RFC 4555 §4.1
	nInitialContact       notifyType = 16384
	nNATSource            notifyType = 16388
	nNATDestination       notifyType = 16389
	nCookie               notifyType = 16390
	nRekeySA              notifyType = 16393
	nMoves                notifyType = 16396 // MOBIKE_SUPPORTED, RFC 4555 §4.2; those that follow as well
	nUpdateAddresses      notifyType = 16400
	nCookie2              notifyType = 16401
	nNoNATsAllowed        notifyType = 16402
	nSeveral              notifyType = 16404 // MULTIPLE_AUTH_SUPPORTED, RFC 4739 §3
	nAnotherFollows       notifyType = 16405 // ANOTHER_AUTH_FOLLOWS
	nFollows              notifyType = 16406 // REDIRECT_SUPPORTED, RFC 5685 §10; those that follow as well
	nRedirect             notifyType = 16407
	nRedirectedFrom       notifyType = 16408
	nChildless            notifyType = 16418 // CHILDLESS_IKEV2_SUPPORTED, RFC 6023 §3
	nCrashToken           notifyType = 16419 // QUICK_CRASH_DETECTION, RFC 6290 §4.1
	nTicketLasting        notifyType = 16409 // TICKET_LT_OPAQUE, RFC 5723 §7.3; those that follow as well
	nTicketWanted         notifyType = 16410
	nTicketRefused        notifyType = 16412
	nTicket               notifyType = 16413
	nMixes                notifyType = 16435 // USE_PPK, RFC 8784 §5
	nMixedIdentity        notifyType = 16436 // PPK_IDENTITY
	nWithoutMixed         notifyType = 16437 // NO_PPK_AUTH
	nAdditional           notifyType = 16441 // ADDITIONAL_KEY_EXCHANGE, RFC 9370 §2.2.4
	nMethods              notifyType = 16443 // SUPPORTED_AUTH_METHODS, RFC 9593 §5
	nIntermediate         notifyType = 16438 // INTERMEDIATE_EXCHANGE_SUPPORTED, RFC 9242 §4
	nSignatureHashes      notifyType = 16431
	nFragments            notifyType = 16430 // RFC 7383 §2.3
)

var notifyWords = map[notifyType]string{
	nUnsupportedCritical: "UNSUPPORTED_CRITICAL_PAYLOAD", nInvalidMajorVersion: "INVALID_MAJOR_VERSION", nInvalidSyntax: "INVALID_SYNTAX", nNoProposalChosen: "NO_PROPOSAL_CHOSEN",
	nInvalidKE: "INVALID_KE_PAYLOAD", nAuthenticationFailed: "AUTHENTICATION_FAILED", nNoAdditionalSAs: "NO_ADDITIONAL_SAS",
	nInternalAddress: "INTERNAL_ADDRESS_FAILURE", nFailedCPRequired: "FAILED_CP_REQUIRED", nTSUnacceptable: "TS_UNACCEPTABLE",
	nChildSANotFound: "CHILD_SA_NOT_FOUND", nTemporaryFailure: "TEMPORARY_FAILURE", nUnexpectedNAT: "UNEXPECTED_NAT_DETECTED",
}

// isError tells whether the notification reports a failure.
func (n notifyType) isError() bool { return n < 16384 }

// notify is a Notify payload.
type notify struct {
	protocol uint8
	spi      []byte
	kind     notifyType
	data     []byte
}

func (n notify) payload() payload {
	return payload{kind: plNotify, body: build(func(b *cryptobyte.Builder) {
		b.AddUint8(n.protocol)
		b.AddUint8(uint8(len(n.spi)))
		b.AddUint16(uint16(n.kind))
		b.AddBytes(n.spi)
		b.AddBytes(n.data)
	})}
}

func parseNotify(body []byte) (notify, error) {
	s := cryptobyte.String(body)
	var n notify
	var size uint8
	var kind uint16
	if !s.ReadUint8(&n.protocol) || !s.ReadUint8(&size) || !s.ReadUint16(&kind) || !s.ReadBytes(&n.spi, int(size)) {
		return n, errMalformed
	}
	n.kind, n.data = notifyType(kind), s
	return n, nil
}

// notifies gives every well-formed notification of a message.
func (m *message) notifies() iter.Seq[notify] {
	return func(yield func(notify) bool) {
		for _, p := range m.payloads {
			if p.kind != plNotify {
				continue
			}
			if n, err := parseNotify(p.body); err == nil && !yield(n) {
				return
			}
		}
	}
}

func (m *message) notified(kind notifyType) ([]byte, bool) {
	for n := range m.notifies() {
		if n.kind == kind {
			return n.data, true
		}
	}
	return nil, false
}

// failure is the first error that a message reports.
func (m *message) failure() (notify, bool) {
	for n := range m.notifies() {
		if n.kind.isError() {
			return n, true
		}
	}
	return notify{}, false
}

// deletion is a Delete payload (RFC 7296 §3.11).
type deletion struct {
	protocol uint8
	spis     []uint32
}

func (d deletion) payload() payload {
	return payload{kind: plDelete, body: build(func(b *cryptobyte.Builder) {
		size := uint8(4)
		if d.protocol == protoIKE {
			size = 0
		}
		b.AddUint8(d.protocol)
		b.AddUint8(size)
		b.AddUint16(uint16(len(d.spis)))
		for _, spi := range d.spis {
			b.AddUint32(spi)
		}
	})}
}

func parseDelete(body []byte) (deletion, error) {
	s := cryptobyte.String(body)
	var d deletion
	var size uint8
	var count uint16
	if !s.ReadUint8(&d.protocol) || !s.ReadUint8(&size) || !s.ReadUint16(&count) {
		return d, errMalformed
	}
	switch {
	case d.protocol == protoIKE && size == 0 && count == 0 && s.Empty():
		return d, nil
	case d.protocol != protoAH && d.protocol != protoESP, size != 4, len(s) != 4*int(count):
		return d, errMalformed
	}
	for range count {
		var spi uint32
		if !s.ReadUint32(&spi) {
			return d, errMalformed
		}
		d.spis = append(d.spis, spi)
	}
	return d, nil
}
