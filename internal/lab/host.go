package lab

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"github.com/miekg/dns"

	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/packet"
	"yellowlantern/internal/userstack"
)

// machine is an inside host (or one on the internet) with its services.
type machine struct {
	h     Host
	link  *segment
	stack *userstack.Stack
}

func (m *machine) receive(b []byte) {
	if info, err := packet.Parse(b); err != nil || info.EchoRequest() && !m.h.Ping {
		return
	}
	m.stack.Inject(b)
}

// out sends what the host sends: to neighbours directly, else to its router.
func (m *machine) out(b []byte) {
	info, err := packet.Parse(b)
	if err != nil {
		return
	}
	if m.link.holds(info.Dst) {
		m.link.send(info.Dst, b)
		return
	}
	for _, r := range m.h.Router {
		if r.Is4() == info.Dst.Is4() {
			m.link.send(r, b)
			return
		}
	}
}

func (l *Lab) startHost(h Host, link *segment) error {
	m := &machine{h: h, link: link}
	var err error
	if m.stack, err = userstack.New(h.Addresses, 1500, m.out); err != nil {
		return err
	}
	l.closers = append(l.closers, m.stack.Close)
	l.hosts[h.Name] = m
	link.plug(l.serve(m), h.Addresses...)
	for _, a := range h.Addresses {
		for _, port := range h.Web {
			err = firstError(err, l.serveHTTP(m, netip.AddrPortFrom(a, port), func(w http.ResponseWriter, r *http.Request) {
				fmt.Fprintf(w, "This is %s of %s.\n", h.Name, l.d.Called())
			}))
		}
		for _, port := range h.Mirror {
			err = firstError(err, l.serveHTTP(m, netip.AddrPortFrom(a, port), func(w http.ResponseWriter, r *http.Request) {
				fmt.Fprintf(w, "You come from %s.\n", r.RemoteAddr)
			}))
		}
		for _, port := range h.TCP {
			err = firstError(err, l.serveTCP(m, netip.AddrPortFrom(a, port)))
		}
		for _, port := range h.UDP {
			err = firstError(err, l.serveUDP(m, netip.AddrPortFrom(a, port)))
		}
		if h.DNS {
			err = firstError(err, l.serveDNS(m, a, l.d.Names))
		}
		if h.PublicDNS {
			err = firstError(err, l.serveDNS(m, a, l.d.PublicNames))
		}
	}
	return err
}

// Open connects from a host of the lab, as somebody who sits at it would.
func (l *Lab) Open(ctx context.Context, host string, to netip.AddrPort) (net.Conn, error) {
	m := l.hosts[host]
	if m == nil {
		return nil, fmt.Errorf("the site has no host %q", host)
	}
	return m.stack.DialTCP(ctx, to)
}

// Ping asks from a host of the lab.
func (l *Lab) Ping(ctx context.Context, host string, to netip.Addr) (time.Duration, error) {
	m := l.hosts[host]
	if m == nil {
		return 0, fmt.Errorf("the site has no host %q", host)
	}
	return m.stack.Ping(ctx, to, m.out)
}

func firstError(a, b error) error {
	if a != nil {
		return a
	}
	return b
}

func (l *Lab) serveHTTP(m *machine, on netip.AddrPort, page http.HandlerFunc) error {
	ln, err := m.stack.ListenTCP(on)
	if err != nil {
		return err
	}
	if on.Port() == 443 {
		ca, err := cert.NewAuthority(rand.Reader, time.Now(), l.d.Called()+" inside")
		if err != nil {
			return err
		}
		pair, err := ca.NewGateway(rand.Reader, time.Now(), l.d.namesOf(m.h)...)
		if err != nil {
			return err
		}
		ln = tls.NewListener(ln, &tls.Config{Certificates: []tls.Certificate{{Certificate: [][]byte{pair.DER}, PrivateKey: pair.Key}}})
	}
	srv := &http.Server{Handler: page, ReadHeaderTimeout: 10 * time.Second, ErrorLog: log.New(io.Discard, "", 0)}
	l.closers = append(l.closers, func() { _ = srv.Close() })
	l.wait.Go("lab.serveHTTP", func() { _ = srv.Serve(ln) })
	return nil
}

func (l *Lab) serveTCP(m *machine, on netip.AddrPort) error {
	ln, err := m.stack.ListenTCP(on)
	if err != nil {
		return err
	}
	l.closers = append(l.closers, func() { _ = ln.Close() })
	l.wait.Go("lab.serveTCP", func() {
		for {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			fmt.Fprintf(c, "%s port %d\n", m.h.Name, on.Port())
			_ = c.Close()
		}
	})
	return nil
}

func (l *Lab) serveUDP(m *machine, on netip.AddrPort) error {
	c, err := m.stack.ListenUDP(on)
	if err != nil {
		return err
	}
	l.closers = append(l.closers, func() { _ = c.Close() })
	l.wait.Go("lab.serveUDP", func() {
		buf := make([]byte, 2048)
		for {
			n, from, err := c.ReadFrom(buf)
			if err != nil {
				return
			}
			_, _ = c.WriteTo(buf[:n], from)
		}
	})
	return nil
}

// serveDNS answers for a list of names; all else does not exist.
func (l *Lab) serveDNS(m *machine, on netip.Addr, names map[string][]netip.Addr) error {
	handler := dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) {
		r := new(dns.Msg)
		r.SetReply(q)
		r.Authoritative = true
		for _, question := range q.Question {
			addrs, known := names[strings.ToLower(strings.TrimSuffix(question.Name, "."))]
			if !known {
				r.Rcode = dns.RcodeNameError
			}
			for _, a := range addrs {
				head := dns.RR_Header{Name: question.Name, Class: dns.ClassINET, Ttl: 60}
				switch {
				case a.Is4() && question.Qtype == dns.TypeA:
					head.Rrtype = dns.TypeA
					r.Answer = append(r.Answer, &dns.A{Hdr: head, A: net.IP(a.AsSlice())})
				case a.Is6() && question.Qtype == dns.TypeAAAA:
					head.Rrtype = dns.TypeAAAA
					r.Answer = append(r.Answer, &dns.AAAA{Hdr: head, AAAA: net.IP(a.AsSlice())})
				}
			}
		}
		_ = w.WriteMsg(r)
	})
	pc, err := m.stack.ListenUDP(netip.AddrPortFrom(on, 53))
	if err != nil {
		return err
	}
	ln, err := m.stack.ListenTCP(netip.AddrPortFrom(on, 53))
	if err != nil {
		return err
	}
	l.closers = append(l.closers, func() { _ = pc.Close(); _ = ln.Close() })
	l.wait.Go("lab.serveDNS", func() { l.answerUDP(pc, handler) })
	l.wait.Go("lab.serveDNS", func() { _ = (&dns.Server{Listener: ln, Handler: handler}).ActivateAndServe() })
	return nil
}

// answerUDP serves DNS on a packet connection of the user-space stack (the library's own server wants a kernel socket).
func (l *Lab) answerUDP(pc net.PacketConn, h dns.Handler) {
	buf := make([]byte, 4096)
	for {
		n, from, err := pc.ReadFrom(buf)
		if err != nil {
			return
		}
		q := new(dns.Msg)
		if q.Unpack(buf[:n]) == nil {
			h.ServeDNS(&udpWriter{pc: pc, to: from}, q)
		}
	}
}

type udpWriter struct {
	dns.ResponseWriter
	pc net.PacketConn
	to net.Addr
}

func (w *udpWriter) WriteMsg(m *dns.Msg) error {
	b, err := m.Pack()
	if err == nil {
		_, err = w.pc.WriteTo(b, w.to)
	}
	return err
}
