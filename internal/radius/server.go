package radius

import (
	"errors"
	"net"
	"net/netip"
	"sync"
	"time"

	wire "layeh.com/radius"
	"layeh.com/radius/rfc2869"

	"yellowlantern/internal/core/fold"
	"yellowlantern/internal/guard"
)

// Bounds of what is answered.
const (
	keptAnswers  = 10 * time.Second // for requests that come again (RFC 5080 §2.2.2)
	mostAtATime  = 256              // requests that are judged
	mostRemember = 1 << 14
	cleanedEvery = time.Second
	readPause    = 5 * time.Millisecond // after an error
)

// Client is who asks.
type Client struct {
	Name   string
	Secret []byte
}

// Reply is what a request is answered; Code 0: with nothing, so that another server is asked.
type Reply struct {
	Code wire.Code
	Fill func(p *Packet) error // adds what is told
}

// Server answers requests about people. Its fields are set before it serves.
type Server struct {
	// Who finds who asks from an address; false: nobody does.
	Who func(from netip.Addr) (Client, bool)
	// Judge judges a request, which may take long.
	Judge func(c Client, p *Packet, from netip.Addr) Reply
	// Ignored is told of what counts for nothing, and why: ErrStranger, of whom no client is known, ErrForged, ErrUnsigned, ErrTooMany, or
	// that it is malformed.
	Ignored func(from netip.AddrPort, c Client, why error)

	mu      sync.Mutex
	asked   map[requestKey]*askedOnce
	cleaned time.Time
	under   chan struct{}
	done    guard.Group
}

// Why a request counts for nothing, before it is judged.
var (
	ErrStranger = errors.New("no equipment of the plan asks from there")
	ErrTooMany  = errors.New("too many are judged at a time")
)

type requestKey struct {
	from          netip.AddrPort
	id            byte
	authenticator [16]byte
}

type askedOnce struct {
	answer []byte // nil: it is being judged, or is answered nothing
	until  time.Time
}

// Serve answers until the socket is closed, and returns once all is judged.
func (s *Server) Serve(conn *net.UDPConn) {
	s.asked, s.under = map[requestKey]*askedOnce{}, make(chan struct{}, mostAtATime)
	defer s.done.Wait()
	buf := make([]byte, wire.MaxPacketLength+1)
	for {
		n, from, err := conn.ReadFromUDPAddrPort(buf)
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil { // such as what a router says of an answer
			time.Sleep(readPause)
			continue
		}
		from = fold.AddrPort(from)
		c, known := s.Who(from.Addr())
		if !known {
			s.Ignored(from, c, ErrStranger)
			continue
		}
		b := append([]byte(nil), buf[:n]...)
		p, err := DecodeAsked(b, c.Secret)
		if err != nil {
			s.Ignored(from, c, err)
			continue
		}
		k := requestKey{from, p.Identifier, p.Authenticator}
		once, again := s.once(k, time.Now())
		if again {
			if once != nil {
				_, _ = conn.WriteToUDPAddrPort(once, from)
			}
			continue
		}
		select {
		case s.under <- struct{}{}:
		default:
			s.Ignored(from, c, ErrTooMany)
			s.forget(k)
			continue
		}
		s.done.Go("radius.judge", func() {
			defer func() { <-s.under }()
			if answer := s.answer(c, p, from.Addr()); answer != nil {
				s.keep(k, answer)
				_, _ = conn.WriteToUDPAddrPort(answer, from)
			}
		})
	}
}

// once tells whether a request came before, and what it was answered.
func (s *Server) once(k requestKey, now time.Time) (answer []byte, again bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if now.Sub(s.cleaned) > cleanedEvery {
		s.cleaned = now
		for old, a := range s.asked {
			if now.After(a.until) {
				delete(s.asked, old)
			}
		}
	}
	if had := s.asked[k]; had != nil {
		return had.answer, true
	}
	if len(s.asked) < mostRemember {
		s.asked[k] = &askedOnce{until: now.Add(keptAnswers)}
	}
	return nil, false
}

func (s *Server) keep(k requestKey, answer []byte) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if had := s.asked[k]; had != nil {
		had.answer, had.until = answer, time.Now().Add(keptAnswers)
	}
}

func (s *Server) forget(k requestKey) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.asked, k)
}

func (s *Server) answer(c Client, p *Packet, from netip.Addr) []byte {
	reply := Reply{Code: wire.CodeAccessAccept}
	if p.Code != wire.CodeStatusServer { // which asks whether it is there (RFC 5997)
		reply = s.Judge(c, p, from)
	}
	if reply.Code == 0 {
		return nil
	}
	a, err := answerTo(p, reply.Code, reply.Fill)
	if err != nil {
		return nil
	}
	b, err := encode(a)
	if err != nil {
		return nil
	}
	return b
}

// DecodeAsked reads a request about somebody, or whether a server is there. It must have a Message-Authenticator that is right: without one
// anybody could have sent it in a client's name.
func DecodeAsked(b, secret []byte) (*Packet, error) {
	b, p, err := read(b, secret)
	switch {
	case err != nil:
		return nil, err
	case p.Code != wire.CodeAccessRequest && p.Code != wire.CodeStatusServer:
		return nil, errOther(p.Code)
	case !given(p):
		return nil, ErrUnsigned
	case !authentic(b, b[4:shortest], secret):
		return nil, ErrForged
	}
	return p, nil
}

func given(p *Packet) bool {
	_, ok := p.Lookup(rfc2869.MessageAuthenticator_Type)
	return ok
}
