package ike

import (
	"crypto"
	"crypto/hmac"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"io"
	"net/netip"
	"slices"
	"time"

	"yellowlantern/internal/core/eap"
)

// Tunnel is one way in, told apart from others by the name that the device asks for (IDr, RFC 7296 §2.15).
type Tunnel struct {
	ID     string        // what the plan calls it
	Name   string        // what people dial: the gateway's identity, held by its certificate
	Chain  [][]byte      // certificates in DER, the gateway's first
	Key    crypto.Signer // of the gateway's certificate
	Suites []Suite       // in order of preference
	PFS    bool          // renewed Child SAs must have a key exchange of their own
	// Liveness is after how long a silence the peer is asked whether it is still there; IKELife and ESPLife are how long keys may be
	// used without being renewed (0: no limit).
	Liveness, IKELife, ESPLife time.Duration
}

// Settings is how a gateway answers callers: by the tunnel that they ask for, or by the first, which is embedded.
type Settings struct {
	Tunnel
	More []Tunnel
	Rand io.Reader
	// CookieAbove is how many half-open SAs there may be before callers must show that they own their address (RFC 7296
	// §2.6); MaxHalfOpen how many at all.
	CookieAbove, MaxHalfOpen int
	// LoginTime is how long a login may take from the first message on.
	LoginTime time.Duration
	LogKeys   bool
}

// DefaultSettings fills in what need not be chosen.
func DefaultSettings() Settings {
	return Settings{Tunnel: Tunnel{Suites: []Suite{X25519, P256}, Liveness: 30 * time.Second}, CookieAbove: 64, MaxHalfOpen: 1024, LoginTime: 30 * time.Second}
}

// Counters counts what was dropped and why; nothing of it is answered.
type Counters struct {
	Malformed, OutOfState, Replayed, Undecryptable, Overload, Cookies uint64
}

// Listener is the responder for all callers of a gateway. It is not safe for concurrent use.
type Listener struct {
	set      Settings
	sas      map[ID]*responder      // by session
	spis     map[uint64]*responder  // by our SPI: a session whose IKE SA is renewed has another one
	opening  map[openKey]*responder // by the caller's SPI and address: IKE_SA_INIT may be sent again
	children map[uint32]ID
	secret   [32]byte // for cookies
	halfOpen int
	out      []Output
	Counters Counters
}

type openKey struct {
	spi  uint64
	addr netip.AddrPort
}

// NewListener checks the settings and begins without any caller.
func NewListener(set Settings) (*Listener, error) {
	if err := set.check(); err != nil {
		return nil, err
	}
	l := &Listener{set: set, sas: map[ID]*responder{}, spis: map[uint64]*responder{}, opening: map[openKey]*responder{}, children: map[uint32]ID{}}
	_, err := io.ReadFull(set.Rand, l.secret[:])
	return l, err
}

func (l *Listener) emit(o Output) { l.out = append(l.out, o) }

func (l *Listener) take() []Output {
	out := l.out
	l.out = nil
	return out
}

// Handle takes one datagram (without the four zero octets of UDP 4500).
func (l *Listener) Handle(now time.Time, from Peer, data []byte) []Output {
	m, err := parseMessage(data)
	if err != nil {
		l.Counters.Malformed++
		return l.take()
	}
	if m.exchange == ikeSAInit {
		l.init(now, from, m)
		return l.take()
	}
	r := l.spis[m.spiR]
	if r == nil || r.spiI != m.spiI || !m.fromInitiator() || r.keys == nil {
		l.Counters.OutOfState++
		return l.take()
	}
	r.handle(now, from, m)
	return l.take()
}

// init answers IKE_SA_INIT (RFC 7296 §1.2).
func (l *Listener) init(now time.Time, from Peer, m *message) {
	if m.response() || !m.fromInitiator() || m.id != 0 || m.spiR != 0 {
		l.Counters.OutOfState++
		return
	}
	key := openKey{m.spiI, from.Addr}
	if r := l.opening[key]; r != nil {
		if string(r.initRequest) == string(m.raw) {
			l.Counters.Replayed++
			l.emit(Send{from, r.initResponse})
		} else {
			l.Counters.OutOfState++
		}
		return
	}
	nonce, _ := m.find(plNonce)
	saBody, okSA := m.find(plSA)
	keBody, okKE := m.find(plKE)
	offered, errSA := parseSA(saBody)
	ke, errKE := parseKE(keBody)
	if !okSA || !okKE || errSA != nil || errKE != nil || len(nonce) < 16 || len(nonce) > 256 {
		l.Counters.Malformed++
		return
	}
	switch {
	case l.halfOpen >= l.set.MaxHalfOpen:
		l.Counters.Overload++
		return
	case l.halfOpen >= l.set.CookieAbove:
		want := l.cookie(from, m.spiI, nonce)
		if got, ok := m.notified(nCookie); !ok || !hmac.Equal(got, want) {
			l.Counters.Cookies++
			l.refuseInit(from, m, notify{kind: nCookie, data: want})
			return
		}
	}
	chosen, suite, ok := chooseIKE(offered, l.set.allSuites(), nil)
	if !ok {
		l.emit(Note{Peer: from, Code: notifyWords[nNoProposalChosen], Offered: describe(offered), Wanted: describeSuites(l.set.allSuites()),
			Words: "a device offers no set of algorithms that this tunnel has"})
		l.refuseInit(from, m, notify{kind: nNoProposalChosen})
		return
	}
	if ke.group != suite.group { // the device guessed another group: tell which one, it begins again (RFC 7296 §1.2)
		l.refuseInit(from, m, notify{kind: nInvalidKE, data: binary.BigEndian.AppendUint16(nil, suite.group)})
		return
	}
	l.open(now, from, m, nonce, chosen, suite, ke)
}

// open makes the SA and answers.
func (l *Listener) open(now time.Time, from Peer, m *message, ni []byte, chosen proposal, suite Suite, ke keyExchange) {
	half, err := newDH(suite.group, l.set.Rand)
	if err != nil {
		return
	}
	shared, err := half.shared(ke.data)
	if err != nil {
		l.Counters.Malformed++
		l.refuseInit(from, m, notify{kind: nInvalidSyntax})
		return
	}
	id, nr := l.newID(), make([]byte, nonceLen)
	if _, err := io.ReadFull(l.set.Rand, nr); err != nil || id == 0 {
		return
	}
	r := &responder{l: l, id: id, spi: uint64(id), spiI: m.spiI, peer: from, tunnel: l.set.Tunnel, keyed: now, suite: suite, ni: append([]byte{}, ni...), nr: nr, born: now, heard: now, expect: 1,
		open: openKey{m.spiI, from.Addr}, initRequest: append([]byte{}, m.raw...)}
	r.keys = firstKeys(suite, shared, ni, nr, m.spiI, uint64(id))
	if hashes, ok := m.notified(nSignatureHashes); ok {
		for i := 0; i+1 < len(hashes); i += 2 {
			r.rfc7427 = r.rfc7427 || binary.BigEndian.Uint16(hashes[i:]) == hashSHA256
		}
	}
	if got, ok := m.notified(nNATSource); ok {
		r.nat = string(got) != string(natHash(m.spiI, 0, from.Addr))
	}
	ps := []payload{saPayload(chosen), keyExchange{suite.group, half.public()}.payload(), {kind: plNonce, body: nr}}
	ps = append(ps, l.natPayloads(from, m.spiI, uint64(id))...)
	if r.rfc7427 {
		ps = append(ps, notify{kind: nSignatureHashes, data: []byte{0, hashSHA256}}.payload())
	}
	answer := &message{header: header{spiI: m.spiI, spiR: uint64(id), exchange: ikeSAInit, flags: flagResponse}, payloads: ps}
	r.initResponse = answer.marshal()
	l.sas[id], l.spis[r.spi], l.opening[r.open] = r, r, r
	l.halfOpen++
	if l.set.LogKeys {
		l.emit(ikeKeyRow(m.spiI, uint64(id), r.keys))
	}
	l.emit(Send{from, r.initResponse})
}

// natPayloads answers NAT detection such that the caller believes us to be behind a translation and puts everything into
// UDP 4500: then ESP by itself is never needed (RFC 7296 §2.23). What it learns about its own side is true.
func (l *Listener) natPayloads(from Peer, spiI, spiR uint64) []payload {
	untrue := make([]byte, sha1.Size)
	_, _ = io.ReadFull(l.set.Rand, untrue)
	return []payload{
		notify{kind: nNATSource, data: untrue}.payload(),
		notify{kind: nNATDestination, data: natHash(spiI, spiR, from.Addr)}.payload(),
	}
}

func natHash(spiI, spiR uint64, a netip.AddrPort) []byte {
	b := binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint64(nil, spiI), spiR)
	b = append(b, a.Addr().Unmap().AsSlice()...)
	sum := sha1.Sum(binary.BigEndian.AppendUint16(b, a.Port()))
	return sum[:]
}

func (l *Listener) refuseInit(to Peer, m *message, n notify) {
	answer := &message{header: header{spiI: m.spiI, exchange: ikeSAInit, flags: flagResponse}, payloads: []payload{n.payload()}}
	l.emit(Send{to, answer.marshal()})
}

// cookie can be made again from the request alone, so that nothing is kept for a caller who may not exist.
func (l *Listener) cookie(from Peer, spiI uint64, nonce []byte) []byte {
	h := hmac.New(sha256.New, l.secret[:])
	h.Write(nonce)
	h.Write(from.Addr.Addr().AsSlice())
	h.Write(binary.BigEndian.AppendUint64(nil, spiI))
	return h.Sum(nil)
}

func (l *Listener) newID() ID {
	var b [8]byte
	for range 8 {
		if _, err := io.ReadFull(l.set.Rand, b[:]); err != nil {
			return 0
		}
		if id := ID(binary.BigEndian.Uint64(b[:])); id != 0 && l.sas[id] == nil && l.spis[uint64(id)] == nil {
			return id
		}
	}
	return 0
}

func (l *Listener) newChildSPI(owner ID) uint32 {
	var b [4]byte
	for range 8 {
		if _, err := io.ReadFull(l.set.Rand, b[:]); err != nil {
			return 0
		}
		spi := binary.BigEndian.Uint32(b[:])
		if _, taken := l.children[spi]; spi > 255 && !taken { // 1 to 255 are reserved (RFC 4303 §2.1)
			l.children[spi] = owner
			return spi
		}
	}
	return 0
}

// Judged takes the answer to AskLogin.
func (l *Listener) Judged(now time.Time, id ID, v eap.Verdict) []Output {
	if r := l.sas[id]; r != nil && r.awaits == awaitsLogin {
		r.awaits = awaitsNothing
		r.eapStep(r.eap.Judged(v))
	}
	return l.take()
}

// Granted takes the answer to AskLease.
func (l *Listener) Granted(now time.Time, id ID, g Grant) []Output {
	if r := l.sas[id]; r != nil && r.awaits == awaitsLease {
		r.awaits = awaitsNothing
		r.finish(now, g)
	}
	return l.take()
}

// Heard says that ESP of the session arrived, authentically, from the peer.
func (l *Listener) Heard(now time.Time, id ID, from Peer) []Output {
	if r := l.sas[id]; r != nil {
		r.hear(now, from)
	}
	return l.take()
}

// End ends a session; the peer is told.
func (l *Listener) End(now time.Time, id ID, reason string) []Output {
	if r := l.sas[id]; r != nil {
		if r.state == established {
			r.ask(now, []payload{deletion{protocol: protoIKE}.payload()})
		}
		r.close(reason)
	}
	return l.take()
}

// Tick does what is due: logins that took too long, peers that fell silent, requests to send again.
func (l *Listener) Tick(now time.Time) []Output {
	for _, r := range l.spis {
		r.tick(now)
	}
	return l.take()
}

// Sessions is how many sessions stand, HalfOpen how many logins are under way.
func (l *Listener) Sessions() int { return len(l.sas) - l.halfOpen }

// HalfOpen is how many logins are under way.
func (l *Listener) HalfOpen() int { return l.halfOpen }

// Configure changes how callers are answered from now on; sessions that stand go on.
func (l *Listener) Configure(set Settings) error {
	if err := set.check(); err != nil {
		return err
	}
	l.set = set
	return nil
}

func (s Settings) check() error {
	for _, t := range s.tunnels() {
		if len(t.Chain) == 0 || t.Key == nil || len(t.Suites) == 0 || t.Name == "" {
			return errors.New("ike: a gateway needs a name, a certificate with its key, and a suite")
		}
	}
	return nil
}

func (s Settings) tunnels() []Tunnel { return append([]Tunnel{s.Tunnel}, s.More...) }

// allSuites is the suites of all tunnels: which one a device asks for is known only once the key exchange is over.
func (s Settings) allSuites() (out []Suite) {
	for _, t := range s.tunnels() {
		for _, suite := range t.Suites {
			if !slices.Contains(out, suite) {
				out = append(out, suite)
			}
		}
	}
	return out
}
