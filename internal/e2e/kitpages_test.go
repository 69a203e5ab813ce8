package e2e

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/handover"
	"yellowlantern/internal/guard"
	"yellowlantern/internal/instance"
	"yellowlantern/internal/testkit/rough"
)

// The pages of kits have doors of their own, by a name and with a certificate of their own: what people and devices need without an account
// is there, and nothing of console and API.
func TestKitPagesApart(t *testing.T) {
	const at = "https://kits.tern.example:8644"
	for _, wrong := range []string{"kits.tern.example", "http://kits.tern.example", at + "/kit", "https://a:b@kits.tern.example"} {
		o := options(t)
		o.ListenKits, o.KitsAt = []string{"127.0.0.1:0"}, wrong
		_, err := instance.Start(t.Context(), o)
		require.ErrorContains(t, err, "--kits-at", wrong)
	}
	d := island(t, func(o *instance.Options) { o.ListenKits, o.KitsAt = []string{"127.0.0.1:0"}, at })
	x := newTerminal(t, d)
	authority, err := d.App.Trust.Authority(t.Context())
	require.NoError(t, err)
	roots := x509.NewCertPool()
	require.True(t, roots.AppendCertsFromPEM([]byte(authority)))
	c := &http.Client{Transport: &http.Transport{
		TLSClientConfig: &tls.Config{RootCAs: roots}, // for the name
		DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, network, d.AddressesKits[0].String())
		},
	}}
	ask := func(method, url, body, host string) (int, string) {
		r, err := http.NewRequestWithContext(t.Context(), method, url, strings.NewReader(body))
		require.NoError(t, err)
		r.Header.Set("Content-Type", "application/json")
		if host != "" {
			r.Host = host
		}
		resp, err := c.Do(r)
		require.NoError(t, err)
		defer resp.Body.Close()
		b, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return resp.StatusCode, string(b)
	}
	out, _, err := x.run("--json", "users", "kit-links", "make", "rory.researcher", "--platform", "windows")
	require.NoError(t, err)
	var link handover.NewLink
	require.NoError(t, json.Unmarshal([]byte(out), &link))
	require.True(t, strings.HasPrefix(link.URL, at+"/kit/"), link.URL)
	status, page := ask("GET", link.URL, "", "")
	require.Equal(t, http.StatusOK, status)
	require.NotContains(t, page, "rory")
	status, page = ask("POST", link.URL, "", "")
	require.Equal(t, http.StatusOK, status)
	require.Contains(t, page, "rory.researcher.ps1")
	status, _ = ask("GET", at+"/authority.crl", "", "")
	require.Equal(t, http.StatusOK, status)
	status, said := ask("POST", at+"/api/v1/renewals", `{"request": "x"}`, "")
	require.GreaterOrEqual(t, status, 400)
	require.Contains(t, said, "no PEM")
	words, err := json.Marshal(map[string]string{"name": "admin", "password": d.Admin})
	require.NoError(t, err)
	for _, path := range []string{"/", "/api/v1/start", "/api/v1/users", "/api/openapi.json", "/api/v1/sign-in", "/people"} {
		for _, method := range []string{"GET", "POST"} {
			status, _ = ask(method, at+path, string(words), "")
			require.Equal(t, http.StatusNotFound, status, path)
		}
	}
	status, _ = ask("GET", link.URL, "", "console.tern.example")
	require.Equal(t, http.StatusMisdirectedRequest, status)

	list, _, err := x.run("certificate", "list")
	require.NoError(t, err)
	require.Regexp(t, `kits +ecdsa +kits.tern.example.* pages of kits`, list)
	_, _, err = x.run("certificate", "remove", "kits")
	require.ErrorContains(t, err, "pages of kits")

	// What the plan says counts before what the service was told, from its commit on.
	x.did("plan", "set", "kits-at", "https://hand-over.tern.example:8644")
	x.did("plan", "set", "kits-certificate", "handed")
	x.did("plan", "commit", "-m", "another name", "--accept", "all", "--because", "it is a trial")
	out = x.did("--json", "users", "kit-links", "make", "rory.researcher", "--platform", "windows")
	require.NoError(t, json.Unmarshal([]byte(out), &link))
	require.True(t, strings.HasPrefix(link.URL, "https://hand-over.tern.example:8644/kit/"), link.URL)
	c.CloseIdleConnections()
	status, _ = ask("GET", link.URL, "", "")
	require.Equal(t, http.StatusOK, status)
	require.Regexp(t, `handed +ecdsa +hand-over.tern.example`, x.did("certificate", "list"))
	_, err = c.Get(strings.Replace(link.URL, "hand-over", "kits", 1))
	require.ErrorContains(t, err, "certificate is valid for hand-over.tern.example")
}

// Rough callers of the pages of kits, and of the console, keep nobody else from them.
func TestRoughCallers(t *testing.T) {
	d := island(t, func(o *instance.Options) {
		o.ListenKits, o.KitsAt = []string{"127.0.0.1:0"}, "https://kits.tern.example:8644"
	})
	request := []byte("POST /kit/none HTTP/1.1\r\nHost: kits.tern.example\r\nContent-Type: application/json\r\nContent-Length: 20\r\n\r\n{\"platform\":\"macos\"}")
	secret := &tls.Config{InsecureSkipVerify: true, ServerName: "kits.tern.example"}
	for _, dial := range []func() (net.Conn, error){
		func() (net.Conn, error) { return net.Dial("tcp", d.Address.String()) },
		func() (net.Conn, error) { return net.Dial("tcp", d.AddressesKits[0].String()) },
		func() (net.Conn, error) { return tls.Dial("tcp", d.AddressesKits[0].String(), secret) },
	} {
		rough.Callers(dial, request, 200)
	}
	require.Empty(t, guard.Panics())
	c := &http.Client{Transport: &http.Transport{TLSClientConfig: secret}}
	for _, at := range []string{"https://" + d.AddressesKits[0].String(), d.URL()} {
		r, err := c.Get(at + "/authority.crl")
		require.NoError(t, err)
		require.NoError(t, r.Body.Close())
		require.Less(t, r.StatusCode, 500)
	}
}
