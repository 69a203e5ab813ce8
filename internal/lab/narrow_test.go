package lab_test

import (
	"context"
	"crypto/rand"
	"crypto/x509"
	"log/slog"
	"net/netip"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/eap"
	"yellowlantern/internal/core/ike"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/lab"
	"yellowlantern/internal/probe"
)

type one struct{}

func (one) Judge(_ context.Context, c eap.Check) eap.Verdict {
	return c.Judge(eap.NTHash("tide 4 tern"))
}
func (one) Groups(context.Context, string) ([]string, error) { return []string{"researchers"}, nil }

func TestNarrow(t *testing.T) {
	text, _ := os.ReadFile("../../demo/site.yaml")
	d, err := lab.Read(text)
	require.NoError(t, err)
	l, err := lab.Start(d)
	require.NoError(t, err)
	defer l.Close()
	pt, _ := os.ReadFile("../../demo/plan.yaml")
	doc, err := plan.Read(string(pt))
	require.NoError(t, err)
	ca, _ := cert.NewAuthority(rand.Reader, time.Now(), "Tern")
	pair, _ := ca.NewGateway(rand.Reader, time.Now(), "gate.tern.example")
	socks, err := gateway.Listen("127.0.0.1:0", "127.0.0.1:0")
	require.NoError(t, err)
	g, err := gateway.Start(context.Background(), gateway.Config{Sockets: socks, Inside: l, People: one{}, Log: slog.Default(),
		Journal: func(e gateway.Event) { t.Log(e) }}, gateway.Settings{Plan: &doc.Plan, Gateway: "jetty", Chain: [][]byte{pair.DER}, Key: pair.Key})
	require.NoError(t, err)
	defer socks.Close()
	defer g.Stop()
	l.Plug(socks.IKE(), socks.NATT(), g.FromInside)

	ctx, cancel := context.WithTimeout(context.Background(), 15*time.Second)
	defer cancel()
	u, err := probe.Vantage(ctx, l.Vantages()[0].Link)
	require.NoError(t, err)
	defer u.Close()
	records := netip.MustParseAddr("10.20.30.5")
	short, stop := context.WithTimeout(ctx, time.Second)
	_, err = u.Ping(short, records)
	stop()
	require.Error(t, err)
	roots := x509.NewCertPool()
	roots.AddCert(ca.Leaf)
	tn, err := probe.Connect(ctx, u, probe.Login{Dial: "gate.tern.example", User: "rory.researcher", Password: "tide 4 tern", Roots: roots,
		Suites: []ike.Suite{ike.X25519}, IKEPort: 500, NATTPort: 4500})
	require.NoError(t, err)
	defer tn.Close()
	t.Log(tn.Given.Addresses, tn.Given.DNS, tn.Given.Domains, tn.Given.Routes)
	rtt, err := tn.Stack.Ping(ctx, records, tn.Send)
	require.NoError(t, err)
	t.Log("ping", rtt)
	rtt, err = tn.Stack.Ping(ctx, netip.MustParseAddr("fd00:20:30::5"), tn.Send)
	require.NoError(t, err)
	t.Log("ping6", rtt)
	short, stop = context.WithTimeout(ctx, time.Second)
	_, err = tn.Stack.Ping(short, netip.MustParseAddr("10.20.40.10"), tn.Send)
	stop()
	require.Error(t, err)
	t.Log(tn.Stack.Said(netip.MustParseAddr("10.20.40.10"), 0), g.Sessions())
	c, err := tn.Stack.DialTCP(ctx, netip.MustParseAddrPort("10.20.30.5:80"))
	require.NoError(t, err)
	c.Write([]byte("GET / HTTP/1.0\r\n\r\n"))
	b := make([]byte, 500)
	n, _ := c.Read(b)
	t.Log(string(b[:n]))
}
