package ike

import (
	"cmp"
	"slices"
	"time"

	"yellowlantern/internal/core/reason"
)

// ikeSA is one IKE SA after the login, the same for both sides. It carries exchanges; what they are about belongs to its bond.
type ikeSA struct {
	b          *bond
	mine       bool // we are its initiator: by the login, or by having renewed the one before
	spiI, spiR uint64
	suite      Suite
	keys       *keys
	sealed     uint64 // our encrypted messages so far
	parts      bool   // both sides take messages in parts
	most       int    // octets of a part; 0: partLongest
	token      []byte // of the other side's: with it, it says that it forgot this SA
	win        window
	keyed      time.Time
	until      time.Time // it was replaced, or deleted: forgotten then
	renewing   bool      // our request for a renewal is under way
	working    bool      // the answer to the peer's request is being worked out
	rival      *rivalSA  // what the peer's request made meanwhile
	follow     *followUp // a renewal of the peer's that awaits its additional key exchange
}

// own is the SPI that we chose.
func (s *ikeSA) own() uint64 {
	if s.mine {
		return s.spiI
	}
	return s.spiR
}

// seal seals a message, in parts where it is long and they are wanted.
func (s *ikeSA) seal(x exchange, id uint32, flags uint8, ps []payload, parts bool) [][]byte {
	if s.mine {
		flags |= flagInitiator
	}
	h := header{spiI: s.spiI, spiR: s.spiR, exchange: x, id: id, flags: flags}
	most := 0
	if s.parts && parts {
		most = cmp.Or(s.most, partLongest)
	}
	return s.keys.sealAll(h, ps, s.mine, most, func() uint64 { s.sealed++; return s.sealed })
}

// sendAll sends the datagrams of one message.
func sendAll(emit func(Output), to Peer, datagrams [][]byte) {
	for _, b := range datagrams {
		emit(Send{to, b})
	}
}

// replaced tells whether another IKE SA took its place, or the bond is over.
func (s *ikeSA) replaced() bool { return s.b.cur != s || s.b.over }

// handle takes a message that came for this SA.
func (s *ikeSA) handle(now time.Time, from Peer, m *message) {
	if m.fromInitiator() == s.mine { // our own, come back
		s.b.count.OutOfState++
		return
	}
	defer func() { s.b.prove(now) }() // once what came is answered
	if m.response() {
		s.answer(now, from, m)
		return
	}
	if m.id != s.win.expect {
		if m.id+1 == s.win.expect && s.win.reply != nil {
			if in, err := s.keys.open(m, !s.mine, s.parts); err != errSealed { // only to who can have sent the request
				s.b.count.Replayed++
				if in.begins() { // and once for all of its parts (RFC 7383 §2.6.1)
					sendAll(s.b.emit, from, s.win.reply)
				}
				return
			}
		}
		s.b.count.OutOfState++
		return
	}
	in, err := s.keys.open(m, !s.mine, s.parts)
	if err == errSealed {
		s.b.count.Undecryptable++
		return
	}
	switch {
	case s.working || err == nil && !s.win.asked.lacks(in): // the same again, by which nobody moves (RFC 7296 §2.23)
		s.b.count.Replayed++
		return
	case !s.b.hear(now, from):
		return
	case err == nil:
		if in, err = s.win.asked.add(in); err == errPart {
			return
		}
	}
	s.b.confirm(s) // who asks anew has had the answer to what was asked before
	if err != nil || in.doubled() {
		s.invalid(m.exchange)
		return
	}
	if kind, ok := in.critical(); ok {
		s.reply(m.exchange, unsupported(kind))
		return
	}
	switch m.exchange {
	case informational:
		s.inform(now, in)
	case createChildSA:
		s.unfollow()
		s.create(now, in)
	case ikeFollowUp:
		s.followedUp(now, in)
	default:
		s.invalid(m.exchange)
	}
}

// reply answers the request that is being handled and makes the next one expected.
func (s *ikeSA) reply(x exchange, ps ...payload) {
	s.win.reply, s.win.cut = s.seal(x, s.win.expect, flagResponse, ps, !s.b.peer.TCP), nil
	s.win.expect++
	sendAll(s.b.emit, s.b.peer, s.win.reply)
}

func (s *ikeSA) refuse(x exchange, kind notifyType) { s.reply(x, notify{kind: kind}.payload()) }

// invalid answers a request that is authentic and cannot be read, or that asks for what is not known: that ends the IKE SA, without a
// further exchange (RFC 7296 §2.21.3).
func (s *ikeSA) invalid(x exchange) {
	s.b.count.Malformed++
	s.refuse(x, nInvalidSyntax)
	if s.replaced() {
		s.b.forget(s)
		return
	}
	s.b.fall(s.b.why(reason.PeerUnreadable).And(reason.With{reason.What: "a message"}))
}

// answer takes what answers our request.
func (s *ikeSA) answer(now time.Time, from Peer, m *message) {
	if s.win.out == nil || m.id != s.win.next {
		s.b.count.OutOfState++
		return
	}
	in, err := s.keys.open(m, !s.mine, s.parts)
	if err == errSealed {
		s.b.count.Undecryptable++
		return
	}
	if err == nil && !s.win.heard.lacks(in) {
		s.b.count.Replayed++
		return
	}
	s.b.hear(now, from)
	if err == nil {
		if in, err = s.win.heard.add(in); err == errPart {
			return
		}
	}
	r := s.win.done()
	if err != nil || in.doubled() { // nobody can know what became of the request (RFC 7296 §2.21.3)
		s.b.fall(s.b.why(reason.PeerUnreadable).And(reason.With{reason.What: "an answer"}))
		return
	}
	if r.answered != nil {
		r.answered(now, in)
	}
	s.pump(now)
}

// ask sends a request of ours, once those before it are answered or given up.
func (s *ikeSA) ask(now time.Time, r *request) {
	s.win.queue = append(s.win.queue, r)
	s.pump(now)
}

func (s *ikeSA) pump(now time.Time) {
	for s.win.out == nil && len(s.win.queue) > 0 && slices.Contains(s.b.sas, s) {
		r := s.win.queue[0]
		s.win.queue = s.win.queue[1:]
		ps, needed := r.write(now)
		if !needed {
			continue
		}
		s.win.begin(now, r, s.seal(r.exchange, s.win.next, 0, ps, !r.whole && !s.b.peer.TCP))
		sendAll(s.b.emit, s.b.peer, s.win.sent)
	}
}

func (s *ikeSA) tick(now time.Time) {
	if !s.until.IsZero() && now.After(s.until) {
		s.b.forget(s)
		return
	}
	if s.follow != nil && now.After(s.follow.until) {
		s.unfollow()
	}
	patience := s.b.patience
	if s.replaced() {
		patience = min(patience, leavePatient)
	}
	switch repeat, given := s.win.again(now, patience); {
	case repeat:
		if r := s.win.out; r.smaller != nil {
			s.win.sent = s.seal(r.exchange, s.win.next, 0, r.smaller(), !r.whole && !s.b.peer.TCP)
		}
		sendAll(s.b.emit, s.b.peer, s.win.sent)
	case given && s.replaced():
		s.b.forget(s)
	case given:
		s.b.fall(s.b.why(reason.NoLongerAnswers))
	}
}

// remove asks the peer to delete this SA (RFC 7296 §1.4.1), after what is under way.
func (s *ikeSA) remove(now time.Time) {
	// Nothing that waits matters any more.
	for _, r := range s.win.queue {
		if r.dropped != nil {
			r.dropped()
		}
	}
	s.win.queue = nil
	if r := s.win.out; r != nil && r.smaller != nil { // it may be lost, and nothing depends on its size
		r.smaller = nil
		s.win.sent = s.seal(r.exchange, s.win.next, 0, nil, false)
		sendAll(s.b.emit, s.b.peer, s.win.sent)
	}
	s.ask(now, &request{exchange: informational, write: func(time.Time) ([]payload, bool) {
		return []payload{deletion{protocol: protoIKE}.payload()}, true
	}, answered: func(time.Time, *message) { s.b.forget(s) }})
}

// inform answers INFORMATIONAL: deletions, or nothing, to show that we are here (RFC 7296 §1.4). A deletion takes away the Child SA that
// it names and no other; the IKE SA lives on, also without one (§1.4.1).
func (s *ikeSA) inform(now time.Time, m *message) {
	var deletions []deletion
	for _, p := range m.payloads {
		if p.kind == plDelete {
			d, err := parseDelete(p.body)
			if err != nil {
				s.invalid(informational)
				return
			}
			deletions = append(deletions, d)
		}
	}
	s.learn(m)
	answers, ok := s.moved(m)
	if !ok {
		return
	}
	var gone []uint32
	for _, d := range deletions {
		switch d.protocol {
		case protoIKE:
			s.reply(informational)
			if s.rival != nil && !s.replaced() { // the peer renewed it and does not know that we asked for that as well (RFC 7296 §2.8.2)
				s.renewing = false
				s.b.adopt(now, s.rival.sa)
			}
			if s.replaced() {
				s.until = now.Add(replayTime) // its last reply may be asked for again
				s.win.drop()
				return
			}
			s.b.fall(s.b.why(reason.PeerEnded))
			return
		case protoESP:
			gone = append(gone, s.b.deleted(d.spis)...)
		}
	}
	if gone != nil {
		answers = append(answers, deletion{protoESP, gone}.payload())
	}
	s.reply(informational, answers...)
}

// learn notes the token of the other side (RFC 6290 §4.1).
func (s *ikeSA) learn(m *message) {
	if token, ok := m.notified(nCrashToken); ok {
		s.token = append([]byte{}, token...)
	}
	if octets := pathTold(m); octets > 0 {
		s.b.emit(Measured{s.b.id, octets})
	}
}

// create answers CREATE_CHILD_SA (RFC 7296 §1.3).
func (s *ikeSA) create(now time.Time, m *message) {
	saBody, okSA := m.find(plSA)
	ni, okN := m.find(plNonce)
	offered, err := parseSA(saBody)
	if !okSA || !okN || err != nil || !goodNonce(ni, s.suite.prf) {
		s.invalid(createChildSA)
		return
	}
	switch {
	case s.replaced(): // RFC 7296 §2.25.2
		s.refuse(createChildSA, nTemporaryFailure)
	case offered[0].protocol == protoIKE:
		s.renewed(now, m, offered, ni)
	default:
		s.createChild(now, m, offered, ni)
	}
}
