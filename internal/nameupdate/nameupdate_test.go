package nameupdate

import (
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"yellowlantern/internal/testkit/nameserver"
)

// A name follows the address at a real name server; whoever has not the key, or the right, changes nothing.
func TestAgainstARealNameServer(t *testing.T) {
	server := nameserver.Start(t)
	addrs := func(words ...string) (out []netip.Addr) {
		for _, w := range words {
			out = append(out, netip.MustParseAddr(w))
		}
		return out
	}
	o := Order{
		Server: server, Zone: "tern.example", Name: "gate.tern.example", Key: "jetty-update", Secret: nameserver.Secret,
		TTL: time.Minute,
	}
	now := func() []netip.Addr {
		got, err := o.Published(t.Context())
		require.NoError(t, err)
		return got
	}
	require.Equal(t, addrs("192.0.2.99"), now())
	require.NoError(t, o.Replace(t.Context(), addrs("192.0.2.10", "2001:db8:10::10")))
	require.Equal(t, addrs("192.0.2.10", "2001:db8:10::10"), now(), "the older address is gone")
	require.NoError(t, o.Replace(t.Context(), addrs("192.0.2.11")))
	require.Equal(t, addrs("192.0.2.11"), now())
	m := new(dns.Msg)
	m.SetQuestion("gate.tern.example.", dns.TypeTXT)
	answer, err := dns.Exchange(m, server)
	require.NoError(t, err)
	require.Len(t, answer.Answer, 1, "other records of the name stay")
	m.SetQuestion("gate.tern.example.", dns.TypeA)
	answer, err = dns.Exchange(m, server)
	require.NoError(t, err)
	require.EqualValues(t, 60, answer.Answer[0].Header().Ttl)

	for name, change := range map[string]func(*Order){
		"wrong secret":     func(o *Order) { o.Secret = "d3Jvbmcgd3Jvbmcgd3Jvbmcgd3Jvbmcgd3Jvbmcgd3I=" },
		"unknown key":      func(o *Order) { o.Key = "stranger" },
		"key may not":      func(o *Order) { o.Key = "reader" },
		"another name":     func(o *Order) { o.Name = "names.tern.example" },
		"another zone":     func(o *Order) { o.Zone = "skua.example" },
		"other algorithm":  func(o *Order) { o.Algorithm = "hmac-sha512" },
		"no server at all": func(o *Order) { o.Server = "127.0.0.1:1" },
	} {
		bad := o
		change(&bad)
		err := bad.Replace(t.Context(), addrs("203.0.113.66"))
		require.Error(t, err, name)
		require.NotContains(t, err.Error(), bad.Secret, name)
		if name != "no server at all" {
			require.ErrorIs(t, err, ErrRefused, name)
		}
		require.Equal(t, addrs("192.0.2.11"), now(), name)
	}
}

func TestOutside(t *testing.T) {
	_, err := Outside("127.0.0.1:53")
	require.ErrorContains(t, err, "no public address")
}

// An answer without the key's signature is anybody's: it is no success, whatever it says.
func TestUnsignedAnswer(t *testing.T) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	server := &dns.Server{Listener: ln, Handler: dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) {
		_ = w.WriteMsg(new(dns.Msg).SetReply(q))
	}), TsigSecret: map[string]string{"key.": "c2VjcmV0"}}
	go func() { _ = server.ActivateAndServe() }()
	t.Cleanup(func() { _ = server.Shutdown() })
	o := Order{
		Server: ln.Addr().String(), Zone: "tern.example", Name: "gate.tern.example", Key: "key", Secret: "c2VjcmV0",
		TTL: time.Minute,
	}
	err = o.Replace(t.Context(), []netip.Addr{netip.MustParseAddr("192.0.2.10")})
	require.ErrorIs(t, err, ErrRefused)
	require.ErrorContains(t, err, "not signed")
}
