// Package cleartunnel is a kind of tunnel for tests: packets in clear between two loopback sockets. It shows what a kind has to bring, and
// that nothing outside a kind's package knows one. It protects nothing, and does not ship.
//
// Every datagram is one octet that says what it is, and the rest: a step of the login, what was given, a packet, the end, a refusal.
package cleartunnel

import (
	"encoding/json"
	"net"
	"net/netip"
	"reflect"
	"sync"
	"time"

	"yellowlantern/internal/core/check"
	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/segment"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/core/tunnel"
	"yellowlantern/internal/tunnel/kinds"
)

// Name is what plans call it.
const Name = "clear"

const (
	isLogin byte = iota + 1
	isGiven
	isPacket
	isEnd
	isRefused
)

// Kind serves and dials.
type Kind struct {
	mu sync.Mutex
	at netip.AddrPort // where the server that was started last listens
}

// Register makes the kind known.
func Register() {
	k := &Kind{}
	kinds.Register(kinds.Kind{
		Kind: plan.Kind{Name: Name, Options: reflect.TypeFor[Options]()}, Find: find, Dialer: k, Server: k,
	})
}

// Options are what a plan may say of such a tunnel beside what it says of every one.
type Options struct {
	Largest int `json:"largest,omitempty" eg:"1200" doc:"Largest packet that is taken, in octets; any if not given." then:"What is larger is lost."`
}

// find finds what cannot work of them.
func find(o *check.OfTunnel) {
	if own := o.Tunnel.Own.(*Options); own.Largest != 0 && own.Largest < 68 {
		o.Add(check.Stop, "clear-largest", "largest", "use 1200", "%d octets are less than every IPv4 device must take", own.Largest)
		o.Mend("set", "largest", "1200")
	}
}

// Name is what plans call it.
func (k *Kind) Name() string { return Name }

// last is the server that was started last.
var last *server

type server struct {
	host tunnel.Host
	conn *net.UDPConn
	done sync.WaitGroup

	mu    sync.Mutex
	way   string // the tunnel; empty: nobody is answered
	most  int    // octets of a packet; 0: any
	links map[netip.AddrPort]*link
}

// link is one device: its login, then its session.
type link struct {
	s       *server
	from    netip.AddrPort
	talk    login.Conversation
	session *session.Session
}

func (l *link) Send(p inside.Packet) { l.s.send(l.from, isPacket, p.Bytes()) }

// SendAll implements session.Path.
func (l *link) SendAll(ps []inside.Packet) {
	for _, p := range ps {
		segment.Each(p, l.Send)
	}
}
func (l *link) Where() session.Where { return session.Where{Addr: l.from, Over: session.OverUDP} }
func (l *link) Missing() uint64      { return 0 }

// Serve begins to serve.
func (k *Kind) Serve(h tunnel.Host) tunnel.Server {
	conn, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	if err != nil {
		panic(err)
	}
	s := &server{host: h, conn: conn, links: map[netip.AddrPort]*link{}}
	last = s
	k.mu.Lock()
	k.at = conn.LocalAddr().(*net.UDPAddr).AddrPort()
	k.mu.Unlock()
	s.done.Go(s.read)
	return s
}

func (s *server) send(to netip.AddrPort, what byte, b []byte) {
	_, _ = s.conn.WriteToUDPAddrPort(append([]byte{what}, b...), to)
}

func (s *server) read() {
	buf := make([]byte, 4096)
	for {
		n, from, err := s.conn.ReadFromUDPAddrPort(buf)
		if err != nil {
			return
		}
		if n > 0 {
			s.handle(from, buf[0], append([]byte{}, buf[1:n]...))
		}
	}
}

func (s *server) handle(from netip.AddrPort, what byte, b []byte) {
	s.mu.Lock()
	way, most, l := s.way, s.most, s.links[from]
	if l == nil && what == isLogin && way != "" {
		l = &link{s: s, from: from, talk: s.host.Begin(login.Call{From: from.Addr(), Server: way, Tunnel: way})}
		s.links[from], b = l, nil
	}
	s.mu.Unlock()
	switch {
	case l == nil:
	case what == isLogin && l.session == nil:
		s.step(l, way, b)
	case what == isPacket && most > 0 && len(b) > most:
	case what == isPacket && l.session != nil:
		s.host.Arrived([]tunnel.Run{{Session: l.session, Packets: []inside.Packet{inside.Bare(b)}}})
	case what == isEnd && l.session != nil:
		s.drop(l, reason.Of(reason.PeerEnded, reason.With{reason.Peer: "the device"}))
	}
}

func (s *server) step(l *link, way string, b []byte) {
	step := l.talk.Next(b)
	if step.Send != nil {
		s.send(l.from, isLogin, step.Send)
	}
	if !step.Over {
		return
	}
	if !step.OK {
		s.refuse(l, step.User, step.Known, step.Why)
		return
	}
	x, grant := s.host.Admit(tunnel.Request{
		User: step.User, Groups: step.Groups, Limits: step.Limits, Tunnel: way,
		Algorithms: "none", From: l.from,
	})
	if x == nil {
		s.refuse(l, step.User, true, grant.Refusal)
		return
	}
	s.mu.Lock()
	l.session = x
	s.mu.Unlock()
	if !s.host.Up(x, l, grant.Addresses) {
		return
	}
	given, err := json.Marshal(grant.Configuration)
	if err != nil {
		panic(err)
	}
	s.send(l.from, isGiven, given)
}

func (s *server) refuse(l *link, user string, known bool, why reason.Reason) {
	s.mu.Lock()
	delete(s.links, l.from)
	s.mu.Unlock()
	s.host.Refused(tunnel.Refusal{From: l.from, User: user, Known: known, Reason: why})
	s.send(l.from, isRefused, nil)
}

func (s *server) drop(l *link, why reason.Reason) {
	s.mu.Lock()
	delete(s.links, l.from)
	s.mu.Unlock()
	s.host.Down(l.session, why)
}

// Prepare takes the first of the ways.
func (s *server) Prepare(ways []tunnel.Way) (tunnel.Change, error) {
	c := change{s: s}
	if len(ways) > 0 {
		c.way, c.most = ways[0].Name, ways[0].Own.(*Options).Largest
	}
	return c, nil
}

type change struct {
	s    *server
	way  string
	most int
}

func (c change) Use() error {
	c.s.mu.Lock()
	defer c.s.mu.Unlock()
	c.s.way, c.s.most = c.way, c.most
	return nil
}
func (c change) Discard() {}

func (s *server) End(x *session.Session, why reason.Reason) {
	s.mu.Lock()
	var found *link
	for _, l := range s.links {
		if l.session == x {
			found = l
		}
	}
	s.mu.Unlock()
	if found != nil {
		s.drop(found, why)
		s.send(found.from, isEnd, nil)
	}
}

func (s *server) Tick(time.Time)              {}
func (s *server) Counters() map[string]uint64 { return nil }
func (s *server) Techniques() []string        { return nil }
func (s *server) LoggingIn() int              { return 0 }

func (s *server) Stop() {
	_ = s.conn.Close()
	s.done.Wait()
}
