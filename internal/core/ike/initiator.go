package ike

import (
	"cmp"
	"crypto"
	"crypto/hmac"
	"crypto/x509"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strings"
	"time"

	"yellowlantern/internal/core/eap"
	"yellowlantern/internal/core/esp"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/reason"
)

// Caller is how a remote user dials a gateway.
type Caller struct {
	Name           string // the gateway's name, which its certificate must hold
	User, Password string
	// Methods are further ones of EAP that this device takes.
	Methods []eap.PeerMethod
	// NextPassword is chosen where the gateway wants another in place of Password; empty: the login ends there.
	NextPassword string
	// Device is a name of this device's own: the gateway ends what is left of an older session of the same person on it.
	Device        string
	Roots         *x509.CertPool
	Algorithms    Policy
	Rand          io.Reader
	Local, Remote netip.AddrPort // as the device sees them, for NAT detection
	Now           func() time.Time
	LogKeys       bool
	PFS           bool // renewed Child SAs have a key exchange of their own
	// IKELife and ESPLife are how long keys are used; they are renewed before. 0: no limit.
	IKELife, ESPLife time.Duration
	// Liveness is after how long a silence the gateway is asked whether it is still there, Patience for how long before it counts as
	// gone. 0: it is not asked, and waited for four minutes.
	Liveness, Patience time.Duration
	// Addresses is how many of each family are asked for; 0: one.
	Addresses int
	// Key is what the device proves itself with in place of user and password, with certificates for it, DER, its own first; none: the
	// gateway knows the key itself.
	Key   crypto.Signer
	Chain [][]byte
	// Both is that the key is the device's alone, and that user and password follow (RFC 4739).
	Both bool
	// SharedKey is by what device and gateway prove themselves to each other in place of all that; nil: they do not.
	SharedKey []byte
	// MixedIn goes into the keys for traffic; nil: nothing does.
	MixedIn *MixedIn
	// SentBy is the gateway that sent the device on to this one (RFC 5685); empty: none did.
	SentBy string
	// Ticket is by what the device comes back without logging in anew, if the gateway still takes it; nil: there is none. Without a
	// password nothing follows a refusal.
	Ticket *Ticket
	// Floated begins on UDP 4500, so that one port is enough.
	Floated bool
	TCP     bool // over TCP (RFC 9329): there is no other port to go on to
}

// Established says that the caller's session stands.
type Established struct {
	Child Child
	Configuration
	Suite  string
	Behind bool // the device is behind a translation
	// Ticket is by what it may come back; nil: the gateway gives none. Back tells that it came back by one.
	Ticket *Ticket
	Back   bool
	// Changed is that the next password was chosen.
	Changed bool
}

// Failed says that the login failed, or the session ended.
type Failed struct{ Err error }

// Float says that from now on everything goes by UDP 4500.
type Float struct{}

func (Established) isOutput() {}
func (Failed) isOutput()      {}
func (Float) isOutput()       {}

// Errors of a login, to be told apart by the probe.
var (
	ErrNoAnswer    = errors.New("ike: the gateway does not answer")
	ErrLater       = errors.New("ike: the gateway leaves the login to be tried again")
	ErrCertificate = errors.New("ike: the gateway's certificate is not accepted")
	ErrEnded       = errors.New("ike: the gateway ended the session")
)

// RefusedError is a failure that the gateway reports.
type RefusedError struct {
	Code string
	// Proved is that the person's password, or what else they prove themselves by, was taken before.
	Proved bool
}

func (e RefusedError) Error() string {
	switch why := refusedFor[e.Code]; {
	case e.Proved && e.Code == notifyWords[nAuthenticationFailed]:
		return "the gateway accepts the password, and refuses the session (" + e.Code + "): no passage lists a group of this user, " +
			"their account or its hours are over, or they have too many sessions; the gateway's journal says which"
	case why != "":
		return "the gateway answers and refuses the login (" + e.Code + "): " + why
	}
	return "the gateway answers and refuses the login (" + e.Code + ")"
}

// refusedFor is what a refusal mostly means.
var refusedFor = map[string]string{
	notifyWords[nAuthenticationFailed]: "it does not accept what this device proves itself by; its journal says why",
	notifyWords[nNoProposalChosen]:     "it and this device have no algorithms in common; have the kit made again after a change of the plan",
	notifyWords[nInternalAddress]:      "no address is free for this user",
	notifyWords[nTSUnacceptable]:       "it routes none of the networks that this device asks for",
}

type phase int

const (
	phBack phase = iota
	phInit
	phIntermediate
	phKey
	phShared
	phFirst
	phEAP
	phLast
	phUp
	phOver
)

// Initiator is the remote user's side of one session. It is not safe for concurrent use.
type Initiator struct {
	c            Caller
	spiI, spiR   uint64
	suite        Suite
	half         dh
	kem          kem
	macked       []byte // what AUTH covers of our half of the additional key exchange
	ni, nr       []byte
	cookie       []byte
	keys         *keys
	phase        phase
	id           uint32
	sealed       uint64
	request      [][]byte
	parts        bool            // the gateway takes messages in parts
	most         int             // octets of a part; 0: partLongest
	cut          func() [][]byte // the request in smaller parts; nil: it is in one, or in such already
	asked        time.Time
	rtt          time.Duration // the shortest that an answer took; 0: there was none to a message that went once
	hashes       hashes
	moves        bool // it follows devices that tell when they move
	heard        gathered
	tries        int
	retryAt      time.Time
	first        []byte // our IKE_SA_INIT
	answer       []byte // theirs
	idr          []byte
	eap          *eap.Peer
	childSPI     uint32
	behind, natt bool
	out          []Output
	b            *bond // once the session stands
	counters     Counters
	doubted      time.Time // when the gateway was last asked because of what anybody could have sent
	spis         map[uint64]*ikeSA
	announces    bool  // the gateway says by which methods it takes AUTH, and so do we
	mixes        bool  // both sides can mix a shared key in
	mixed        *keys // with it
	mixedIn      bool  // it went in
}

// NewInitiator prepares a call.
func NewInitiator(c Caller) (*Initiator, error) {
	if len(c.Algorithms.groups) == 0 {
		return nil, errors.New("ike: a caller needs algorithms")
	}
	i := &Initiator{
		c: c, suite: Suite{group: c.Algorithms.groups[0]}, ni: make([]byte, nonceLen), eap: eap.NewPeer(c.Rand, c.User, c.Password),
	}
	i.eap.Next, i.eap.Others = c.NextPassword, c.Methods
	var spis [12]byte
	if _, err := io.ReadFull(c.Rand, spis[:]); err != nil {
		return nil, err
	}
	i.natt = c.Floated
	i.spiI, i.childSPI = binary.BigEndian.Uint64(spis[:])|1, binary.BigEndian.Uint32(spis[8:])|0x100
	_, err := io.ReadFull(c.Rand, i.ni)
	return i, err
}

func (i *Initiator) take() []Output {
	out := i.out
	i.out = nil
	return out
}

func (i *Initiator) emit(o Output) { i.out = append(i.out, o) }

func (i *Initiator) fail(err error) {
	if i.phase != phOver {
		i.phase = phOver
		i.emit(Failed{err})
	}
}

func (i *Initiator) peer() Peer { return Peer{Addr: i.c.Remote, NATT: i.natt || i.c.TCP, TCP: i.c.TCP} }

// Start sends the first message.
func (i *Initiator) Start(now time.Time) []Output {
	if i.c.Ticket != nil {
		i.sendBack(now)
	} else {
		i.phase = phInit
		i.sendInit(now)
	}
	return i.take()
}

func (i *Initiator) sendInit(now time.Time) {
	var err error
	if i.half, err = newDH(i.suite.group, i.c.Rand); err != nil {
		i.fail(err)
		return
	}
	var ps []payload
	if i.cookie != nil { // first of all payloads (RFC 7296 §2.6)
		ps = append(ps, notify{kind: nCookie, data: i.cookie}.payload())
	}
	ps = append(ps, saPayload(ikeProposals(i.c.Algorithms, nil)...), keyExchange{i.suite.group, i.half.public()}.payload(),
		payload{kind: plNonce, body: i.ni},
		notify{kind: nNATSource, data: natHash(i.spiI, 0, i.c.Local)}.payload(),
		notify{kind: nNATDestination, data: natHash(i.spiI, 0, i.c.Remote)}.payload(),
		ourHashes.payload(), notify{kind: nFragments}.payload())
	if len(i.c.Algorithms.additional) > 0 {
		ps = append(ps, notify{kind: nIntermediate}.payload())
	}
	if i.c.MixedIn != nil {
		ps = append(ps, notify{kind: nMixes}.payload())
	}
	if i.c.SentBy != "" {
		ps = append(ps, notify{kind: nRedirectedFrom, data: gatewayAt(i.c.SentBy)}.payload())
	} else {
		ps = append(ps, notify{kind: nFollows}.payload())
	}
	m := &message{header: header{spiI: i.spiI, exchange: ikeSAInit, flags: flagInitiator}, payloads: ps}
	i.first = m.marshal()
	i.sendRaw(now, [][]byte{i.first})
}

func (i *Initiator) sendRaw(now time.Time, datagrams [][]byte) {
	i.request, i.tries, i.retryAt, i.asked, i.cut = datagrams, 1, now.Add(retryFirst/2), now, nil
	sendAll(i.emit, i.peer(), datagrams)
}

// send seals the next request.
func (i *Initiator) send(now time.Time, x exchange, ps ...payload) {
	h, keys := header{spiI: i.spiI, spiR: i.spiR, exchange: x, id: i.id, flags: flagInitiator}, i.keys
	if !i.parts || i.c.TCP {
		i.sendRaw(now, keys.sealAll(h, ps, true, 0, i.count))
		return
	}
	i.sendRaw(now, keys.sealAll(h, ps, true, cmp.Or(i.most, partLongest), i.count))
	if len(i.request) > 1 && i.most == 0 {
		i.cut = func() [][]byte { return keys.sealAll(h, ps, true, partLeast, i.count) }
	}
}

// count gives the number of the next sealed message.
func (i *Initiator) count() uint64 {
	i.sealed++
	return i.sealed
}

// Heard tells whether the gateway has answered a message of the login, which none but the gateway could: the way to it is open.
func (i *Initiator) Heard() bool { return i.id > 1 }

// loginTries is how often a message of the login is sent: the longest wait adds up to about 16 seconds.
const loginTries = 5

// Tick sends again what was not answered, and does what is due of a session.
func (i *Initiator) Tick(now time.Time) []Output {
	switch {
	case i.b != nil:
		i.tick(now)
	case i.request == nil || i.phase == phOver || now.Before(i.retryAt):
	case i.tries >= loginTries:
		i.fail(ErrNoAnswer)
	default:
		i.retryAt = now.Add(retryFirst / 2 << i.tries)
		if i.tries++; i.tries > cutAfter && i.cut != nil {
			i.request, i.most, i.cut = i.cut(), partLeast, nil
		}
		sendAll(i.emit, i.peer(), i.request)
	}
	return i.take()
}

func (i *Initiator) tick(now time.Time) {
	i.b.tick(now)
	if i.b.over {
		for _, s := range i.b.sas {
			s.tick(now)
		}
	}
}

// Handle takes one datagram (without the four zero octets of UDP 4500). What does not fit is dropped.
func (i *Initiator) Handle(now time.Time, data []byte) []Output {
	m, err := parseMessage(data)
	if err != nil {
		return i.take()
	}
	if i.b != nil {
		own, theirs := m.spiI, m.spiR
		if m.fromInitiator() { // of an IKE SA that the gateway made by renewing another one
			own, theirs = m.spiR, m.spiI
		}
		s := i.spis[own]
		switch n := len(m.payloads); {
		case n > 0 && m.payloads[n-1].kind == plNotify:
			i.hinted(now, m)
		case s != nil && s.spiI^s.spiR == own^theirs:
			s.handle(now, i.peer(), m)
		}
		return i.take()
	}
	if m.spiI != i.spiI || m.fromInitiator() || i.phase == phOver {
		return i.take()
	}
	switch {
	case i.phase == phBack:
		if m.exchange == ikeSessionResume && m.response() {
			i.backAnswered(now, m)
		}
	case i.phase == phInit:
		if m.exchange == ikeSAInit && m.response() {
			i.initAnswered(now, m)
		}
	case m.spiR != i.spiR || !m.response():
	case m.id == i.id && i.request != nil:
		in, err := i.keys.open(m, false, i.parts)
		if err == nil {
			in, err = i.heard.add(in)
		}
		switch {
		case err != nil:
		case in.doubled():
			i.fail(errMalformed)
		default:
			if took := max(now.Sub(i.asked), time.Millisecond); i.tries == 1 && (i.rtt == 0 || took < i.rtt) {
				i.rtt = took
			}
			i.request = nil
			i.id++
			i.answered(now, m.exchange, in)
		}
	}
	return i.take()
}

func (i *Initiator) initAnswered(now time.Time, m *message) {
	if cookie, ok := m.notified(nCookie); ok {
		i.cookie = append([]byte{}, cookie...)
		i.sendInit(now)
		return
	}
	if group, ok := m.notified(nInvalidKE); ok && len(group) == 2 {
		if g := binary.BigEndian.Uint16(group); slices.Contains(i.c.Algorithms.groups, g) && g != i.suite.group {
			i.suite.group = g
			i.sendInit(now)
			return
		}
	}
	if n, ok := m.failure(); ok {
		i.fail(refusal(n))
		return
	}
	nonce, _ := m.find(plNonce)
	saBody, _ := m.find(plSA)
	keBody, _ := m.find(plKE)
	chosen, errSA := parseSA(saBody)
	ke, errKE := parseKE(keBody)
	if errSA != nil || errKE != nil || len(nonce) < 16 || m.spiR == 0 || len(chosen) != 1 {
		return
	}
	_, suite, ok := chooseIKE(chosen, i.c.Algorithms, nil)
	if !ok || ke.group != suite.group || ke.group != i.half.group {
		i.fail(errors.New("ike: the gateway chose algorithms that were not offered"))
		return
	}
	i.suite = suite
	shared, err := i.half.shared(ke.data)
	if err != nil {
		i.fail(err)
		return
	}
	i.answer, i.spiR, i.nr, i.request = m.raw, m.spiR, append([]byte{}, nonce...), nil
	i.keys = firstKeys(suite, shared, i.ni, i.nr, i.spiI, i.spiR)
	i.float(m)
	if i.c.MixedIn != nil && i.c.MixedIn.Demand && !i.mixes {
		i.fail(errNotMixed)
		return
	}
	if suite.additional != 0 {
		i.sendIntermediate(now)
		return
	}
	i.phase, i.id = phFirst, 1
	i.sendFirst(now)
}

// float goes on by UDP 4500, having learnt from the first answer how the way is.
func (i *Initiator) float(m *message) {
	if i.c.LogKeys && (i.suite.additional == 0 || i.c.Ticket != nil) {
		i.emit(ikeKeyRow(i.spiI, i.spiR, i.keys))
	}
	_, i.parts = m.notified(nFragments)
	i.hashes = hashesIn(m)
	_, i.announces = m.notified(nMethods)
	_, i.mixes = m.notified(nMixes)
	i.mixes = i.mixes && i.c.MixedIn != nil
	if got, ok := m.notified(nNATDestination); ok {
		i.behind = string(got) != string(natHash(i.spiI, i.spiR, i.c.Local))
	}
	i.natt = true // the gateway always asks for it; without a translation it does no harm
	i.emit(Float{})
}

// identity is who we say that we are: the device, where it has a name of its own, and otherwise the person.
func (i *Initiator) identity() identity {
	if i.c.Device != "" && i.c.SharedKey == nil { // by a shared key it leads to the person
		return identity{idKey, []byte(i.c.Device)}
	}
	return identity{idRFC822, []byte(i.c.User)}
}

func (i *Initiator) sendFirst(now time.Time) {
	ps := i.wishes()
	var err error
	switch {
	case i.c.Key != nil:
		i.phase = phKey
		ps, err = i.proving(ps)
	case i.c.SharedKey != nil:
		i.phase = phShared
		ps, err = i.naming(ps, i.byShared)
	}
	if err != nil {
		i.fail(err)
		return
	}
	i.send(now, ikeAuth, ps...)
}

// wishes are who the device is, whom it wants to speak with, and what it wants of them.
func (i *Initiator) wishes() []payload {
	ps := []payload{
		{kind: plIDi, body: i.identity().body()},
		{kind: plIDr, body: identityFor(i.c.Name).body()},
		requestCfg(i.c.Addresses),
		saPayload(espProposals(i.c.Algorithms, binary.BigEndian.AppendUint32(nil, i.childSPI), dhNone)...),
		selectors(plTSi, netset.Everywhere), selectors(plTSr, netset.Everywhere),
	}
	ps = append(ps, notify{kind: nMoves}.payload(), notify{kind: nTicketWanted}.payload(), later.payload())
	if i.announces {
		ps = append(ps, append(bySignature(), announcement{method: authSharedKey}).payload())
	}
	if i.c.Device != "" && i.c.SharedKey == nil {
		ps = append(ps, notify{kind: nInitialContact}.payload())
	}
	return ps
}

func (i *Initiator) answered(now time.Time, x exchange, m *message) {
	if n, ok := m.failure(); ok && i.phase != phUp {
		if i.c.Ticket != nil && n.kind == nAuthenticationFailed {
			i.logInInstead(now)
			return
		}
		err := refusal(n)
		err.Proved = i.phase == phLast
		i.fail(err)
		return
	}
	if i.phase != phUp && postponed(m) {
		i.fail(ErrLater)
		return
	}
	switch i.phase {
	case phKey:
		i.keyAnswered(now, m)
	case phShared:
		i.sharedAnswered(now, m)
	case phIntermediate:
		i.intermediateAnswered(now, m)
	case phFirst:
		if err := i.checkGateway(m); err != nil {
			// Tell the gateway, so that its administrator learns of it (RFC 7296 §2.21.2).
			i.send(now, informational, notify{kind: nAuthenticationFailed}.payload())
			i.fail(err)
			return
		}
		if i.sentOn(now, m) {
			return
		}
		i.phase = phEAP
		i.eapTurn(now, m)
	case phEAP:
		i.eapTurn(now, m)
	case phLast:
		i.established(now, m)
	}
}

// checkGateway verifies certificate, name and signature.
func (i *Initiator) checkGateway(m *message) error {
	idBody, _ := m.find(plIDr)
	i.idr = append([]byte{}, idBody...)
	var leaf *x509.Certificate
	others := x509.NewCertPool()
	for _, p := range m.payloads {
		if p.kind != plCert || len(p.body) < 2 || p.body[0] != certX509 {
			continue
		}
		cert, err := x509.ParseCertificate(p.body[1:])
		if err != nil {
			return fmt.Errorf("%w: %v", ErrCertificate, err)
		}
		if leaf == nil {
			leaf = cert
		} else {
			others.AddCert(cert)
		}
	}
	if leaf == nil {
		return fmt.Errorf("%w: none was sent", ErrCertificate)
	}
	opts := x509.VerifyOptions{
		DNSName: i.c.Name, Roots: i.c.Roots, Intermediates: others, CurrentTime: i.c.Now(),
		KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}, // as systems' own clients do
	}
	var invalid x509.CertificateInvalidError
	if _, err := leaf.Verify(opts); errors.As(err, &invalid) && invalid.Reason == x509.Expired {
		return fmt.Errorf("%w: it is valid from %s to %s, and this device's clock shows %s: set the clock, or have the certificate renewed", ErrCertificate,
			leaf.NotBefore.UTC().Format(time.DateTime), leaf.NotAfter.UTC().Format(time.DateTime),
			i.c.Now().UTC().Format(time.DateTime+" UTC"))
	} else if err != nil {
		return fmt.Errorf("%w: %v", ErrCertificate, err)
	}
	if err := i.calledRightly(idBody); err != nil {
		return err
	}
	body, _ := m.find(plAuth)
	method, data, err := parseAuth(body)
	if err != nil {
		return err
	}
	return verify(leaf.PublicKey, method, data, i.keys.signedOctets(i.answer, i.ni, i.keys.pr, idBody))
}

// calledRightly holds what the gateway calls itself against what was dialled.
func (i *Initiator) calledRightly(idBody []byte) error {
	id, err := parseID(idBody)
	if err == nil && !strings.EqualFold(id.String(), i.c.Name) {
		err = fmt.Errorf("%w: the gateway calls itself %q, not %q", ErrCertificate, id, i.c.Name)
	}
	return err
}

func (i *Initiator) eapTurn(now time.Time, m *message) {
	body, ok := m.find(plEAP)
	if !ok {
		i.fail(errMalformed)
		return
	}
	answer, done, err := i.eap.Handle(body)
	switch {
	case err != nil:
		i.fail(err)
	case done:
		i.phase = phLast
		ps, err := i.last(nil, func(k *keys) (payload, error) {
			octets := k.signedOctets(i.first, i.nr, k.pi, i.identity().body())
			return authPayload(authSharedKey, k.keyAuth(i.eap.MSK(), octets)), nil
		})
		if err != nil {
			i.fail(err)
			return
		}
		i.send(now, ikeAuth, ps...)
	default:
		i.send(now, ikeAuth, payload{kind: plEAP, body: answer})
	}
}

func (i *Initiator) established(now time.Time, m *message) {
	if i.phase == phLast && i.c.Ticket == nil && !i.c.Both { // by a key it was settled before
		if err := i.mixedOr(m); err != nil {
			i.send(now, informational, notify{kind: nAuthenticationFailed}.payload())
			i.fail(err)
			return
		}
	}
	if i.phase != phKey && !i.closed(m) { // by a key the gateway has proved itself in this message
		i.fail(errors.New("ike: the gateway's closing proof of the login is wrong"))
		return
	}
	i.takeUp(now, m)
}

// closed checks the gateway's closing proof of a login that another key came of.
func (i *Initiator) closed(m *message) bool {
	body, _ := m.find(plAuth)
	method, data, err := parseAuth(body)
	octets := i.keys.signedOctets(i.answer, i.ni, i.keys.pr, i.idr)
	var want []byte
	if i.c.Ticket != nil {
		want = i.keys.backAuth(i.keys.pr, octets)
	} else {
		want = i.keys.keyAuth(i.eap.MSK(), octets)
	}
	return err == nil && method == authSharedKey && hmac.Equal(data, want)
}

// takeUp reads what the gateway gives, and makes a session of it.
func (i *Initiator) takeUp(now time.Time, m *message) {
	saBody, _ := m.find(plSA)
	cpBody, _ := m.find(plCP)
	tsiBody, _ := m.find(plTSi)
	tsrBody, _ := m.find(plTSr)
	chosen, errSA := parseSA(saBody)
	_, attrs, errCP := parseCfg(cpBody)
	remote, errR := parseSelectors(tsrBody)
	local, errI := parseSelectors(tsiBody)
	if errSA != nil || errCP != nil || errR != nil || errI != nil || len(chosen) != 1 || len(chosen[0].spi) != 4 {
		i.fail(errMalformed)
		return
	}
	_, i.moves = m.notified(nMoves)
	conf, err := readReply(attrs)
	if err != nil || len(conf.Addresses) == 0 {
		i.fail(errors.New("ike: the gateway gave no address"))
		return
	}
	conf.Routes = remote
	conf.Full = remote.Covers(netset.All4) || remote.Covers(netset.All6)
	_, cipher, _, ok := chooseESP(chosen, chosen[0].spi, i.c.Algorithms, []uint16{dhNone})
	if !ok {
		i.fail(errors.New("ike: the gateway chose algorithms for traffic that were not offered"))
		return
	}
	b := i.bond(now, local, remote)
	b.cur.learn(m)
	_, c := b.cur.makeChild(now, cipher, i.childSPI, binary.BigEndian.Uint32(chosen[0].spi), nil, i.ni, i.nr, nil, local, remote, true)
	i.phase = phUp
	i.emit(Established{
		Child: c, Configuration: conf, Suite: i.suite.String(), Behind: i.behind, Ticket: i.given(now, m), Back: i.c.Ticket != nil,
		Changed: i.eap.Changed,
	})
}

// given is the ticket that the gateway gives, if it does.
func (i *Initiator) given(now time.Time, m *message) *Ticket {
	data, ok := m.notified(nTicketLasting)
	if !ok || len(data) <= 4 {
		return nil
	}
	return &Ticket{
		opaque: append([]byte{}, data[4:]...), d: i.keys.d, suite: i.suite, idr: i.idr,
		Until: now.Add(time.Duration(binary.BigEndian.Uint32(data)) * time.Second),
	}
}

// bond makes what the login leaves behind.
func (i *Initiator) bond(now time.Time, local, remote netset.Addrs) *bond {
	i.spis = map[uint64]*ikeSA{}
	b := &bond{
		who: "the gateway", peer: i.peer(), tunnel: &Tunnel{Algorithms: i.c.Algorithms, PFS: i.c.PFS, IKELife: i.c.IKELife, ESPLife: i.c.ESPLife, Liveness: i.c.Liveness, Patience: i.c.Patience},
		local: local, remote: remote, heard: now,
		surroundings: &surroundings{
			rand: i.c.Rand, logKeys: i.c.LogKeys, emit: i.emit, count: &i.counters,
			newIKE:  func() uint64 { return binary.BigEndian.Uint64(i.random(8)) | 1 },
			newESP:  func() uint32 { return binary.BigEndian.Uint32(i.random(4)) | 0x100 },
			freeESP: func(uint32) {}, opened: func(s *ikeSA) { i.spis[s.own()] = s }, closed: func(s *ikeSA) { delete(i.spis, s.own()) },
			ended: func(_ *bond, why reason.Reason) { i.fail(fmt.Errorf("%w: %w", ErrEnded, why)) },
		},
	}
	sa := &ikeSA{
		mine: true, spiI: i.spiI, spiR: i.spiR, suite: i.suite, keys: i.keys, sealed: i.sealed, keyed: now, parts: i.parts, most: i.most,
	}
	sa.win.next = i.id
	b.start(sa)
	i.b = b
	return b
}

func (i *Initiator) random(n int) []byte {
	b := make([]byte, n)
	_, _ = io.ReadFull(i.c.Rand, b)
	return b
}

// Alive asks the gateway whether it is still there.
func (i *Initiator) Alive(now time.Time) []Output { return i.AliveOf(now, 0) }

// AliveOf is Alive in a message of so many octets, or as near below as the cipher's blocks allow, of which all but a few say nothing: it
// shows whether the way, and the gateway, take messages of that size.
func (i *Initiator) AliveOf(now time.Time, octets int) []Output {
	if i.phase == phUp && i.b.cur.win.idle() {
		i.b.cur.ask(now, &request{exchange: informational, whole: true, write: func(time.Time) ([]payload, bool) {
			if octets == 0 {
				return nil, true
			}
			return []payload{{kind: plVendor, body: make([]byte, max(0, i.b.cur.keys.side(true).Room(octets-headerLen-4)-4))}}, true
		}})
	}
	return i.take()
}

// Waiting tells whether the gateway has yet to answer.
func (i *Initiator) Waiting() bool { return i.b != nil && !i.b.cur.win.idle() }

// Worn is Listener.Worn for the device's side.
func (i *Initiator) Worn(in uint32, wear esp.Wear) {
	if i.b != nil {
		i.b.wears(in, wear)
	}
}

// End tells the gateway that the session is over.
func (i *Initiator) End(now time.Time) []Output {
	if i.phase == phUp {
		i.phase = phOver
		i.b.end(now, reason.Reason{})
	}
	return i.take()
}

func refusal(n notify) RefusedError {
	if words, ok := notifyWords[n.kind]; ok {
		return RefusedError{Code: words}
	}
	return RefusedError{Code: fmt.Sprintf("error %d", n.kind)}
}
