package ikev2

import (
	"crypto/x509"
	"fmt"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/algorithm"
	"yellowlantern/internal/dial"
	"yellowlantern/internal/underlay"
)

// A device is sent on to another gateway, and says at which one it is; two that send to each other serve it at the second, also where
// nobody can judge its login there at first.
func TestSentOn(t *testing.T) {
	first := must(Listen("127.0.0.1:0", "127.0.0.1:0", How{}))
	t.Cleanup(first.Close)
	at := func(p uint16) string { return fmt.Sprintf("127.0.0.2:%d", p) }
	second := must(Listen(at(first.IKE().Port()), at(first.NATT().Port()), How{}))
	t.Cleanup(second.Close)
	a, b := startOn(t, first), startOn(t, second)
	roots := x509.NewCertPool()
	roots.AddCert(authority.Leaf)
	for w, to := range map[*busy]string{a: "127.0.0.2", b: "127.0.0.1"} {
		w.set.Plan.Tunnels[0].IKEv2().SendTo = to
		must(w.g.Commit(w.set))
	}
	b.people.later.Store(2)
	s, err := Dialer{}.Dial(t.Context(), underlay.Host(), dial.Login{
		Dial: "127.0.0.1", Identity: a.set.Plan.Gateways[0].Dial, User: "user00000", Password: password, Roots: roots,
		Algorithms: algorithm.OfLevel(algorithm.Strict), Ports: map[string]uint16{PortIKE: first.IKE().Port(), PortNATT: first.NATT().Port()},
	}, func([][]byte) {})
	require.NoError(t, err)
	defer s.Close()
	require.Equal(t, netip.MustParseAddr("127.0.0.2"), s.Given().Gateway)
	require.Empty(t, a.g.Sessions())
	require.Len(t, b.g.Sessions(), 1)
	require.Negative(t, b.people.later.Load())
}
