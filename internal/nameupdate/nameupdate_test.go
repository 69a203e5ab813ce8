package nameupdate

import (
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
