package ike

import (
	"crypto/hmac"
	"encoding/binary"
	"fmt"
	"slices"
	"strings"
	"time"

	"yellowlantern/internal/core/eap"
	"yellowlantern/internal/core/esp"
	"yellowlantern/internal/core/netset"
)

type state int

const (
	opened      state = iota // IKE_SA_INIT is answered
	loggingIn                // EAP goes to and fro
	proving                  // EAP is done; AUTH by its key is awaited
	established              //
	closed
	replaced // by a renewed IKE SA; its deletion is awaited
)

type awaited int

const (
	awaitsNothing awaited = iota
	awaitsLogin
	awaitsLease
)

const (
	maxLoginMessages = 24 // IKE_AUTH requests of one login
	retryFirst       = time.Second
	maxTries         = 5
	replacedTime     = time.Minute      // how long an IKE SA stays after it was renewed, if the device does not delete it
	replayTime       = 10 * time.Second // how long it stays after that, to answer a deletion that is sent again
)

// responder is the gateway's side of one IKE SA. Its methods stand in the order of the exchange.
type responder struct {
	l      *Listener
	id     ID     // of the session
	spi    uint64 // ours; the session's first one is its ID
	spiI   uint64
	tunnel Tunnel
	open   openKey
	peer   Peer
	state  state
	awaits awaited
	suite  Suite
	keys   *keys
	nat    bool

	initRequest, initResponse []byte
	ni, nr                    []byte
	rfc7427                   bool

	expect    uint32 // message ID of the peer's next request
	lastReply []byte // to the request before it
	sealed    uint64 // our encrypted messages so far

	idBody  []byte // the peer's ID payload
	eap     *eap.Server
	msk     []byte
	user    string
	offered []proposal
	tsi     netset.Addrs
	tsr     netset.Addrs
	asked   []cfgAttr
	cfg     bool
	conf    Configuration
	inSPIs  []uint32

	born, heard time.Time
	keyed       time.Time // when the keys of the IKE SA were made
	childKeyed  time.Time // when those of the newest Child SA were made
	request     []byte    // ours, not yet answered
	requestID   uint32
	tries       int
	retryAt     time.Time
}

func (r *responder) handle(now time.Time, from Peer, m *message) {
	if m.response() {
		r.answered(now, from, m)
		return
	}
	if m.id != r.expect {
		if m.id+1 == r.expect && r.lastReply != nil {
			if _, err := r.keys.open(m, true); err == nil { // only to who can have sent the request
				r.l.Counters.Replayed++
				r.l.emit(Send{from, r.lastReply})
				return
			}
		}
		r.l.Counters.OutOfState++
		return
	}
	in, err := r.keys.open(m, true)
	switch {
	case err == errSealed:
		r.l.Counters.Undecryptable++
		return
	case r.awaits != awaitsNothing: // the same request again, while its answer is being worked out
		r.l.Counters.Replayed++
		return
	}
	r.hear(now, from)
	if err != nil {
		r.l.Counters.Malformed++
		r.reply(m.exchange, notify{kind: nInvalidSyntax}.payload())
		if r.state != established {
			r.refuse("the device sent a malformed message", nInvalidSyntax)
		}
		return
	}
	switch {
	case m.exchange == ikeAuth && r.state != established:
		r.auth(now, in)
	case m.exchange == informational && r.state == replaced:
		r.reply(informational)
		if body, ok := in.find(plDelete); ok {
			if d, err := parseDelete(body); err == nil && d.protocol == protoIKE {
				r.keyed = now.Add(-replacedTime + replayTime) // its last reply may be asked for again
			}
		}
	case m.exchange == informational && r.state == established:
		r.inform(in)
	case m.exchange == informational:
		r.informEarly(in)
	case m.exchange == createChildSA && r.state == established:
		r.createChild(now, in)
	default:
		r.l.Counters.OutOfState++
	}
}

// hear notes a sign of life, and where it came from.
func (r *responder) hear(now time.Time, from Peer) {
	r.heard = now
	if r.peer != from {
		r.peer = from
		if r.state == established {
			r.l.emit(Moved{r.id, from})
		}
	}
}

func (r *responder) head(x exchange, id uint32, flags uint8) header {
	return header{spiI: r.spiI, spiR: r.spi, exchange: x, id: id, flags: flags}
}

// reply answers the request that is being handled and makes the next one expected.
func (r *responder) reply(x exchange, ps ...payload) {
	r.sealed++
	r.lastReply = r.keys.seal(r.head(x, r.expect, flagResponse), ps, false, r.sealed)
	r.expect++
	r.l.emit(Send{r.peer, r.lastReply})
}

// refuse notes why a login failed and closes the SA; the reply has been sent.
func (r *responder) refuse(words string, code notifyType) {
	user := r.user
	if claimed := r.claimed(); user == "" && claimed != "" {
		words += fmt.Sprintf(" (it claimed to be %q)", claimed)
	}
	r.l.emit(Note{Peer: r.peer, User: user, Code: notifyWords[code], Words: words})
	r.close("")
}

// claimed is who the device says that it is: in EAP, or, before that, in its first message. Nobody is admitted by it.
func (r *responder) claimed() string {
	if r.eap != nil && r.eap.Identity != "" {
		return printable([]byte(r.eap.Identity))
	}
	if id, err := parseID(r.idBody); err == nil {
		return printable([]byte(id.String()))
	}
	return ""
}

func (r *responder) fail(code notifyType, words string) {
	r.reply(ikeAuth, notify{kind: code}.payload())
	r.refuse(words, code)
}

func (r *responder) auth(now time.Time, m *message) {
	if r.expect > maxLoginMessages {
		r.fail(nAuthenticationFailed, "the device needs too many messages to log in")
		return
	}
	switch r.state {
	case opened:
		r.authFirst(m)
	case loggingIn:
		body, ok := m.find(plEAP)
		if !ok {
			r.fail(nAuthenticationFailed, "the device broke off the login"+failureIn(m))
			return
		}
		r.eapStep(r.eap.Respond(body))
	case proving:
		r.authLast(m)
	}
}

// authFirst takes the identity and the wishes, shows the certificate, and asks who is there (RFC 7296 §2.16).
func (r *responder) authFirst(m *message) {
	idBody, okID := m.find(plIDi)
	saBody, okSA := m.find(plSA)
	tsiBody, okI := m.find(plTSi)
	tsrBody, okR := m.find(plTSr)
	var err error
	if r.offered, err = parseSA(saBody); !okID || !okSA || !okI || !okR || err != nil {
		r.fail(nInvalidSyntax, "the device left out what a login needs")
		return
	}
	var errI, errR error
	r.tsi, errI = parseSelectors(tsiBody)
	r.tsr, errR = parseSelectors(tsrBody)
	if _, err = parseID(idBody); err != nil || errI != nil || errR != nil {
		r.fail(nInvalidSyntax, "the device sent a malformed identity or traffic selectors")
		return
	}
	r.idBody = append([]byte{}, idBody...)
	if body, ok := m.find(plCP); ok {
		if kind, attrs, err := parseCfg(body); err == nil && kind == cfgRequest {
			r.cfg, r.asked = true, attrs
		}
	}
	if _, ok := m.find(plAuth); ok {
		r.fail(nAuthenticationFailed, "the device tries to log in by certificate or shared key, but this tunnel asks for user and password (EAP-MSCHAPv2)")
		return
	}
	if !r.chooseTunnel(m) {
		return
	}
	id := identityFor(r.tunnel.Name)
	sig, err := sign(r.l.set.Rand, r.tunnel.Key, r.keys.signedOctets(r.initResponse, r.ni, r.keys.pr, id.body()), r.rfc7427)
	if err != nil {
		r.fail(nAuthenticationFailed, "the gateway cannot sign with its certificate: "+err.Error())
		return
	}
	r.state, r.eap = loggingIn, eap.NewServer(r.l.set.Rand, r.tunnel.Name)
	ps := []payload{{kind: plIDr, body: id.body()}}
	for _, der := range r.tunnel.Chain {
		ps = append(ps, payload{kind: plCert, body: append([]byte{certX509}, der...)})
	}
	r.reply(ikeAuth, append(ps, sig, payload{kind: plEAP, body: r.eap.Begin()})...)
}

// chooseTunnel finds the tunnel that the device asks for by name; one that names none, or an address, gets the first.
func (r *responder) chooseTunnel(m *message) bool {
	all := r.l.set.tunnels()
	r.tunnel = all[0]
	if body, ok := m.find(plIDr); ok {
		want, err := parseID(body)
		i := slices.IndexFunc(all, func(t Tunnel) bool { return err == nil && want.String() == t.Name })
		switch {
		case i >= 0:
			r.tunnel = all[i]
		case err == nil && want.kind == idFQDN:
			var names []string
			for _, t := range all {
				names = append(names, fmt.Sprintf("%q", t.Name))
			}
			r.fail(nAuthenticationFailed, fmt.Sprintf("the device dials %q, but this gateway is %s: correct the name on the device", want, strings.Join(names, " or ")))
			return false
		}
	}
	if !slices.Contains(r.tunnel.Suites, r.suite) {
		r.l.emit(Note{Peer: r.peer, Code: notifyWords[nNoProposalChosen], Offered: r.suite.Name, Wanted: describeSuites(r.tunnel.Suites),
			Words: fmt.Sprintf("the device asks for tunnel %s, but agreed on algorithms that only another tunnel has", r.tunnel.ID)})
		r.fail(nNoProposalChosen, "no algorithms of this tunnel were agreed on")
		return false
	}
	return true
}

func (r *responder) eapStep(s eap.Step) {
	switch {
	case s.Check != nil:
		r.awaits = awaitsLogin
		r.l.emit(AskLogin{r.id, *s.Check, r.peer})
	case s.Done && !s.OK:
		r.user = printable([]byte(s.User))
		r.reply(ikeAuth, payload{kind: plEAP, body: s.Send})
		r.refuse(s.Refusal, nAuthenticationFailed)
	case s.Done:
		r.state, r.user, r.msk = proving, s.User, s.MSK
		r.reply(ikeAuth, payload{kind: plEAP, body: s.Send})
	default:
		r.reply(ikeAuth, payload{kind: plEAP, body: s.Send})
	}
}

// authLast checks that the one who logged in is the one who began (RFC 7296 §2.16), then asks for a lease.
func (r *responder) authLast(m *message) {
	body, _ := m.find(plAuth)
	method, data, err := parseAuth(body)
	want := r.keys.keyAuth(r.msk, r.keys.signedOctets(r.initRequest, r.nr, r.keys.pi, r.idBody))
	if err != nil || method != authSharedKey || !hmac.Equal(data, want) {
		r.fail(nAuthenticationFailed, "the device's closing proof of the login is wrong")
		return
	}
	r.awaits = awaitsLease
	r.l.emit(AskLease{r.id, r.user, r.tunnel.ID, r.peer})
}

// finish answers the login with the first Child SA, narrowed to what the person may have.
func (r *responder) finish(now time.Time, g Grant) {
	switch {
	case g.Refusal != "" && g.Exhausted:
		r.fail(nInternalAddress, g.Refusal)
		return
	case g.Refusal != "":
		r.fail(nAuthenticationFailed, g.Refusal)
		return
	case !r.cfg:
		r.fail(nFailedCPRequired, "the device asks for no address, but every person gets one from the pool: let it ask for a virtual address")
		return
	}
	r.conf = g.Configuration
	remote := r.tsi.Intersect(netset.OfAddrs(g.Addresses...))
	local := r.tsr.Intersect(g.Routes)
	if len(remote) == 0 || len(local) == 0 {
		r.l.emit(Note{Peer: r.peer, User: r.user, Code: notifyWords[nTSUnacceptable], Offered: r.tsr.String(), Wanted: g.Routes.String(),
			Words: "the device's traffic selectors have nothing in common with its passage"})
		r.fail(nTSUnacceptable, "no network in common between device and passage")
		return
	}
	spi := r.l.newChildSPI(r.id)
	chosen, cipher, ok := chooseESP(r.offered, binary.BigEndian.AppendUint32(nil, spi), ciphersOf(r.tunnel.Suites), dhNone)
	if !ok {
		delete(r.l.children, spi)
		r.l.emit(Note{Peer: r.peer, User: r.user, Code: notifyWords[nNoProposalChosen], Offered: describe(r.offered), Wanted: describe([]proposal{espProposal(nil, ciphersOf(r.tunnel.Suites))}),
			Words: "the device offers no algorithm for the traffic that this tunnel has"})
		r.fail(nNoProposalChosen, "no algorithm for the traffic in common")
		return
	}
	child := r.makeChild(now, cipher, spi, nil, r.ni, r.nr, local, remote, r.peerSPI(r.offered, chosen.number))
	auth := r.keys.keyAuth(r.msk, r.keys.signedOctets(r.initResponse, r.ni, r.keys.pr, identityFor(r.tunnel.Name).body()))
	r.state = established
	r.l.halfOpen--
	delete(r.l.opening, r.open)
	r.reply(ikeAuth, authPayload(authSharedKey, auth), r.conf.reply(r.asked), saPayload(chosen),
		selectors(plTSi, remote), selectors(plTSr, local))
	id, _ := parseID(r.idBody)
	r.l.emit(Up{ID: r.id, User: r.user, Peer: r.peer, Child: child, Suite: r.suite.Name, Tunnel: r.tunnel.ID, NAT: r.nat, Identity: id.String(), Configuration: r.conf})
	r.msk, r.eap, r.initRequest, r.initResponse = nil, nil, nil, nil
}

func (r *responder) peerSPI(offered []proposal, number uint8) uint32 {
	for _, p := range offered {
		if p.number == number && len(p.spi) == 4 {
			return binary.BigEndian.Uint32(p.spi)
		}
	}
	return 0
}

func (r *responder) makeChild(now time.Time, a esp.Algorithm, spi uint32, shared, ni, nr []byte, local, remote netset.Addrs, peer uint32) Child {
	in, out := r.keys.child(a, shared, ni, nr)
	r.childKeyed = now
	r.inSPIs = append(r.inSPIs, spi)
	if r.l.set.LogKeys {
		r.l.emit(espKeyRow(spi, a, in))
		r.l.emit(espKeyRow(peer, a, out))
	}
	return Child{In: spi, Out: peer, Algorithm: a, InKey: in, OutKey: out, Local: local, Remote: remote}
}

// createChild renews the IKE SA, or the Child SA (RFC 7296 §1.3.3) with or without a fresh key exchange. Further Child SAs are not
// offered.
func (r *responder) createChild(now time.Time, m *message) {
	saBody, _ := m.find(plSA)
	ni, okN := m.find(plNonce)
	offered, err := parseSA(saBody)
	if err == nil && offered[0].protocol == protoIKE {
		r.renewIKE(now, m, offered, ni)
		return
	}
	_, renews := m.notified(nRekeySA)
	tsiBody, _ := m.find(plTSi)
	tsrBody, _ := m.find(plTSr)
	tsi, errI := parseSelectors(tsiBody)
	tsr, errR := parseSelectors(tsrBody)
	if len(r.inSPIs) >= mostChildren || err != nil || !okN || !renews || errI != nil || errR != nil || len(ni) < 16 {
		r.reply(createChildSA, notify{kind: nNoAdditionalSAs}.payload())
		return
	}
	group, half, shared := uint16(dhNone), dh{}, []byte(nil)
	if body, ok := m.find(plKE); ok {
		ke, err := parseKE(body)
		if err == nil && groupSizes[ke.group] != 0 {
			group = ke.group
			if half, err = newDH(group, r.l.set.Rand); err == nil {
				shared, err = half.shared(ke.data)
			}
		}
		if err != nil || group == dhNone {
			r.reply(createChildSA, notify{kind: nInvalidKE, data: binary.BigEndian.AppendUint16(nil, r.suite.group)}.payload())
			return
		}
	}
	if r.tunnel.PFS && group == dhNone {
		r.reply(createChildSA, notify{kind: nNoProposalChosen}.payload())
		r.l.emit(Note{Peer: r.peer, User: r.user, Code: notifyWords[nNoProposalChosen], Words: "the device renews without a key exchange of its own, but this tunnel asks for one (pfs)"})
		return
	}
	spi := r.l.newChildSPI(r.id)
	chosen, cipher, ok := chooseESP(offered, binary.BigEndian.AppendUint32(nil, spi), ciphersOf(r.tunnel.Suites), group)
	local, remote := tsr.Intersect(r.conf.Routes), tsi.Intersect(netset.OfAddrs(r.conf.Addresses...))
	if !ok || len(local) == 0 || len(remote) == 0 {
		delete(r.l.children, spi)
		code := nNoProposalChosen
		if ok {
			code = nTSUnacceptable
		}
		r.reply(createChildSA, notify{kind: code}.payload())
		return
	}
	nr := make([]byte, nonceLen)
	_, _ = r.l.set.Rand.Read(nr)
	child := r.makeChild(now, cipher, spi, shared, ni, nr, local, remote, r.peerSPI(offered, chosen.number))
	ps := []payload{saPayload(chosen), {kind: plNonce, body: nr}}
	if group != dhNone {
		ps = append(ps, keyExchange{group, half.public()}.payload())
	}
	r.reply(createChildSA, append(ps, selectors(plTSi, remote), selectors(plTSr, local))...)
	r.l.emit(Renewed{r.id, child})
}

// inform answers INFORMATIONAL: deletions, or nothing, to show that we are here (RFC 7296 §1.4).
func (r *responder) inform(m *message) {
	var answer []payload
	for _, p := range m.payloads {
		if p.kind != plDelete {
			continue
		}
		d, err := parseDelete(p.body)
		switch {
		case err != nil:
		case d.protocol == protoIKE:
			r.reply(informational)
			r.close("the device ended the session")
			return
		case len(r.inSPIs) > 1: // after a renewal the older one goes
			old := r.inSPIs[0]
			r.inSPIs = r.inSPIs[1:]
			delete(r.l.children, old)
			r.l.emit(Dropped{r.id, old})
			answer = append(answer, deletion{protoESP, []uint32{old}}.payload())
		default:
			r.reply(informational, deletion{protoESP, r.inSPIs}.payload())
			r.close("the device ended its traffic")
			return
		}
	}
	r.reply(informational, answer...)
}

// informEarly takes what a device says that gives up before it is logged in.
func (r *responder) informEarly(m *message) {
	r.reply(informational)
	words := "the device gave up during the login"
	if n, ok := m.failure(); ok && n.kind == nAuthenticationFailed {
		words = "the device does not accept the gateway's certificate: the name it dials must be in the certificate, and it must trust the certificate's authority"
	}
	r.refuse(words, nAuthenticationFailed)
}

func failureIn(m *message) string {
	if n, ok := m.failure(); ok {
		return " with " + notifyWords[n.kind]
	}
	return ""
}

// ask sends a request of ours and keeps it until it is answered.
func (r *responder) ask(now time.Time, ps []payload) {
	r.sealed++
	r.request = r.keys.seal(r.head(informational, r.requestID, 0), ps, false, r.sealed)
	r.tries, r.retryAt = 1, now.Add(retryFirst)
	r.l.emit(Send{r.peer, r.request})
}

func (r *responder) answered(now time.Time, from Peer, m *message) {
	if r.request == nil || m.id != r.requestID {
		r.l.Counters.OutOfState++
		return
	}
	if _, err := r.keys.open(m, true); err != nil {
		r.l.Counters.Undecryptable++
		return
	}
	r.request = nil
	r.requestID++
	r.hear(now, from)
}

func (r *responder) tick(now time.Time) {
	switch {
	case r.state == replaced:
		if now.Sub(r.keyed) > replacedTime {
			r.state = closed
			delete(r.l.spis, r.spi)
		}
	case r.state != established:
		if now.Sub(r.born) > r.l.set.LoginTime {
			r.refuse("the login was not finished in time: "+r.stopped(), 0)
		}
	case overdue(now, r.keyed, r.tunnel.IKELife):
		r.expire(now, "the keys of the session were used for as long as they may be, and the device did not renew them")
	case overdue(now, r.childKeyed, r.tunnel.ESPLife):
		r.expire(now, "the keys of the traffic were used for as long as they may be, and the device did not renew them")
	case r.request != nil && !now.Before(r.retryAt):
		if r.tries >= maxTries {
			r.close("the device no longer answers")
			return
		}
		r.retryAt = now.Add(retryFirst << r.tries)
		r.tries++
		r.l.emit(Send{r.peer, r.request})
	case r.request == nil && now.Sub(r.heard) >= r.tunnel.Liveness:
		r.ask(now, nil)
	}
}

// stopped says at which point of a login the device fell silent, and what that usually means.
func (r *responder) stopped() string {
	switch {
	case r.state == opened:
		return "the device began by UDP 500 and sent nothing by UDP 4500, which a router on its way most likely drops"
	case r.eap != nil && r.eap.Identity == "":
		return "the device fell silent after it was shown the certificate, which it most likely does not accept"
	}
	return "the device stopped answering"
}

// close forgets the SA.
func (r *responder) close(reason string) {
	if r.state == closed {
		return
	}
	if r.state == established {
		r.l.emit(Down{r.id, r.user, reason})
	} else {
		r.l.halfOpen--
		delete(r.l.opening, r.open)
	}
	r.state = closed
	for _, spi := range r.inSPIs {
		delete(r.l.children, spi)
	}
	delete(r.l.sas, r.id)
	delete(r.l.spis, r.spi)
}
