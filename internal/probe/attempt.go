package probe

import (
	"bufio"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/miekg/dns"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/underlay"
	"yellowlantern/internal/userstack"
)

// Seen is what one attempt saw.
type Seen struct {
	Reached bool `json:"reached" doc:"Something answered: for what must not be reached that is enough to be a breach."`
	Served  bool `json:"served" doc:"The service itself answered."`
	Refused bool `json:"refused,omitempty" doc:"A router, the gateway perhaps, said that it refuses the packet."`
	reason.Reason
	Words string `json:"words" doc:"The code and its parameters, in words."`
}

// saw says what was seen, with nothing reached.
func saw(code reason.Code, with reason.With) Seen {
	why := reason.Of(code, with)
	return Seen{Reason: why, Words: why.Words()}
}

// reached says that something answered, served that the service itself did.
func (s Seen) reached() Seen { s.Reached = true; return s }
func (s Seen) served() Seen  { s.Reached, s.Served = true, true; return s }

// with is the same with more parameters.
func (s Seen) with(more reason.With) Seen {
	s.Reason = s.Reason.And(more)
	s.Words = s.Reason.Words()
	return s
}

// path is the way that attempts take: the tunnel, or the network before connecting.
type path interface {
	DialTCP(ctx context.Context, to netip.AddrPort) (net.Conn, error)
	DialUDP(to netip.AddrPort) (net.Conn, error)
	Ping(ctx context.Context, dst netip.Addr) (time.Duration, error)
	Said(dst netip.Addr, port uint16) userstack.Said
}

// tunnelPath sends into the tunnel, whatever the routes say: a person controls their device.
type tunnelPath struct{ t *Tunnel }

func (p tunnelPath) DialTCP(ctx context.Context, to netip.AddrPort) (net.Conn, error) {
	return p.t.Stack.DialTCP(ctx, to)
}
func (p tunnelPath) DialUDP(to netip.AddrPort) (net.Conn, error)   { return p.t.Stack.DialUDP(to) }
func (p tunnelPath) Said(d netip.Addr, port uint16) userstack.Said { return p.t.Stack.Said(d, port) }

func (p tunnelPath) Ping(ctx context.Context, dst netip.Addr) (time.Duration, error) {
	return p.t.Stack.Ping(ctx, dst, p.t.Send)
}

// foreign is what a name server is asked where no domain is known that should be its own: it may refuse that, and the trial says so.
const foreign = "name-server-trial.invalid"

// attempt tries one service at one address. A name server is asked about one of the domains, which should be its own.
func attempt(ctx context.Context, p path, dst netip.Addr, service netset.Point, domains []string) Seen {
	begun := time.Now()
	after := func() string { return milliseconds(time.Since(begun)) }
	switch service.Proto() {
	case netset.ICMP, netset.ICMPv6:
		took, err := p.Ping(ctx, dst)
		switch {
		case err == nil:
			return saw(reason.PingAnswered, reason.With{reason.Took: milliseconds(took)}).served()
		case errors.Is(err, underlay.ErrCannotPing):
			return saw(reason.CannotPing, nil)
		}
		return silence(p, dst, 0)
	case netset.TCP:
		to := netip.AddrPortFrom(dst, service.Port())
		c, err := p.DialTCP(ctx, to)
		switch {
		case err == nil:
			defer c.Close()
			return converse(c, to, time.Since(begun))
		case errors.Is(err, syscall.ECONNREFUSED):
			return saw(reason.PortClosed, nil).reached()
		}
		return silence(p, dst, service.Port())
	case netset.UDP:
		return attemptUDP(ctx, p, netip.AddrPortFrom(dst, service.Port()), append(slices.Clone(domains), foreign)[0], after)
	}
	return saw(reason.NotSpoken, reason.With{reason.Service: service.String()})
}

func milliseconds(d time.Duration) string {
	return fmt.Sprintf("%.1f ms", float64(d.Microseconds())/1000)
}

func silence(p path, dst netip.Addr, port uint16) Seen {
	said := p.Said(dst, port)
	if said.None() {
		return saw(reason.NoAnswer, nil)
	}
	seen := saw(reason.RouterSaid, reason.With{reason.Said: said.Words(), reason.By: said.By.String()})
	seen.Refused = said.Among(reason.SaidProhibited, reason.SaidNoRoute)
	return seen
}

func attemptUDP(ctx context.Context, p path, to netip.AddrPort, name string, after func() string) Seen {
	if to.Port() == 53 {
		r, err := underlay.Ask(ctx, p.DialUDP, to.Addr(), name, dns.TypeA)
		if err != nil {
			return silence(p, to.Addr(), 53)
		}
		if r.Rcode == dns.RcodeRefused {
			return saw(reason.NameServerNo, nil).reached()
		}
		return saw(reason.NameServed, reason.With{reason.Took: after()}).served()
	}
	c, err := p.DialUDP(to)
	if err != nil {
		return saw(reason.CannotSend, reason.With{reason.Error: err.Error()})
	}
	defer c.Close()
	buf := make([]byte, 2048)
	for ctx.Err() == nil {
		_, _ = c.Write([]byte("yellow lantern probe"))
		_ = c.SetReadDeadline(time.Now().Add(400 * time.Millisecond))
		if _, err := c.Read(buf); err == nil {
			return saw(reason.Answered, reason.With{reason.Took: after()}).served()
		}
		if p.Said(to.Addr(), to.Port()).Among(reason.SaidPortClosed) {
			return saw(reason.PortClosed, nil).reached()
		}
	}
	return silence(p, to.Addr(), to.Port())
}

// converse speaks with what answered on a port for web pages, by TLS on 443: a connection that opens and carries no answer serves
// nobody. What it gives is the page's first line: by it one sees who answered, and, from a mirror, the address that it saw.
func converse(c net.Conn, to netip.AddrPort, opened time.Duration) Seen {
	with := reason.With{reason.Took: milliseconds(opened)}
	patience := max(talkTime, 4*opened) // a path that is slow to open is slow to answer
	switch to.Port() {
	case 443:
		secure := tls.Client(c, &tls.Config{InsecureSkipVerify: true}) // who answers is told, not trusted
		_ = c.SetDeadline(time.Now().Add(patience))
		if err := secure.Handshake(); err != nil {
			return unanswered(with, "a TLS handshake", err)
		}
		if leaf := secure.ConnectionState().PeerCertificates; len(leaf) > 0 {
			with[reason.TLS] = bounded(strings.Join(leaf[0].DNSNames, ", "))
		}
		c = secure
	case 80:
	default:
		return saw(reason.Connected, with).served()
	}
	_ = c.SetDeadline(time.Now().Add(patience))
	req, err := http.NewRequest(http.MethodGet, "http://"+to.String()+"/", nil)
	if err == nil {
		err = req.Write(c)
	}
	if err != nil {
		return unanswered(with, "a request", err)
	}
	resp, err := http.ReadResponse(bufio.NewReader(c), req)
	if err != nil {
		return unanswered(with, "a request", err)
	}
	defer resp.Body.Close()
	line, _ := bufio.NewReader(resp.Body).ReadString('\n')
	with[reason.Page] = bounded(strings.TrimSpace(line))
	return saw(reason.PageServed, with).served()
}

// bounded makes what another side sent fit to be told: short, and with nothing in it that acts on a terminal.
func bounded(text string) string {
	quoted := fmt.Sprintf("%.80q", strings.ToValidUTF8(text, "?"))
	return quoted[1 : len(quoted)-1]
}

const talkTime = 1500 * time.Millisecond

// unanswered is what was seen where a connection opened and the other side did not speak as expected. Silence means that larger packets
// do not get through; another answer is another service, which serves whoever knows it.
func unanswered(with reason.With, what string, err error) Seen {
	with[reason.What] = what
	var late net.Error
	if errors.As(err, &late) && late.Timeout() {
		return saw(reason.Hangs, with).reached()
	}
	return saw(reason.NotAsTheWeb, with).served()
}
