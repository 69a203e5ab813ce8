package ike

import (
	"crypto/hmac"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	conversation "yellowlantern/internal/core/login"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/reason"
)

type stage int

const (
	begun          stage = iota // the key exchange is being worked out
	opened                      // IKE_SA_INIT is answered
	anotherAwaited              // a key was shown, and who uses its device is still to log in (RFC 4739)
	loggingIn                   // EAP goes to and fro
	proving                     // EAP is done; AUTH by its key is awaited
	loggedIn                    // a bond has taken over
	loginOver
)

type awaited int

const (
	awaitsNothing awaited = iota
	awaitsWork
	awaitsLogin
	awaitsLease
	awaitsShared
)

const maxLoginMessages = 64 // IKE_AUTH requests of one login

// login is the gateway's side of one login: from IKE_SA_INIT's answer to the bond that it leaves behind. Its methods stand in the order of
// the exchange.
type login struct {
	l      *Listener
	sa     *ikeSA  // on which it is carried, and its message IDs
	id     ID      // of the session that is to be
	tunnel *Tunnel // not altered: others have the same
	open   openKey
	source netip.Addr // that is counted while the login is under way
	known  bool       // the login is about somebody who exists
	peer   Peer
	stage  stage
	awaits awaited
	nat    bool

	initRequest, initResponse []byte
	ni, nr                    []byte
	hashes                    hashes
	by                        Credential // by which the gateway proves itself

	idBody  []byte // the peer's ID payload
	said    string // who it claims to be, in the login itself
	talk    conversation.Conversation
	groups  []string
	limits  conversation.Limits
	proof   payload
	msk     []byte
	user    string
	offered []proposal // for the traffic
	// offeredIKE is what the device offered for the IKE SA.
	offeredIKE []proposal
	tsi        netset.Addrs
	tsr        netset.Addrs
	alone      bool // the device says that it has no other session
	moves      bool // it tells when it moves (RFC 4555)
	postpones  bool // the device begins anew where it is told that nobody can judge it now
	ticket     *ticket
	shown      Shown  // the key that a person proves themselves with
	before     *keys  // those before the additional key exchange
	childless  bool   // it asks for no Child SA yet (RFC 6023)
	follows    bool   // it goes to other gateways that it is sent to (RFC 5685)
	sentBy     string // the gateway that sent it here
	mixes      bool   // both sides can mix a shared key in (RFC 8784)
	mixedBy    string // whose key was; empty: nobody's
	another    bool   // a login by a key is followed by one of the person's
	owner      string // of that key
	keyStamp   string // for what stands the key
	shared     []byte // the key by which both sides prove themselves; nil: something else
	withShared func(conversation.Shared)
	sharedIDs  []string // of shared keys that went in
	// wantsTicket is that the device asks for what it can come back by; stamp stands for what its person logged in with.
	wantsTicket bool
	stamp       string
	coded       bool   // the second factor was given
	talked      bool   // what carried the login on is over by itself
	provedBy    string // what the person proved themselves with, for the record; empty: as the tunnel says
	asked       []cfgAttr
	cfg         bool
	born        time.Time
}

// handle takes a message of the login.
func (r *login) handle(now time.Time, from Peer, m *message) {
	w := &r.sa.win
	if m.response() || !m.fromInitiator() {
		r.l.Counters.OutOfState++
		return
	}
	if m.id != w.expect {
		if m.id+1 == w.expect && w.reply != nil {
			in, err := r.sa.keys.open(m, true, r.sa.parts)
			if err == errSealed && r.before != nil {
				in, err = r.before.open(m, true, r.sa.parts)
			}
			if err != errSealed { // only to who can have sent the request
				r.l.Counters.Replayed++
				if in.begins() {
					if w.asks++; w.asks >= cutAfter && w.cut != nil { // parts of it do not come
						w.cut()
					}
					sendAll(r.l.emit, from, w.reply)
				}
				return
			}
		}
		r.l.Counters.OutOfState++
		return
	}
	in, err := r.sa.keys.open(m, true, r.sa.parts)
	switch {
	case err == errSealed:
		r.l.Counters.Undecryptable++
		return
	case r.awaits != awaitsNothing || err == nil && !w.asked.lacks(in): // the same again, which says nothing of where the device is
		r.l.Counters.Replayed++
		return
	}
	r.peer = from
	if err == nil {
		if in, err = w.asked.add(in); err == errPart {
			return
		}
	}
	if err == errLong {
		r.reply(m.exchange, notify{kind: nInvalidSyntax}.payload())
		r.refuse(reason.Of(reason.MessageTooLong, nil), nInvalidSyntax)
		return
	}
	if err != nil || in.doubled() {
		r.invalid(m.exchange)
		return
	}
	if kind, ok := in.critical(); ok {
		r.reply(m.exchange, unsupported(kind))
		r.refuse(reason.Of(reason.UnknownPayload, reason.With{reason.Payload: strconv.Itoa(int(kind))}), nUnsupportedCritical)
		return
	}
	switch m.exchange {
	case ikeAuth:
		if r.furthersFirst() {
			r.auth(now, in)
		}
	case ikeIntermediate:
		r.intermediate(in)
	case informational:
		r.informEarly(in)
	default:
		r.invalid(m.exchange)
	}
}

// invalid answers a request that is authentic and cannot be read, or that has no place in a login: that ends it (RFC 7296 §2.21.3).
func (r *login) invalid(x exchange) {
	r.l.Counters.Malformed++
	r.reply(x, notify{kind: nInvalidSyntax}.payload())
	r.refuse(reason.Of(reason.MalformedMessage, nil), nInvalidSyntax)
}

// cutAfter is at which repetition of a request its answer, or at which sending of a request it, goes in smaller parts (RFC 7383 §2.5.2):
// the way may carry less than is usual, and drop what is larger without a word.
const cutAfter = 2

// reply answers the request that is being handled and makes the next one expected.
func (r *login) reply(x exchange, ps ...payload) {
	w := &r.sa.win
	w.reply, w.cut, w.asks = r.sa.seal(x, w.expect, flagResponse, ps, !r.peer.TCP), nil, 0
	if len(w.reply) > 1 && r.sa.most == 0 {
		sa, id := *r.sa, w.expect // with the keys of now
		w.cut = func() {
			sa.most, sa.sealed, r.sa.most, w.cut = partLeast, r.sa.sealed, partLeast, nil
			w.reply = sa.seal(x, id, flagResponse, ps, true)
			r.sa.sealed = sa.sealed
		}
	}
	w.expect++
	sendAll(r.l.emit, r.peer, w.reply)
}

// refuse notes why a login failed and closes the SA; the reply has been sent.
func (r *login) refuse(why reason.Reason, code notifyType) {
	with := reason.With{reason.Notify: notifyWords[code]}
	if r.user == "" {
		with[reason.Claimed] = r.claimed()
	}
	r.l.emit(Note{Peer: r.peer, User: r.user, Known: r.known, Reason: why.And(with)})
	r.close()
}

// device is what the device calls itself.
func (r *login) device() string {
	id, err := parseID(r.idBody)
	if err != nil {
		return ""
	}
	return id.String()
}

// claimed is who the device says that it is: in EAP, or, before that, in its first message. Nobody is admitted by it.
func (r *login) claimed() string {
	if r.said != "" {
		return printable([]byte(r.said))
	}
	return printable([]byte(r.device()))
}

func (r *login) fail(code notifyType, why reason.Reason) {
	r.reply(ikeAuth, notify{kind: code}.payload())
	r.refuse(why, code)
}

func (r *login) auth(now time.Time, m *message) {
	if r.sa.win.expect > maxLoginMessages {
		r.fail(nAuthenticationFailed, reason.Of(reason.TooManyMessages, nil))
		return
	}
	switch r.stage {
	case opened:
		r.authFirst(m)
	case anotherAwaited:
		r.authAnother(m)
	case loggingIn:
		body, ok := m.find(plEAP)
		if !ok {
			r.fail(nAuthenticationFailed, reason.Of(reason.BrokenOff, reason.With{reason.What: failureIn(m)}))
			return
		}
		r.ask(append([]byte{}, body...))
	case proving:
		r.authLast(m)
	}
}

// authFirst takes the identity and the wishes, shows the certificate, and asks who is there (RFC 7296 §2.16).
func (r *login) authFirst(m *message) {
	idBody, okID := m.find(plIDi)
	saBody, okSA := m.find(plSA)
	tsiBody, okI := m.find(plTSi)
	tsrBody, okR := m.find(plTSr)
	var err, errI, errR error
	if r.childless = okID && !okSA && !okI && !okR; !r.childless {
		if r.offered, err = parseSA(saBody); !okID || !okSA || !okI || !okR || err != nil {
			r.fail(nInvalidSyntax, reason.Of(reason.IncompleteLogin, nil))
			return
		}
		r.tsi, errI = parseSelectors(tsiBody)
		r.tsr, errR = parseSelectors(tsrBody)
	}
	if _, err = parseID(idBody); err != nil || errI != nil || errR != nil {
		r.fail(nInvalidSyntax, reason.Of(reason.MalformedIdentity, nil))
		return
	}
	r.idBody = append([]byte{}, idBody...)
	_, r.alone = m.notified(nInitialContact)
	_, r.moves = m.notified(nMoves)
	r.postpones = postponed(m)
	if body, ok := m.find(plCP); ok {
		if kind, attrs, err := parseCfg(body); err == nil && kind == cfgRequest {
			r.cfg, r.asked = true, attrs
		}
	}
	if _, wants := m.notified(nTicketWanted); wants {
		r.wantsTicket = true
	}
	if r.ticket != nil {
		r.authBack(m, r.idBody)
		return
	}
	if !r.chooseTunnel(m) {
		return
	}
	r.by = r.tunnel.credential(m, announcedIn(m), r.hashes)
	switch _, byKey := m.find(plAuth); {
	case byKey != (r.tunnel.Proof != ByPassword):
		r.fail(nAuthenticationFailed, r.otherMethod())
		return
	case byKey && r.redirects():
		// the gateway's proof is worked out first
	case byKey:
		r.authByKey(m)
		return
	}
	key, rand, theirs := r.by.Key, r.l.set.Rand, r.hashes
	octets := r.sa.keys.signedOctets(r.initResponse, r.ni, r.sa.keys.pr, identityFor(r.tunnel.Name).body())
	r.awaits = awaitsWork
	r.l.emit(Work{Do: func() Finish {
		sig, err := sign(rand, key, octets, theirs)
		return func(time.Time) { r.signed(sig, err) }
	}})
}

// signed takes the gateway's proof of its identity, and begins the login itself.
func (r *login) signed(sig payload, err error) {
	if r.awaits != awaitsWork {
		return
	}
	r.awaits = awaitsNothing
	if err != nil {
		r.fail(nAuthenticationFailed, reason.Of(reason.CannotSign, reason.With{reason.Error: err.Error()}))
		return
	}
	r.proof = sig
	if r.redirect() {
		return
	}
	r.ask(nil)
}

// ask asks for the next step of the login.
func (r *login) ask(message []byte) {
	r.awaits = awaitsLogin
	r.l.emit(AskLogin{r.id, r.talk, message, r.tunnel.Name, r.tunnel.ID, r.peer})
}

// shows is what the gateway shows of itself before a person logs in.
func (r *login) shows() []payload {
	ps := []payload{{kind: plIDr, body: identityFor(r.tunnel.Name).body()}}
	for _, der := range r.by.Chain {
		ps = append(ps, payload{kind: plCert, body: append([]byte{certX509}, der...)})
	}
	return append(ps, r.proof)
}

// chooseTunnel finds the tunnel that the device asks for by name; one that names none, or an address, gets the first.
func (r *login) chooseTunnel(m *message) bool {
	all := r.l.tunnels
	r.tunnel = all[0]
	if body, ok := m.find(plIDr); ok {
		want, err := parseID(body)
		i := slices.IndexFunc(all, func(t *Tunnel) bool { return err == nil && strings.EqualFold(want.String(), t.Name) })
		switch {
		case i >= 0:
			r.tunnel = all[i]
		case err == nil && want.kind == idFQDN:
			var names []string
			for _, t := range all {
				names = append(names, fmt.Sprintf("%q", t.Name))
			}
			r.fail(nAuthenticationFailed, reason.Of(reason.DialsWrongName,
				reason.With{reason.Name: printable([]byte(want.String())), reason.Names: strings.Join(names, " or ")}))
			return false
		}
	}
	// Which tunnel a device asks for is known only once the key exchange is over. One that has offered what this tunnel has comes in by
	// what another tunnel has, and its IKE SA is renewed at once.
	_, _, both := chooseIKE(r.offeredIKE, r.tunnel.Algorithms, nil)
	if want := r.tunnel.Algorithms; want.lacks(r.sa.suite) || !want.allows(r.sa.suite) && !both {
		r.fail(nNoProposalChosen, reason.Of(reason.AlgorithmsElsewhere, reason.With{
			reason.Tunnel: r.tunnel.ID, reason.Offered: r.sa.suite.String(), reason.Wanted: describePolicy(r.tunnel.Algorithms),
		}))
		return false
	}
	return true
}

// told takes the next step of the login.
func (r *login) told(s conversation.Step) {
	r.said = s.Claimed
	if s.Later {
		r.known, r.user = s.Known, printable([]byte(s.User))
		r.postpone(s.Why)
		return
	}
	var ps []payload
	switch r.stage {
	case opened:
		ps, r.stage = r.shows(), loggingIn
	case anotherAwaited:
		r.stage = loggingIn
	}
	if s.Send == nil { // there is nobody who carries it on
		r.known, r.user = s.Known, printable([]byte(s.User))
		r.fail(nAuthenticationFailed, s.Why)
		return
	}
	r.reply(ikeAuth, append(ps, payload{kind: plEAP, body: s.Send})...)
	switch {
	case s.Over && s.OK:
		r.stage, r.user, r.groups, r.limits, r.msk, r.stamp, r.known = proving, s.User, s.Groups, s.Limits, s.Key, s.Stamp, true
		r.coded = s.Coded
		if s.Public != nil {
			r.shown.PublicKey, r.provedBy = s.Public, s.ProvedBy
		}
	case s.Over:
		r.known, r.user = s.Known, printable([]byte(s.User))
		r.refuse(s.Why, nAuthenticationFailed)
	}
}

// authLast checks that the one who logged in is the one who began (RFC 7296 §2.16), then asks for a lease.
func (r *login) authLast(m *message) {
	body, _ := m.find(plAuth)
	method, data, err := parseAuth(body)
	if err != nil {
		r.fail(nAuthenticationFailed, reason.Of(reason.WrongProof, nil))
		return
	}
	if _, wants := m.notified(nTicketWanted); wants {
		r.wantsTicket = true
	}
	mixIn := r.mixIn
	if r.another { // it was settled by the key
		mixIn = func(_ *message, data []byte, then func([]byte)) { then(data) }
	}
	mixIn(m, append([]byte{}, data...), func(data []byte) {
		want := r.sa.keys.keyAuth(r.msk, r.sa.keys.signedOctets(r.initRequest, r.nr, r.sa.keys.pi, r.idBody))
		if method != authSharedKey || !hmac.Equal(data, want) {
			r.fail(nAuthenticationFailed, reason.Of(reason.WrongProof, nil))
			return
		}
		if r.another && r.owner != r.user {
			r.fail(nAuthenticationFailed, reason.Of(reason.KeyOfAnother, nil))
			return
		}
		if r.another {
			r.stamp = r.keyStamp // it dies with the key, and with the password
		}
		r.askLease()
	})
}

// askLease asks for addresses for who has logged in.
func (r *login) askLease() {
	if !r.mixedRightly() {
		r.fail(nAuthenticationFailed, reason.Of(reason.MixedKeyOther, nil))
		return
	}
	mixed := r.mixedBy != "" || r.ticket != nil && r.ticket.Mixed
	ask := AskLease{
		ID: r.id, User: r.user, Groups: r.groups, Limits: r.limits, Tunnel: r.tunnel.ID, Suite: r.sa.suite.String(), From: r.peer, Device: r.device(),
		Alone: r.alone, Stamp: r.stamp, Coded: r.coded, ProvedBy: r.provedBy, SafeLogin: r.sa.suite.additional != 0,
		SafeTraffic: mixed || r.sa.suite.additional != 0, Want4: wanted(r.asked, true), Want6: wanted(r.asked, false),
	}
	if r.ticket != nil {
		ask.Back = r.ticket.Remember
	}
	ask.Key, ask.SharedKeys = r.shown.PublicKey, r.sharedIDs
	r.awaits = awaitsLease
	r.l.emit(ask)
}

// finish answers the login with the gateway's closing proof and the first Child SA, narrowed to what the person may have. Whoever has
// logged in rightly gets the proof also where there can be no Child SA (RFC 7296 §1.2); nothing else can come of such an SA, so it ends.
func (r *login) finish(now time.Time, g Grant) {
	if g.Later {
		r.postpone(g.Refusal)
		return
	}
	if !g.Refusal.None() && !g.Exhausted {
		r.fail(nAuthenticationFailed, g.Refusal)
		return
	}
	if g.OnePlace && r.ticket != nil && r.ticket.Place != r.l.place(r.peer) { // the ticket is from before the passage said so
		r.fail(nAuthenticationFailed, reason.Of(reason.MovedElsewhere, reason.With{
			reason.Source: r.ticket.Place.Addr().String(), reason.Address: r.l.place(r.peer).Addr().String(),
		}))
		return
	}
	proof := r.closing()
	without := func(code notifyType, why reason.Reason) {
		r.reply(ikeAuth, append(proof, notify{kind: code}.payload())...)
		r.refuse(why, code)
		r.l.lingers(now, r)
	}
	if g.Exhausted {
		without(nInternalAddress, g.Refusal)
		return
	}
	conf := g.Configuration.askedFor(r.asked)
	switch {
	case !r.cfg:
		without(nFailedCPRequired, reason.Of(reason.AsksNoAddress, nil))
		return
	case len(conf.Addresses) == 0:
		without(nInternalAddress, reason.Of(reason.AsksOtherFamily, nil))
		return
	}
	if r.childless {
		r.stands(now, g, conf, proof, nil)
		return
	}
	remote := r.tsi.Intersect(conf.leased())
	local := r.tsr.Intersect(g.Routes)
	if len(remote) == 0 || len(local) == 0 {
		without(nTSUnacceptable,
			reason.Of(reason.SelectorsForeign, reason.With{reason.Offered: r.tsr.String(), reason.Wanted: g.Routes.String()}))
		return
	}
	spi := r.l.newChildSPI()
	chosen, cipher, _, ok := chooseESP(r.offered, spi4(spi), r.tunnel.Algorithms, []uint16{dhNone})
	if !ok {
		delete(r.l.children, spi)
		without(nNoProposalChosen, reason.Of(reason.NoCommonTrafficCipher, reason.With{
			reason.Tunnel: r.tunnel.ID, reason.Offered: describe(r.offered),
			reason.Wanted: describe(espProposals(r.tunnel.Algorithms, nil, dhNone)),
		}))
		return
	}
	r.stands(now, g, conf, proof, func() (Child, []payload) {
		_, child := r.sa.makeChild(now, cipher, spi, peerSPI(r.offered, chosen.number), nil, r.ni, r.nr, nil, local, remote, false)
		return child, []payload{saPayload(chosen), selectors(plTSi, remote), selectors(plTSr, local)}
	})
}

// stands makes a session of the login, with a first Child SA where one was asked for: nil: the device makes one later (RFC 6023).
func (r *login) stands(now time.Time, g Grant, conf Configuration, ps []payload, make func() (Child, []payload)) {
	id, _ := parseID(r.idBody)
	b := r.l.bond(r)
	b.local, b.remote, b.onePlace = conf.Routes, conf.leased(), g.OnePlace
	b.patience = g.Patience // the passage's, before the tunnel's
	r.stage = loggedIn
	r.leave()
	b.start(r.sa)
	b.heard = now
	ps = append(ps, conf.reply(r.asked))
	var child Child
	if make != nil {
		made, about := make()
		child, ps = made, append(ps, about...)
	}
	ps = append(ps, r.remembering(now, g)...)
	ps = append(ps, b.tokens(r.sa)...)
	if r.moves && !g.OnePlace {
		ps = append(ps, notify{kind: nMoves}.payload())
	}
	r.reply(ikeAuth, ps...)
	r.l.sessions[r.id] = b
	r.l.emit(Up{
		ID: r.id, User: r.user, Peer: r.peer, Child: child, Suite: r.sa.suite.String(), Tunnel: r.tunnel.ID, NAT: r.nat, Identity: id.String(),
		OnePlace: g.OnePlace, Unproved: b.unproved, Configuration: conf,
	})
	b.prove(now)
}

// informEarly takes what a device says that gives up before it is logged in.
func (r *login) informEarly(m *message) {
	r.reply(informational)
	why := reason.Of(reason.GaveUp, nil)
	if n, ok := m.failure(); ok && n.kind == nAuthenticationFailed {
		why = reason.Of(reason.CertificateNotAccepted, reason.With{reason.Tunnel: r.tunnel.ID})
	}
	r.refuse(why, nAuthenticationFailed)
}

func failureIn(m *message) string {
	if n, ok := m.failure(); ok {
		return notifyWords[n.kind]
	}
	return ""
}

// tick ends a login that takes too long.
func (r *login) tick(now time.Time) {
	if now.Sub(r.born) > r.l.set.LoginTime {
		r.refuse(reason.Of(r.stopped(), nil), 0)
	}
}

// stopped says at which point of a login the device fell silent, and what that usually means.
func (r *login) stopped() reason.Code {
	switch {
	case r.stage <= opened:
		return reason.SilentOn4500
	case r.said == "":
		return reason.SilentAtCertificate
	}
	return reason.SilentInLogin
}

// close forgets the login.
func (r *login) close() {
	if r.stage < loggedIn {
		r.stage = loginOver
		r.leave()
	}
}

// leave takes the login out of the listener's books.
func (r *login) leave() {
	r.l.halfOpen.Remove(r.source)
	if r.stage == loginOver && !r.talked {
		r.l.breaks(r.source, r.born)
	}
	if r.talk != nil && !r.talked {
		r.l.emit(TalkOver{r.talk})
	}
	delete(r.l.opening, r.open)
	delete(r.l.logins, r.sa.own())
	delete(r.l.byID, r.id)
}
