// Package nameupdate keeps a public name at the addresses that a gateway has at the moment, by DNS UPDATE (RFC 2136) signed with
// TSIG (RFC 8945), or by an HTTP call that the plan describes. When it is done, and where secrets are kept, is left to its caller.
package nameupdate

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"time"

	"yellowlantern/internal/core/fold"

	"github.com/miekg/dns"
)

const (
	askTime   = 4 * time.Second // for one question or update
	clockSkew = 300             // seconds that both clocks may differ by (RFC 8945 §10)
)

// Order says which name is kept up to date, and where.
type Order struct {
	Server    string // the zone's primary: address or name, and port
	Zone      string
	Name      string // the name that people dial
	Key       string // name of the TSIG key
	Secret    string // base64
	Algorithm string // hmac-sha256, hmac-sha384 or hmac-sha512
	TTL       time.Duration
}

// ErrRefused says that the server did not accept an update: key, secret or permission is wrong.
var ErrRefused = errors.New("the update is refused")

// Published asks the server for the addresses that the name has there, sorted.
func (o Order) Published(ctx context.Context) ([]netip.Addr, error) {
	out := []netip.Addr{}
	for _, kind := range []uint16{dns.TypeA, dns.TypeAAAA} {
		m := new(dns.Msg)
		m.SetQuestion(dns.Fqdn(o.Name), kind)
		m.RecursionDesired = false
		answer, err := o.exchange(ctx, &dns.Client{Timeout: askTime}, m)
		if err != nil {
			return nil, err
		}
		switch answer.Rcode {
		case dns.RcodeSuccess, dns.RcodeNameError:
		default:
			return nil, fmt.Errorf("the name server %s answers %s to a question for %s", o.Server, dns.RcodeToString[answer.Rcode], o.Name)
		}
		for _, rr := range answer.Answer {
			switch rr := rr.(type) {
			case *dns.A:
				out = append(out, addr(rr.A))
			case *dns.AAAA:
				out = append(out, addr(rr.AAAA))
			}
		}
	}
	slices.SortFunc(out, netip.Addr.Compare)
	return out, nil
}

func addr(ip net.IP) netip.Addr {
	a, _ := netip.AddrFromSlice(ip)
	return fold.Addr(a)
}

// Replace makes these the only addresses of the name, all or nothing (RFC 2136 §3.4): the server applies an update as a whole.
func (o Order) Replace(ctx context.Context, addrs []netip.Addr) error {
	name := dns.Fqdn(o.Name)
	m := new(dns.Msg)
	m.SetUpdate(dns.Fqdn(o.Zone))
	m.RemoveRRset([]dns.RR{
		&dns.A{Hdr: dns.RR_Header{Name: name, Rrtype: dns.TypeA}},
		&dns.AAAA{Hdr: dns.RR_Header{Name: name, Rrtype: dns.TypeAAAA}},
	})
	for _, a := range addrs {
		h := dns.RR_Header{Name: name, Class: dns.ClassINET, Ttl: uint32(o.TTL / time.Second)}
		if a.Is4() {
			h.Rrtype = dns.TypeA
			m.Insert([]dns.RR{&dns.A{Hdr: h, A: a.AsSlice()}})
		} else {
			h.Rrtype = dns.TypeAAAA
			m.Insert([]dns.RR{&dns.AAAA{Hdr: h, AAAA: a.AsSlice()}})
		}
	}
	key := dns.CanonicalName(o.Key)
	m.SetTsig(key, dns.Fqdn(cmp.Or(o.Algorithm, "hmac-sha256")), clockSkew, time.Now().Unix())
	// TCP, because an update with its signature may be larger than a datagram (RFC 2136 §6).
	answer, err := o.exchange(ctx, &dns.Client{Net: "tcp", Timeout: askTime, TsigSecret: map[string]string{key: o.Secret}}, m)
	switch {
	case err != nil && answer != nil && answer.Rcode != dns.RcodeSuccess:
		return fmt.Errorf("%w: it answers %s; check the key's name, its secret and what it may change", ErrRefused,
			dns.RcodeToString[answer.Rcode])
	case err != nil:
		return err
	case answer.IsTsig() == nil: // anybody can have sent it (RFC 8945 §5.3)
		return fmt.Errorf("%w: its answer is not signed by the key, so nobody knows whether the name was changed; check that the key belongs to this server", ErrRefused)
	case answer.Rcode != dns.RcodeSuccess:
		return fmt.Errorf("%w: it answers %s; check the key's name, its secret and what it may change", ErrRefused,
			dns.RcodeToString[answer.Rcode])
	}
	return nil
}

func (o Order) exchange(ctx context.Context, c *dns.Client, m *dns.Msg) (*dns.Msg, error) {
	ctx, cancel := context.WithTimeout(ctx, askTime)
	defer cancel()
	answer, _, err := c.ExchangeContext(ctx, m, o.Server)
	if err != nil {
		return answer, fmt.Errorf("the name server %s: %w", o.Server, err)
	}
	return answer, nil
}

// Outside is the public addresses of this machine from which it would speak to a server, host and port: it is sent no packet to find out.
func Outside(server string) ([]netip.Addr, error) {
	out := []netip.Addr{}
	for _, network := range []string{"udp4", "udp6"} {
		c, err := net.Dial(network, server)
		if err != nil {
			continue // no way by this family
		}
		a := fold.Addr(c.LocalAddr().(*net.UDPAddr).AddrPort().Addr()).WithZone("")
		_ = c.Close()
		if a.IsGlobalUnicast() && !a.IsPrivate() && !netip.MustParsePrefix("100.64.0.0/10").Contains(a) {
			out = append(out, a)
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("this machine has no public address towards %s: behind another router, let that router update the name", server)
	}
	slices.SortFunc(out, netip.Addr.Compare)
	return out, nil
}
