package e2e

import (
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"net/http"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/standing"
	"yellowlantern/internal/client"
	"yellowlantern/internal/instance"
	"yellowlantern/internal/tour"
)

// Console and API over TLS: with a certificate of the own authority that is good for how it is called, in HTTP/2, with cookies and a
// promise that are for TLS alone; a new certificate is shown without a new start. Without TLS nothing is open beyond loopback.
func TestTLS(t *testing.T) {
	o := options(t)
	o.ListenTLS, o.Names, o.OnlyTLS = []string{"127.0.0.1:0"}, []string{"console.tern.example"}, true
	d, err := tour.Prepare(t.Context(), "", o)
	require.NoError(t, err)
	t.Cleanup(d.Stop)
	require.Len(t, d.URLs(), 1)
	url := d.URLs()[0]

	authority, err := d.App.Trust.Authority(t.Context())
	require.NoError(t, err)
	cl, err := client.Trusting(url, "", authority)
	require.NoError(t, err)
	require.NoError(t, cl.SignIn(t.Context(), "admin", d.Admin, "a trial"))
	require.Error(t, client.New(url, "").Do(t.Context(), "GET", "/start", nil, nil), "who does not trust the authority")

	roots := x509.NewCertPool()
	require.True(t, roots.AppendCertsFromPEM([]byte(authority)))
	at := d.AddressesTLS[0].String()
	dial := func() tls.ConnectionState {
		c, err := tls.Dial("tcp", at, &tls.Config{RootCAs: roots, ServerName: "console.tern.example", NextProtos: []string{"h2"}})
		require.NoError(t, err)
		defer c.Close()
		return c.ConnectionState()
	}
	first := dial()
	require.Equal(t, "h2", first.NegotiatedProtocol)
	require.EqualValues(t, tls.VersionTLS13, first.Version)
	_, err = tls.Dial("tcp", at, &tls.Config{RootCAs: roots, ServerName: "console.tern.example", MaxVersion: tls.VersionTLS12})
	require.Error(t, err)

	words, err := json.Marshal(map[string]string{"name": "admin", "password": d.Admin})
	require.NoError(t, err)
	signIn := func(c *http.Client, base, host string) *http.Response {
		r, err := http.NewRequestWithContext(t.Context(), "POST", base+"/api/v1/sign-in", strings.NewReader(string(words)))
		require.NoError(t, err)
		r.Header.Set("Content-Type", "application/json")
		r.Host = host
		resp, err := c.Do(r)
		require.NoError(t, err)
		t.Cleanup(func() { resp.Body.Close() })
		return resp
	}
	resp := signIn(cl.HTTP, url, "console.tern.example")
	require.Equal(t, 2, resp.ProtoMajor)
	require.Contains(t, resp.Header.Get("Set-Cookie"), "Secure")
	require.NotEmpty(t, resp.Header.Get("Strict-Transport-Security"))
	require.Equal(t, http.StatusMisdirectedRequest, signIn(cl.HTTP, url, "elsewhere.tern.example").StatusCode)
	plain := signIn(http.DefaultClient, d.URL(), "localhost")
	require.NotContains(t, plain.Header.Get("Set-Cookie"), "Secure", "a browser would not send it back")
	require.Empty(t, plain.Header.Get("Strict-Transport-Security"))

	anew := map[string]any{"for": []string{"console.tern.example", "127.0.0.1"}}
	require.NoError(t, cl.Do(t.Context(), "POST", "/certificates/console", anew, nil))
	require.NotEqual(t, first.PeerCertificates[0].SerialNumber, dial().PeerCertificates[0].SerialNumber, "shown from then on")
	require.ErrorContains(t, cl.Do(t.Context(), "DELETE", "/certificates/console", nil, nil),
		"certificate console is shown by the console and API")

	points, err := client.Get[[]standing.Point](t.Context(), cl, "/standing")
	require.NoError(t, err)
	n := slices.IndexFunc(points, func(p standing.Point) bool { return p.Name == "console" })
	require.GreaterOrEqual(t, n, 0)
	require.Equal(t, standing.Right, points[n].State, "not on the outside")

	open := options(t)
	open.Listen = "0.0.0.0:0"
	_, err = instance.Start(t.Context(), open)
	require.ErrorContains(t, err, "--listen-tls 0.0.0.0:0")
}
