package radius_test

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"net"
	"net/http/httptest"
	"net/netip"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	wire "layeh.com/radius"
	"layeh.com/radius/rfc2865"
	"layeh.com/radius/rfc2866"

	"yellowlantern/internal/guard"
	"yellowlantern/internal/radius"
	"yellowlantern/internal/testkit/rough"
)

var secret = []byte("mosaic-ferry-lantern-plover")

// Whatever comes from a network ends in a packet that somebody made who has the secret, or in an error.
func FuzzDecode(f *testing.F) {
	request := wire.New(wire.CodeDisconnectRequest, secret)
	require.NoError(f, rfc2866.AcctSessionID_SetString(request, "85f69b7aecb10c4c"))
	require.NoError(f, rfc2865.ProxyState_Set(request, []byte{1}))
	asked, err := request.Encode()
	require.NoError(f, err)
	answer, err := radius.Answer(request, wire.CodeDisconnectACK, nil)
	require.NoError(f, err)
	f.Add(asked, false)
	f.Add(answer, true)
	f.Add(append([]byte{2, 1, 0, 24}, make([]byte, 20)...), true)
	f.Fuzz(func(t *testing.T, b []byte, protected bool) {
		if p, err := radius.DecodeRequest(b, secret); err == nil {
			n := int(b[2])<<8 | int(b[3])
			require.True(t, wire.IsAuthenticRequest(b[:n], secret))
			if about, err := radius.ReadAbout(p); err == nil {
				require.Equal(t, about.Nothing(), about.Fits(radius.Known{}))
			}
			_, _ = radius.Answer(p, wire.CodeDisconnectACK, nil) // which may be too long
		}
		if _, err := radius.Decode(b, asked, secret, protected); err == nil {
			n := int(b[2])<<8 | int(b[3])
			require.True(t, wire.IsAuthenticResponse(b[:n], asked, secret))
		}
	})
}

// Servers over TLS that reset, close or answer nothing, and garbage by UDP, end nothing: whoever is well behaved next is heard.
func TestRoughPeers(t *testing.T) {
	from := httptest.NewTLSServer(nil) // for its certificate
	defer from.Close()
	pair := from.TLS.Certificates[0]
	ln, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{pair}})
	require.NoError(t, err)
	defer ln.Close()
	secret := []byte(radius.TLSSecret)
	var polite atomic.Bool
	answer := func(b []byte) []byte {
		p, err := radius.DecodeAsked(b, secret)
		if err != nil {
			return nil
		}
		a, err := radius.Answer(p, wire.CodeAccessReject, nil)
		if err != nil {
			return nil
		}
		return a
	}
	go func() {
		for n := 0; ; n++ {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				if polite.Load() {
					b, err := radius.ReadPacket(c)
					if err == nil {
						_, _ = c.Write(answer(b))
					}
					time.Sleep(time.Second)
					return
				}
				if b, err := radius.ReadPacket(c); err == nil {
					rough.Treat(c, rough.Way(n), byte(37*n), answer(b))
				}
			}()
		}
	}()
	roots := x509.NewCertPool()
	roots.AddCert(from.Certificate())
	l := &radius.Link{Address: ln.Addr().String(), TLS: &tls.Config{RootCAs: roots, ServerName: "example.com"}}
	defer l.Close()
	ask := func() (*radius.Packet, error) {
		ctx, stop := context.WithTimeout(t.Context(), 300*time.Millisecond)
		defer stop()
		return l.Exchange(ctx, wire.New(wire.CodeStatusServer, secret))
	}
	for range 60 {
		if p, err := ask(); err == nil {
			require.Equal(t, wire.CodeAccessReject, p.Code)
		}
	}
	polite.Store(true)
	require.Eventually(t, func() bool { _, err = ask(); return err == nil }, 5*time.Second, 10*time.Millisecond, "%v", err)
	require.Empty(t, guard.Panics())

	// The other way about: what equipment sends by UDP.
	conn, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	var ignored atomic.Int32
	server := &radius.Server{
		Who: func(netip.Addr) (radius.Client, bool) { return radius.Client{Name: "switch", Secret: secret}, true },
		Judge: func(radius.Client, *radius.Packet, netip.Addr) radius.Reply {
			panic("a request that nobody thought of")
		},
		Ignored: func(netip.AddrPort, radius.Client, error) { ignored.Add(1) },
	}
	over := make(chan struct{})
	go func() { server.Serve(conn); close(over) }()
	at := conn.LocalAddr().String()
	rough.Callers(func() (net.Conn, error) { return net.Dial("udp4", at) }, append([]byte{4, 1, 0, 20}, make([]byte, 16)...), 200)
	require.Positive(t, ignored.Load())
	u := &radius.Link{Address: at}
	defer u.Close()
	ctx, stop := context.WithTimeout(t.Context(), 200*time.Millisecond)
	defer stop()
	_, err = u.Exchange(ctx, wire.New(wire.CodeAccessRequest, secret))
	require.Error(t, err, "a request whose judging fails is lost")
	ctx, stop = context.WithTimeout(t.Context(), 5*time.Second)
	defer stop()
	_, err = u.Exchange(ctx, wire.New(wire.CodeStatusServer, secret))
	require.NoError(t, err, "and it alone")
	require.NotZero(t, guard.Panics()["radius.judge"])
	_ = conn.Close()
	<-over
}
