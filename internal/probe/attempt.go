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
	"strings"
	"time"

	"github.com/miekg/dns"

	"yellowlantern/internal/core/netset"
)

// Seen is what one attempt saw.
type Seen struct {
	Reached bool   `json:"reached" doc:"Something answered: for what must not be reached that is enough to be a breach."`
	Served  bool   `json:"served" doc:"The service itself answered."`
	Refused bool   `json:"refused,omitempty" doc:"A router, the gateway perhaps, said that it refuses the packet."`
	Words   string `json:"words"`
}

// path is the way that attempts take: the tunnel, or the network before connecting.
type path interface {
	DialTCP(ctx context.Context, to netip.AddrPort) (net.Conn, error)
	DialUDP(to netip.AddrPort) (net.Conn, error)
	Ping(ctx context.Context, dst netip.Addr) (time.Duration, error)
	Said(dst netip.Addr, port uint16) string
}

// tunnelPath sends into the tunnel, whatever the routes say: a person controls their device.
type tunnelPath struct{ t *Tunnel }

func (p tunnelPath) DialTCP(ctx context.Context, to netip.AddrPort) (net.Conn, error) {
	return p.t.Stack.DialTCP(ctx, to)
}
func (p tunnelPath) DialUDP(to netip.AddrPort) (net.Conn, error) { return p.t.Stack.DialUDP(to) }
func (p tunnelPath) Said(d netip.Addr, port uint16) string       { return p.t.Stack.Said(d, port) }
func (p tunnelPath) Ping(ctx context.Context, dst netip.Addr) (time.Duration, error) {
	return p.t.Stack.Ping(ctx, dst, p.t.Send)
}

// attempt tries one service at one address.
func attempt(ctx context.Context, p path, dst netip.Addr, service netset.Point) Seen {
	begun := time.Now()
	after := func() string { return fmt.Sprintf("in %.1f ms", float64(time.Since(begun).Microseconds())/1000) }
	switch service.Proto() {
	case netset.ICMP, netset.ICMPv6:
		took, err := p.Ping(ctx, dst)
		switch {
		case err == nil:
			return Seen{Reached: true, Served: true, Words: fmt.Sprintf("ping answered in %.1f ms", float64(took.Microseconds())/1000)}
		case errors.Is(err, ErrCannotPing):
			return Seen{Words: "not tried: " + err.Error()}
		}
		return silence(p, dst, 0)
	case netset.TCP:
		to := netip.AddrPortFrom(dst, service.Port())
		c, err := p.DialTCP(ctx, to)
		switch {
		case err == nil:
			defer c.Close()
			return converse(c, to, "connected "+after())
		case strings.Contains(err.Error(), "refused"):
			return Seen{Reached: true, Served: false, Words: "the host answers, but the port is closed"}
		}
		return silence(p, dst, service.Port())
	case netset.UDP:
		return attemptUDP(ctx, p, netip.AddrPortFrom(dst, service.Port()), after)
	}
	return Seen{Words: "not tried: the probe does not speak " + service.String()}
}

func silence(p path, dst netip.Addr, port uint16) Seen {
	said := p.Said(dst, port)
	if said == "" {
		return Seen{Words: "no answer"}
	}
	return Seen{Refused: strings.HasPrefix(said, "prohibited") || strings.HasPrefix(said, "no route"), Words: "no answer: " + said}
}

func attemptUDP(ctx context.Context, p path, to netip.AddrPort, after func() string) Seen {
	if to.Port() == 53 {
		r, err := ask(ctx, p.DialUDP, to.Addr(), "name-server-trial.invalid", dns.TypeA)
		if err != nil {
			return silence(p, to.Addr(), 53)
		}
		if r.Rcode == dns.RcodeRefused {
			return Seen{Reached: true, Served: false, Words: "the name server refuses to answer"}
		}
		return Seen{Reached: true, Served: true, Words: "the name server answers " + after()}
	}
	c, err := p.DialUDP(to)
	if err != nil {
		return Seen{Words: err.Error()}
	}
	defer c.Close()
	buf := make([]byte, 2048)
	for ctx.Err() == nil {
		_, _ = c.Write([]byte("yellow lantern probe"))
		_ = c.SetReadDeadline(time.Now().Add(400 * time.Millisecond))
		if _, err := c.Read(buf); err == nil {
			return Seen{Reached: true, Served: true, Words: "answered " + after()}
		}
		if said := p.Said(to.Addr(), to.Port()); strings.HasPrefix(said, "port closed") {
			return Seen{Reached: true, Served: false, Words: "the host answers, but the port is closed"}
		}
	}
	return silence(p, to.Addr(), to.Port())
}

// converse speaks with what answered on a port for web pages, by TLS on 443: a connection that opens and carries no answer serves
// nobody. What it gives is the page's first line: by it one sees who answered, and, from a mirror, the address that it saw.
func converse(c net.Conn, to netip.AddrPort, words string) Seen {
	said := ""
	switch to.Port() {
	case 443:
		secure := tls.Client(c, &tls.Config{InsecureSkipVerify: true}) // who answers is told, not trusted
		_ = c.SetDeadline(time.Now().Add(talkTime))
		if err := secure.Handshake(); err != nil {
			return unanswered(words, "a TLS handshake", err)
		}
		if leaf := secure.ConnectionState().PeerCertificates; len(leaf) > 0 {
			said = fmt.Sprintf(", TLS for %s", strings.Join(leaf[0].DNSNames, ", "))
		}
		c = secure
	case 80:
	default:
		return Seen{Reached: true, Served: true, Words: words}
	}
	_ = c.SetDeadline(time.Now().Add(talkTime))
	req, err := http.NewRequest(http.MethodGet, "http://"+to.String()+"/", nil)
	if err == nil {
		err = req.Write(c)
	}
	if err != nil {
		return unanswered(words+said, "a request", err)
	}
	resp, err := http.ReadResponse(bufio.NewReader(c), req)
	if err != nil {
		return unanswered(words+said, "a request", err)
	}
	defer resp.Body.Close()
	line, _ := bufio.NewReader(resp.Body).ReadString('\n')
	return Seen{Reached: true, Served: true, Words: words + said +
		fmt.Sprintf(": %.80q", strings.TrimSpace(strings.ToValidUTF8(line, "?")))}
}

const talkTime = 1500 * time.Millisecond

// unanswered is what was seen where a connection opened and the other side did not speak as expected. Silence means that larger packets
// do not get through; another answer is another service, which serves whoever knows it.
func unanswered(words, what string, err error) Seen {
	var late net.Error
	if errors.As(err, &late) && late.Timeout() {
		return Seen{Reached: true, Served: false, Words: words + ", but " + what +
			" gets no answer: packets larger than those that open a connection are lost, or the service hangs"}
	}
	return Seen{Reached: true, Served: true, Words: words + ", and does not answer " + what + " as the web does"}
}
