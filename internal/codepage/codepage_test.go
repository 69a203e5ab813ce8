package codepage

import (
	"context"
	"crypto"
	"crypto/tls"
	"crypto/x509"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/login"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/guard"
	"yellowlantern/internal/testkit/rough"
	"yellowlantern/internal/userstack"
)

// Devices that reset, half-close, stop in the middle or say nothing keep the page open for everybody else.
func TestRoughDevices(t *testing.T) {
	page, device := netip.MustParseAddr("10.9.0.1"), netip.MustParseAddr("10.9.0.2")
	certified := httptest.NewTLSServer(nil)
	defer certified.Close()
	pair := certified.TLS.Certificates[0]
	var there *userstack.Stack
	served, err := Open(gateway.Page{
		Site: "Tern Island", Name: "example.com", Addresses: []netip.Addr{page},
		Certificate: gateway.Certificate{Chain: pair.Certificate, Key: pair.PrivateKey.(crypto.Signer)},
		Send:        func(b []byte) { there.Inject(b) },
		Visitor: func(netip.Addr) (gateway.Visitor, bool) {
			return gateway.Visitor{User: "rory.researcher", Held: true, Give: func(_ context.Context, code string) login.Outcome {
				return login.Outcome{OK: code == "123456"}
			}}, true
		},
	})
	require.NoError(t, err)
	defer served.Close()
	there, err = userstack.New([]netip.Addr{device}, 1280, served.Take)
	require.NoError(t, err)
	defer there.Close()
	dial := func(port uint16) func() (net.Conn, error) {
		return func() (net.Conn, error) {
			ctx, stop := context.WithTimeout(t.Context(), time.Second)
			defer stop()
			return there.DialTCP(ctx, netip.AddrPortFrom(page, port))
		}
	}
	roots := x509.NewCertPool()
	roots.AddCert(certified.Certificate())
	overTLS := func() (net.Conn, error) {
		c, err := dial(443)()
		if err != nil {
			return nil, err
		}
		secure := tls.Client(c, &tls.Config{RootCAs: roots, ServerName: "example.com"})
		_ = c.SetDeadline(time.Now().Add(2 * time.Second))
		if err := secure.Handshake(); err != nil {
			_ = c.Close()
			return nil, err
		}
		return secure, nil
	}
	form := []byte("POST / HTTP/1.1\r\nHost: example.com\r\nContent-Type: application/x-www-form-urlencoded\r\nContent-Length: 11\r\n\r\ncode=000000")
	rough.Callers(dial(443), []byte{22, 3, 1, 0, 200, 1, 0, 0, 196, 3, 3}, 150)
	rough.Callers(dial(80), form, 150)
	rough.Callers(overTLS, form, 150)
	require.Empty(t, guard.Panics())

	c := &http.Client{Transport: &http.Transport{
		DialTLSContext: func(context.Context, string, string) (net.Conn, error) { return overTLS() },
	}}
	require.Eventually(t, func() bool { // once connections that say nothing have made room
		r, err := c.Post("https://example.com/", "application/x-www-form-urlencoded", strings.NewReader("code=123456"))
		if err != nil {
			return false
		}
		defer r.Body.Close()
		b, err := io.ReadAll(r.Body)
		return err == nil && strings.Contains(string(b), "You are connected")
	}, 30*time.Second, 100*time.Millisecond)
}
