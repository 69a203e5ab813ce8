package ikev2

import (
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"yellowlantern/internal/core/crowd"
	"yellowlantern/internal/core/esp"
	"yellowlantern/internal/core/ike"
	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/session"
)

// link is the path of one session to its device: the keys in use, and where the device is.
type link struct {
	server  *server
	session *session.Session
	id      ike.ID
	nat     bool
	// onePlace is that the device may not turn up elsewhere.
	onePlace bool

	// What packets look at stands together, as it does in a session.
	mu     sync.Mutex
	sealer *esp.Sealer // of the last of pairs; nil: there is none
	peer   ike.Peer
	// order is held from the taking of sequence numbers until what has them is sent: devices have small replay windows.
	order sync.Mutex
	// alone is that datagrams to where the device is cannot be joined: they are too large for a link on the way.
	alone   atomic.Bool
	heardBy int // of the youngest association by which something came
	toldAt  time.Time
	// unproved is that nothing shows yet that the device receives what goes to where it was heard from; room is how much may go there.
	unproved atomic.Bool
	room     room
	pairs    []pair // of associations, the one that is sent with last; none: the device took its last one away
	age      int    // of the youngest association
	missed   uint64 // of associations that are gone
}

// pair is the two associations of a Child SA.
type pair struct {
	opener *esp.Opener
	sealer *esp.Sealer
	most   esp.Volume // how much either may protect
}

type association struct {
	opener  *esp.Opener
	link    *link
	order   int         // among the session's: a younger one takes the place of the older ones
	waiting atomic.Bool // it is sent with once something comes by it
}

// Send implements session.Path.
func (l *link) Send(p inside.Packet) {
	if p.Each > 0 || !p.Has(esp.Headroom, esp.Tailroom) {
		l.SendAll([]inside.Packet{p})
		return
	}
	peer, sealer := l.sending()
	if sealer == nil { // the device took its last Child SA away
		return
	}
	l.order.Lock()
	defer l.order.Unlock()
	out, err := sealer.Seal(p.Buf, p.Off, p.Len)
	if err != nil {
		l.unsealed(err)
		return
	}
	l.sendRun(out, len(out), peer)
}

// SendAll implements session.Path: what is alike in length is sent by one system call.
func (l *link) SendAll(ps []inside.Packet) {
	if len(ps) == 1 && ps[0].Each == 0 && ps[0].Has(esp.Headroom, esp.Tailroom) {
		l.Send(ps[0])
		return
	}
	peer, sealer := l.sending()
	if sealer == nil {
		return
	}
	most := 1
	if !peer.TCP {
		most = l.socket().atOnce(&l.alone)
	}
	l.order.Lock()
	defer l.order.Unlock()
	if err := sealAll(l, peer, sealer, ps, most); err != nil {
		l.unsealed(err)
	}
}

func (l *link) unsealed(err error) {
	l.server.Log.Warn("packet not sealed", "user", l.session.User, "error", err)
}

// sendRun implements carries.
func (l *link) sendRun(whole []byte, each int, to ike.Peer) {
	if l.unproved.Load() && !l.mayGo(len(whole)) {
		l.server.dropped.unproved.Add(uint64((len(whole) + each - 1) / each))
		return
	}
	if to.TCP {
		l.server.streams.send(to.Addr, whole)
		return
	}
	l.socket().sendRun(whole, each, to, &l.alone)
}

// socket is which of the sockets it is sent by: always the same, so that others seldom send by it.
func (l *link) socket() *socket {
	all := l.server.Sockets.natt
	return all[l.session.ID%uint64(len(all))]
}

// sending is where the device is, and what is sealed with for it; nil: the device took its last Child SA away.
func (l *link) sending() (peer ike.Peer, sealer *esp.Sealer) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.peer, l.sealer
}

// turned notes which association is sent with, once pairs are others. l.mu is held.
func (l *link) turned() {
	if l.sealer = nil; len(l.pairs) > 0 {
		l.sealer = l.pairs[len(l.pairs)-1].sealer
	}
}

// Where is where the device is.
func (l *link) Where() session.Where {
	l.mu.Lock()
	defer l.mu.Unlock()
	w := session.Where{Addr: l.peer.Addr, Over: session.OverUDP, Behind: l.nat}
	if l.peer.TCP {
		w.Over = session.OverTCP
	}
	return w
}

// Missing is how many packets did not come, as their sequence numbers tell.
func (l *link) Missing() uint64 {
	l.mu.Lock()
	defer l.mu.Unlock()
	missing := l.missed
	for _, p := range l.pairs {
		missing += p.opener.Missing()
	}
	return missing
}

// heard tells the protocol machine, now and then, that the device is there, and at once when it has moved. A device is where its newest
// packet came from: one that is older, by its sequence number or by its association, does not move it back. What goes to the device goes
// there from now on, without waiting for the machine. It is false for a packet from where the device may not be: the machine ends the
// session.
func (l *link) heard(from ike.Peer, now time.Time, newest bool, order int) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.onePlace && l.peer.Addr.Addr() != from.Addr.Addr() && l.source(l.peer) != l.source(from) {
		if newest && order >= l.heardBy {
			select {
			case l.server.signs <- sign{now, l.id, from, false}:
			default: // told by the next packet
			}
		}
		return false
	}
	if !newest || order < l.heardBy {
		from = l.peer
	}
	l.heardBy = max(l.heardBy, order)
	if l.peer == from && now.Sub(l.toldAt) <= heardMost {
		return true
	}
	l.turnTo(from)
	select {
	case l.server.signs <- sign{now, l.id, from, l.unproved.Load()}:
		l.toldAt = now
	default: // told by the next packet
		l.server.late.Add(1)
	}
	return true
}

// source is the place that a peer is at.
func (l *link) source(p ike.Peer) netip.Prefix {
	return crowd.Source(l.server.host.SeenAt(p.Addr).Addr())
}

// install takes a Child SA into use: we receive with all that were not deleted, and send with the newest, where the device is ready for it.
func (l *link) install(c ike.Child, ready bool) {
	opener, errIn := esp.NewOpener(c.In, c.Algorithm, c.InKey)
	sealer, errOut := esp.NewSealer(c.Out, c.Algorithm, c.OutKey)
	if errIn != nil || errOut != nil {
		l.server.Log.Error("association not installed", "in", errIn, "out", errOut)
		return
	}
	l.mu.Lock()
	waits := !ready && len(l.pairs) > 0
	l.pairs = append(l.pairs, pair{opener, sealer, c.Most})
	if n := len(l.pairs); waits {
		l.pairs[n-1], l.pairs[n-2] = l.pairs[n-2], l.pairs[n-1]
	}
	l.turned()
	l.age++
	a := &association{opener: opener, link: l, order: l.age}
	a.waiting.Store(waits)
	l.mu.Unlock()
	l.server.inbound.store(c.In, a)
}

// prefer makes an association the one that is sent with.
func (l *link) prefer(spi uint32) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if i := l.find(spi); i >= 0 {
		p := l.pairs[i]
		l.pairs = append(slices.Delete(l.pairs, i, i+1), p)
		l.turned()
	}
}

// retire forgets an association that is no longer received with, but not what was missed of it.
func (l *link) retire(spi uint32) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if i := l.find(spi); i >= 0 {
		l.missed += l.pairs[i].opener.Missing()
		l.pairs = slices.Delete(l.pairs, i, i+1)
		l.turned()
	}
}

func (l *link) find(spi uint32) int {
	return slices.IndexFunc(l.pairs, func(p pair) bool { return p.opener.SPI == spi })
}

// leastInner bounds what a device may say of its way: below, gateway and inside hosts would only be busy with small packets.
const leastInner = 400 // octets

// measured notes what the device says that its way carries.
func (l *link) measured(octets int) {
	if _, sealer := l.sending(); sealer != nil {
		l.session.Carries(max(leastInner, sealer.Inner(octets)))
	}
}

// moved is the machine's word for where the device is.
func (l *link) moved(to ike.Peer) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.turnTo(to)
}

// turnTo has what goes to the device go there from now on. l.mu is held.
func (l *link) turnTo(to ike.Peer) {
	if l.peer != to {
		l.peer = to
		l.alone.Store(false)
		l.unproved.Store(!to.TCP) // a connection from there exists
	}
}

// proved is the machine's word for that the device receives what goes there.
func (l *link) proved(at ike.Peer) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.peer == at {
		l.unproved.Store(false)
	}
}

// mayGo tells whether that many octets more may go to where the device is not shown to receive them.
func (l *link) mayGo(octets int) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.room.take(time.Now(), octets)
}

// What a session sends to places that are not shown to be its device's: enough for a device that moves until it has answered, and too
// little to flood somebody whose address a device claims. Turning up there again and again gives no more of it.
const (
	roomMost  = 1 << 20  // octets
	roomGrows = 16 << 10 // octets a second
)

// room is how much of that was used. Its zero value is empty of use.
type room struct {
	used float64
	at   time.Time
}

func (r *room) take(now time.Time, octets int) bool {
	if !r.at.IsZero() {
		r.used = max(0, r.used-now.Sub(r.at).Seconds()*roomGrows)
	}
	r.at = now
	if r.used+float64(octets) > roomMost {
		return false
	}
	r.used += float64(octets)
	return true
}

// drop makes nothing come by the session's associations any more.
func (l *link) drop() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, p := range l.pairs {
		l.server.inbound.remove(p.opener.SPI, nil)
	}
}

// worn tells how far the association that is sent and received with is used up by what has gone by it.
func (l *link) worn() (spi uint32, wear esp.Wear) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.pairs) == 0 {
		return 0, esp.Fresh
	}
	p := l.pairs[len(l.pairs)-1]
	return p.opener.SPI, p.wear()
}

// wear tells how far the keys of that direction are used up that has been used more.
func (p pair) wear() esp.Wear { return max(p.most.Wear(p.sealer.Used()), p.most.Wear(p.opener.Used())) }
