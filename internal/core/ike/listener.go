package ike

import (
	"cmp"
	"crypto/sha1"
	"crypto/x509"
	"encoding/binary"
	"errors"
	"io"
	"net/netip"
	"slices"
	"time"

	"yellowlantern/internal/core/algorithm"
	"yellowlantern/internal/core/crowd"
	"yellowlantern/internal/core/esp"
	"yellowlantern/internal/core/fold"
	conversation "yellowlantern/internal/core/login"
	"yellowlantern/internal/core/reason"
)

// Tunnel is one way in, told apart from others by the name that the device asks for (IDr, RFC 7296 §2.15).
type Tunnel struct {
	ID         string     // what the plan calls it
	Name       string     // what people dial: the gateway's identity, held by its certificate
	Credential            // the gateway's
	Second     Credential // for the same name, of another kind of key, for devices that do not take the first; none: there is none
	Algorithms Policy     // what is accepted, the preferred first
	PFS        bool       // renewed Child SAs must have a key exchange of their own
	// Liveness is after how long a silence the peer is asked whether it is still there; IKELife and ESPLife are how long keys may be
	// used without being renewed (0: no limit).
	Liveness, IKELife, ESPLife time.Duration
	// Volume is how much the keys for traffic may protect in one direction; 0: what their algorithm allows.
	Volume esp.Volume
	// Known is that every device that comes by it takes the first credential, also one that announces nothing.
	Known bool
	// Proof is how people prove who they are, and Authorities those of their certificates, for devices that want to be asked.
	Proof       Proof
	Authorities []*x509.Certificate
	Mixing      Mixing
	// SHA1 takes signatures with it of people's RSA keys (method 1): some systems write no others.
	SHA1 bool
	// SendTo is the name or address of another gateway to which devices are sent on that follow; empty: they are served here.
	SendTo string
	// Patience is for how long our requests are repeated before a device that does not answer counts as gone; 0: four minutes.
	Patience time.Duration
}

// Settings is how a gateway answers callers: by the tunnel that they ask for, or by the first, which is embedded.
type Settings struct {
	Tunnel
	More []Tunnel
	Rand io.Reader
	// CookieAbove is how many half-open SAs there may be before callers must show that they own their address (RFC 7296
	// §2.6); MaxHalfOpen how many at all. CookieShare and MaxShare are the same for one source (an IPv4 address, a /64 of IPv6), and
	// must be smaller: a crowd from one place costs others nothing, not even a cookie.
	CookieAbove, MaxHalfOpen int
	CookieShare, MaxShare    int
	// LoginTime is how long a login may take from the first message on.
	LoginTime time.Duration
	LogKeys   bool
	Secrets   Secrets
	// SeenAt tells where a caller really is, where datagrams come by way of a relay; nil: where they come from.
	SeenAt func(netip.AddrPort) netip.AddrPort
}

// DefaultSettings fills in what need not be chosen.
func DefaultSettings() Settings {
	return Settings{
		Tunnel: Tunnel{Algorithms: Level(algorithm.Strict), Liveness: 30 * time.Second}, CookieAbove: 128, MaxHalfOpen: 1024, CookieShare: 16, MaxShare: 64,
		LoginTime: 30 * time.Second,
	}
}

// Counters counts what was dropped and why; nothing of it is answered.
type Counters struct {
	Malformed, OutOfState, Replayed, Undecryptable, Overload, Cookies, Tickets uint64
}

// Listener is the responder for all callers of a gateway. It is not safe for concurrent use.
type Listener struct {
	tunnels  []*Tunnel     // of set
	around   *surroundings // by set
	set      Settings
	logins   map[uint64]*login  // under way, once IKE_SA_INIT is answered, by our SPI
	byID     map[ID]*login      // all that are under way
	opening  map[openKey]*login // by the caller's SPI and address: IKE_SA_INIT may be sent again
	sessions map[ID]*bond       // that stand
	sas      map[uint64]*ikeSA  // after the login, by our SPI: those of sessions, and those that wait for their deletion to be answered
	children map[uint32]bool    // our SPIs of Child SAs
	cookies  cookies
	halfOpen crowd.Count
	// broken are logins that their devices broke off lately, in the order in which they did.
	broken   []broken
	brokenOf crowd.Count
	out      []Output
	toldIn   time.Time // how many were told, in this second, that their session is not known
	told     int
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
	l := &Listener{
		set: set, tunnels: shared(set), logins: map[uint64]*login{}, byID: map[ID]*login{}, opening: map[openKey]*login{}, sessions: map[ID]*bond{},
		sas: map[uint64]*ikeSA{}, children: map[uint32]bool{},
	}
	l.around = l.surroundings()
	return l, nil
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
		if answer, ok := versionAnswer(data); ok {
			l.emit(Send{from, answer})
		}
		return l.take()
	}
	switch m.exchange {
	case ikeSAInit:
		l.init(now, from, m)
		return l.take()
	case ikeSessionResume:
		l.back(now, from, m)
		return l.take()
	}
	own, theirs := m.spiR, m.spiI
	if !m.fromInitiator() { // of an IKE SA that we made by renewing another one
		own, theirs = m.spiI, m.spiR
	}
	if r := l.logins[own]; r != nil && r.sa.spiI == theirs {
		r.handle(now, from, m)
	} else if s := l.sas[own]; s != nil && s.spiI^s.spiR == own^theirs {
		s.handle(now, from, m)
	} else {
		l.Counters.OutOfState++
		l.forgot(now, from, m)
	}
	return l.take()
}

// bond prepares what a login leaves behind.
func (l *Listener) bond(r *login) *bond {
	return &bond{
		surroundings: l.around, who: "the device", id: r.id, peer: r.peer, follow: true, tellsMoves: r.moves, tunnel: r.tunnel, user: r.user,
		unproved: !r.peer.TCP && r.peer.Addr.Addr() != r.open.addr.Addr(), // that it went on shows that it receives where it began
	}
}

// surroundings are those of the sessions that come of logins by these settings.
func (l *Listener) surroundings() *surroundings {
	return &surroundings{
		at: l.sourceOf, rand: l.set.Rand, logKeys: l.set.LogKeys,
		newIKE: func() uint64 { return uint64(l.newID()) }, newESP: l.newChildSPI, freeESP: func(spi uint32) { delete(l.children, spi) },
		opened: func(s *ikeSA) { l.sas[s.own()] = s }, closed: func(s *ikeSA) { delete(l.sas, s.own()) },
		emit: l.emit, count: &l.Counters, elsewhere: func(w Work) { l.emit(w) }, token: func(i, r uint64) []byte { return l.set.Secrets.token(i, r) },
		ended: func(b *bond, why reason.Reason) {
			if l.sessions[b.id] == b {
				delete(l.sessions, b.id)
				l.emit(Down{b.id, b.user, why})
			}
		},
	}
}

// lingers tells a device that its IKE SA, by which nobody came in, is over.
func (l *Listener) lingers(now time.Time, r *login) {
	b := l.bond(r)
	b.over = true
	b.start(r.sa)
	r.sa.remove(now)
}

func (l *Listener) sourceOf(from Peer) netip.Addr {
	if l.set.SeenAt != nil {
		return l.set.SeenAt(from.Addr).Addr()
	}
	return from.Addr.Addr()
}

// init answers IKE_SA_INIT (RFC 7296 §1.2).
func (l *Listener) init(now time.Time, from Peer, m *message) {
	if !l.begins(from, m) {
		return
	}
	nonce, _ := m.find(plNonce)
	saBody, okSA := m.find(plSA)
	offered, errSA := parseSA(saBody)
	ke, okKE, errKE := m.keyExchange()
	if kind, ok := m.critical(); ok {
		l.refuseInit(from, m, unsupported(kind))
		return
	}
	if !okSA || !okKE || errSA != nil || errKE != nil || m.doubled() || len(nonce) < 16 || len(nonce) > 256 {
		l.Counters.Malformed++
		l.refuseInit(from, m, notify{kind: nInvalidSyntax}.payload())
		return
	}
	if !l.room(now, from, m, nonce, slow(ke.group)) {
		return
	}
	_, furthers := m.notified(nIntermediate)
	chosen, suite, ok := l.set.choose(offered, furthers)
	if !ok {
		l.emit(Note{
			Peer: from, Reason: reason.Of(reason.NoCommonAlgorithm, reason.With{
				reason.Notify: notifyWords[nNoProposalChosen], reason.Offered: describe(offered), reason.Wanted: describePolicy(l.set.anyTunnel()),
			}),
		})
		l.refuseInit(from, m, notify{kind: nNoProposalChosen}.payload())
		return
	}
	if !goodNonce(nonce, suite.prf) {
		l.Counters.Malformed++
		l.refuseInit(from, m, notify{kind: nInvalidSyntax}.payload())
		return
	}
	if ke.group != suite.group { // the device guessed another group: tell which one, it begins again (RFC 7296 §1.2)
		l.refuseInit(from, m, notify{kind: nInvalidKE, data: binary.BigEndian.AppendUint16(nil, suite.group)}.payload())
		return
	}
	l.open(now, from, m, nonce, offered, chosen, suite, ke)
}

// begins tells whether a message is a device's first one, and new.
func (l *Listener) begins(from Peer, m *message) bool {
	if m.response() || !m.fromInitiator() || m.id != 0 || m.spiR != 0 {
		l.Counters.OutOfState++
		return false
	}
	return !l.repeated(from, m)
}

// repeated answers a first message that came before already.
func (l *Listener) repeated(from Peer, m *message) bool {
	r := l.opening[openKey{m.spiI, from.Addr}]
	if r == nil {
		return false
	}
	if string(r.initRequest) == string(m.raw) {
		l.Counters.Replayed++
		if r.initResponse != nil {
			l.emit(Send{from, r.initResponse})
		}
	} else {
		l.Counters.OutOfState++
	}
	return true
}

// room tells whether one more login may begin: where many are under way, or where it costs much, once the caller shows that datagrams reach
// it.
func (l *Listener) room(now time.Time, from Peer, m *message, nonce []byte, costly bool) bool {
	source := l.sourceOf(from)
	switch {
	case l.halfOpen.All() >= l.set.MaxHalfOpen, l.begun(now, source) >= l.set.MaxShare:
		l.Counters.Overload++
		return false
	case l.halfOpen.All() >= l.set.CookieAbove, l.begun(now, source) >= l.set.CookieShare, costly:
		if l.cookies.renew(now, l.set.Rand) != nil {
			return false
		}
		if got, ok := m.notified(nCookie); !ok || !l.cookies.proves(got, from, m.spiI, nonce) {
			l.Counters.Cookies++
			l.refuseInit(from, m, notify{kind: nCookie, data: l.cookies.of(from, m.spiI, nonce)}.payload())
			return false
		}
	}
	return true
}

// begun is how many logins a source has under way, or began lately and broke off: whoever breaks off has no more of them than who does not.
func (l *Listener) begun(now time.Time, source netip.Addr) int {
	for len(l.broken) > 0 && !now.Before(l.broken[0].until) {
		l.brokenOf.Remove(l.broken[0].source)
		l.broken = l.broken[1:]
	}
	return l.halfOpen.Of(source) + l.brokenOf.Of(source)
}

// mostBroken bounds what is remembered of logins that were broken off.
const mostBroken = 1 << 16

// broken is a login that its device broke off, and until when it counts for its source.
type broken struct {
	source netip.Addr
	until  time.Time
}

// breaks counts a login that was broken off for its source, for as long as it might have taken.
func (l *Listener) breaks(source netip.Addr, begun time.Time) {
	if l.brokenOf.All() < mostBroken && l.brokenOf.Of(source) < l.set.MaxShare {
		l.broken = append(l.broken, broken{source, begun.Add(l.set.LoginTime)})
		l.brokenOf.Add(source)
	}
}

// begin notes that a login is under way; nil where there is no randomness.
func (l *Listener) begin(now time.Time, from Peer, m *message, ni []byte, suite Suite) *login {
	id, nr := l.newID(), make([]byte, nonceLen)
	if _, err := io.ReadFull(l.set.Rand, nr); err != nil || id == 0 {
		return nil
	}
	r := &login{
		l: l, sa: &ikeSA{spiI: m.spiI, spiR: uint64(id), suite: suite, keyed: now}, id: id, peer: from, tunnel: l.tunnels[0],
		ni: append([]byte{}, ni...), nr: nr, born: now, open: openKey{m.spiI, from.Addr}, initRequest: append([]byte{}, m.raw...),
	}
	_, r.sa.parts = m.notified(nFragments)
	if got, ok := m.notified(nNATSource); ok {
		r.nat = string(got) != string(natHash(m.spiI, 0, from.Addr))
	}
	l.byID[id], l.opening[r.open] = r, r
	r.source = l.sourceOf(from)
	l.halfOpen.Add(r.source)
	return r
}

// open begins a login. The key exchange takes long and is worked out elsewhere; what comes again meanwhile is not answered.
func (l *Listener) open(now time.Time, from Peer, m *message, ni []byte, offered []proposal, chosen proposal, suite Suite, ke keyExchange) {
	r := l.begin(now, from, m, ni, suite)
	if r == nil {
		return
	}
	r.awaits, r.offeredIKE = awaitsWork, offered
	_, r.follows = m.notified(nFollows)
	if by, ok := m.notified(nRedirectedFrom); ok {
		r.sentBy, _ = gatewayIn(by)
		r.follows = true
	}
	r.hashes = hashesIn(m)
	if _, mixes := m.notified(nMixes); mixes {
		r.mixes = l.set.mixes()
	}
	rand, theirs := l.set.Rand, append([]byte{}, ke.data...)
	l.emit(Work{Do: func() Finish {
		half, err := newDH(suite.group, rand)
		if err != nil {
			return func(time.Time) { r.close() }
		}
		shared, err := half.shared(theirs)
		if err != nil {
			return func(time.Time) { r.unshared(m) }
		}
		keys := firstKeys(suite, shared, r.ni, r.nr, r.sa.spiI, r.sa.spiR)
		return func(time.Time) { r.answer(chosen, half.public(), keys) }
	}})
}

// unshared refuses a key exchange that cannot be.
func (r *login) unshared(m *message) {
	if r.awaits == awaitsWork {
		r.l.Counters.Malformed++
		r.close()
		r.l.refuseInit(r.peer, m, notify{kind: nInvalidSyntax}.payload())
	}
}

// answer answers IKE_SA_INIT with the gateway's half of the key exchange.
func (r *login) answer(chosen proposal, public []byte, keys *keys) {
	if r.awaits != awaitsWork || r.stage != begun {
		return
	}
	sa := r.sa
	r.awaits, r.stage, sa.keys, sa.win.expect = awaitsNothing, opened, keys, 1
	r.welcome([]payload{saPayload(chosen), keyExchange{sa.suite.group, public}.payload(), {kind: plNonce, body: r.nr}})
}

// welcome answers the first message.
func (r *login) welcome(ps []payload) {
	l, sa, x := r.l, r.sa, ikeSAInit
	if r.ticket != nil {
		x = ikeSessionResume
	}
	ps = append(ps, l.natPayloads(r.peer, sa.spiI, sa.spiR)...)
	if sa.parts {
		ps = append(ps, notify{kind: nFragments}.payload())
	}
	if r.ticket == nil {
		ps = append(ps, notify{kind: nChildless}.payload())
	}
	if r.furthers() {
		ps = append(ps, notify{kind: nIntermediate}.payload())
	}
	if l.set.another() {
		ps = append(ps, notify{kind: nSeveral}.payload())
	}
	if r.mixes {
		ps = append(ps, notify{kind: nMixes}.payload())
	}
	if r.hashes != 0 { // older systems may stumble over what they do not know
		ps = append(ps, ourHashes.payload(), l.set.methods().payload())
	}
	if r.ticket == nil {
		for _, t := range l.set.tunnels() {
			if asks := t.requests(); asks != nil { // which tunnel is asked for is not known yet
				ps = append(ps, asks...)
				break
			}
		}
	}
	answer := &message{header: header{spiI: sa.spiI, spiR: sa.spiR, exchange: x, flags: flagResponse}, payloads: ps}
	r.initResponse = answer.marshal()
	l.logins[sa.own()] = r
	if l.set.LogKeys && !r.furthers() {
		l.emit(ikeKeyRow(sa.spiI, sa.spiR, sa.keys))
	}
	l.emit(Send{r.peer, r.initResponse})
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
	b = append(b, fold.Addr(a.Addr()).AsSlice()...)
	sum := sha1.Sum(binary.BigEndian.AppendUint16(b, a.Port()))
	return sum[:]
}

func (l *Listener) refuseInit(to Peer, m *message, p payload) {
	answer := &message{header: header{spiI: m.spiI, exchange: m.exchange, flags: flagResponse}, payloads: []payload{p}}
	l.emit(Send{to, answer.marshal()})
}

func (l *Listener) newID() ID {
	var b [8]byte
	for range 8 {
		if _, err := io.ReadFull(l.set.Rand, b[:]); err != nil {
			return 0
		}
		if id := ID(binary.BigEndian.Uint64(b[:])); id != 0 && l.byID[id] == nil && l.sessions[id] == nil && l.sas[uint64(id)] == nil &&
			l.logins[uint64(id)] == nil {
			return id
		}
	}
	return 0
}

func (l *Listener) newChildSPI() uint32 {
	var b [4]byte
	for range 8 {
		if _, err := io.ReadFull(l.set.Rand, b[:]); err != nil {
			return 0
		}
		spi := binary.BigEndian.Uint32(b[:])
		if spi > 255 && !l.children[spi] { // 1 to 255 are reserved (RFC 4303 §2.1)
			l.children[spi] = true
			return spi
		}
	}
	return 0
}

// Finish takes what came of a Work.
func (l *Listener) Finish(now time.Time, f Finish) []Output {
	f(now)
	return l.take()
}

// Told takes the answer to AskLogin.
func (l *Listener) Told(now time.Time, id ID, talk conversation.Conversation, s conversation.Step) []Output {
	if r := l.byID[id]; r != nil && r.awaits == awaitsLogin {
		r.awaits, r.talk, r.talked = awaitsNothing, talk, s.Over
		r.told(s)
	} else if !s.Over { // the device broke off meanwhile
		l.emit(TalkOver{talk})
	}
	return l.take()
}

// Granted takes the answer to AskLease.
func (l *Listener) Granted(now time.Time, id ID, g Grant) []Output {
	if r := l.byID[id]; r != nil && r.awaits == awaitsLease {
		r.awaits = awaitsNothing
		r.finish(now, g)
	}
	return l.take()
}

// Heard says that ESP of the session arrived, authentically, from the peer. unproved is that little is sent there until Proved says that
// the peer receives it.
func (l *Listener) Heard(now time.Time, id ID, from Peer, unproved bool) []Output {
	if b := l.sessions[id]; b != nil && b.hear(now, from) {
		b.unproved = b.unproved || unproved
		b.prove(now)
	}
	return l.take()
}

// Worn says how far the keys of a Child SA, by our SPI, are used up by what they protected. Worn ones are renewed; a session whose keys are
// spent, for its device did not go along, ends.
func (l *Listener) Worn(id ID, in uint32, wear esp.Wear) {
	if b := l.sessions[id]; b != nil {
		b.wears(in, wear)
	}
}

// End ends a session; the peer is told.
func (l *Listener) End(now time.Time, id ID, why reason.Reason) []Output {
	if b := l.sessions[id]; b != nil {
		b.end(now, why)
	}
	return l.take()
}

// Tick does what is due: logins that took too long, peers that fell silent, requests to send again, keys to renew.
func (l *Listener) Tick(now time.Time) []Output {
	for _, r := range l.byID {
		r.tick(now)
	}
	for _, b := range l.sessions {
		b.tick(now)
	}
	for _, s := range l.sas {
		if s.b.over { // nothing but the answer to its deletion is awaited
			s.tick(now)
		}
	}
	return l.take()
}

// Sessions is how many sessions stand, HalfOpen how many logins are under way.
func (l *Listener) Sessions() int { return len(l.sessions) }

// HalfOpen is how many logins are under way.
func (l *Listener) HalfOpen() int { return l.halfOpen.All() }

// Keep changes what tokens and tickets are made with.
func (l *Listener) Keep(s Secrets) { l.set.Secrets = s }

// Configure changes how callers are answered from now on; sessions that stand go on.
func (l *Listener) Configure(set Settings) error {
	if err := set.check(); err != nil {
		return err
	}
	l.set, l.tunnels = set, shared(set)
	l.around = l.surroundings()
	return nil
}

func (s Settings) check() error {
	for _, t := range s.tunnels() {
		second := t.Second.Key == nil || len(t.Second.Chain) > 0
		if len(t.Chain) == 0 || t.Key == nil || !second || len(t.Algorithms.groups) == 0 || t.Name == "" {
			return errors.New("ike: a gateway needs a name, a certificate with its key, and algorithms")
		}
	}
	return nil
}

// shared are the tunnels as sessions share them.
func shared(s Settings) (out []*Tunnel) {
	all := s.tunnels()
	for i := range all {
		out = append(out, &all[i])
	}
	return out
}

func (s Settings) tunnels() []Tunnel { return append([]Tunnel{s.Tunnel}, s.More...) }

// choose picks what the first tunnel accepts that accepts anything of it: which one a device asks for is known only once the key exchange
// is over.
// furthers tells whether the device has the exchange in which additional keys are exchanged.
func (s Settings) choose(offered []proposal, furthers bool) (proposal, Suite, bool) {
	all := s.tunnels()
	if furthers { // a tunnel that demands it gets it, whichever stands first: it cannot be had later
		slices.SortStableFunc(all, func(a, b Tunnel) int { return cmp.Compare(btoi(b.Algorithms.demands), btoi(a.Algorithms.demands)) })
	}
	for _, t := range all {
		if !furthers { // the device does not say that it takes part in one
			t.Algorithms.additional = nil
		}
		if chosen, suite, ok := chooseIKE(offered, t.Algorithms, nil); ok {
			return chosen, suite, true
		}
	}
	return proposal{}, Suite{}, false
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// anyTunnel is what the tunnels accept, for words about it.
func (s Settings) anyTunnel() (out Policy) {
	for _, t := range s.tunnels() {
		out = out.and(t.Algorithms)
	}
	return out
}

// another tells whether any tunnel wants a key and a login.
func (s Settings) another() bool {
	return slices.ContainsFunc(s.tunnels(), func(t Tunnel) bool { return t.Proof == ByBoth })
}
