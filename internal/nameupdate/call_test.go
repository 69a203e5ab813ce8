package nameupdate

import (
	"crypto/x509"
	"encoding/base64"
	"io"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/plan"
)

// What a plan describes is what is sent, to a small stand-in; what is no success is told in its own words, and the secret nowhere.
func TestCall(t *testing.T) {
	const secret = "token-of-tern"
	var got string
	answer := func(w http.ResponseWriter) {}
	server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		user, password, _ := r.BasicAuth()
		got = strings.Join([]string{
			r.Method, r.URL.String(), string(b), r.Header.Get("Content-Type"), user, password, r.Header.Get("Authorization"), r.Header.Get("X-Token"),
		}, "|")
		answer(w)
	}))
	t.Cleanup(server.Close)
	roots := x509.NewCertPool()
	roots.AddCert(server.Certificate())
	both := []netip.Addr{netip.MustParseAddr("192.0.2.10"), netip.MustParseAddr("2001:db8::10")}
	do := func(c plan.NameCall, addrs ...netip.Addr) error {
		got = ""
		if !strings.Contains(c.URL, ":") {
			c.URL = server.URL + c.URL
		}
		return Caller{NameCall: c, Value: secret, Roots: roots}.Do(t.Context(), "gate.tern.example", addrs)
	}
	for _, c := range []struct {
		call plan.NameCall
		sent string
	}{
		{plan.NameCall{URL: "/{name}?a={ipv4}&b={ipv6}"}, "POST|/gate.tern.example?a=192.0.2.10&b=2001%3Adb8%3A%3A10||||| Bearer token-of-tern|"},
		{plan.NameCall{Method: "get", URL: "/", User: "jetty"}, "GET|/|||jetty|token-of-tern|Basic amV0dHk6dG9rZW4tb2YtdGVybg==|"},
		{
			plan.NameCall{Method: "put", URL: "/", Body: `{"a": "{ipv4}", "b": "{ipv6}"}`, Type: "application/json", Header: "X-Token"},
			`PUT|/|{"a": "192.0.2.10", "b": "2001:db8::10"}|application/json||||token-of-tern`,
		},
	} {
		require.NoError(t, do(c.call, both...))
		require.Equal(t, strings.ReplaceAll(c.sent, "| Bearer", "|Bearer"), got)
	}
	require.NoError(t, do(plan.NameCall{URL: "/?a={ipv4}&b={ipv6}"}, both[1]))
	require.Contains(t, got, "/?a=&b=2001", "nothing where there is none of that family")

	says := func(status int, text string) func(http.ResponseWriter) {
		return func(w http.ResponseWriter) {
			w.Header().Set("Location", "/elsewhere")
			w.WriteHeader(status)
			_, _ = io.WriteString(w, text)
		}
	}
	for _, c := range []struct {
		status  int
		text    string
		answers []string
		fault   string // "": none
	}{
		{200, "anything", nil, ""},
		{204, "", nil, ""},
		{200, "good 192.0.2.10", []string{"good", "same"}, ""},
		{200, "badauth", []string{"good", "same"}, `it answers 200, "badauth", which holds none of good, same`},
		{403, "no such token: " + secret, nil, `it answers 403, "no such token: (the secret)"`},
		{302, "", nil, "redirections are not followed"},
		{500, strings.Repeat("long ", 1000), nil, "…"},
	} {
		answer = says(c.status, c.text)
		err := do(plan.NameCall{URL: "/", Answers: c.answers}, both...)
		if c.fault == "" {
			require.NoError(t, err)
			continue
		}
		require.ErrorIs(t, err, ErrRefused)
		require.ErrorContains(t, err, c.fault)
		require.NotContains(t, err.Error(), secret)
		require.Less(t, len(err.Error()), 400)
		require.NotContains(t, got, "elsewhere")
	}
	// A service that answers with the request, however it writes it.
	for _, echo := range []string{
		"Authorization: Basic " + base64.StdEncoding.EncodeToString([]byte("rory:to?en/of tern")), "rory%3Ato%3Fen%2Fof+tern", "to%3Fen%2Fof%20tern",
		"746f3f656e2f6f66207465726e", base64.RawURLEncoding.EncodeToString([]byte("to?en/of tern")),
	} {
		err := Caller{NameCall: plan.NameCall{User: "rory"}, Value: "to?en/of tern"}.judge(403, "you sent "+echo)
		require.ErrorContains(t, err, `"(what was sent, with the secret)"`, echo)
		require.NotContains(t, err.Error(), echo)
	}
	stranger := Caller{NameCall: plan.NameCall{URL: server.URL + "/" + secret}, Value: secret}
	err := stranger.Do(t.Context(), "gate.tern.example", both)
	require.ErrorContains(t, err, "certificate", "whoever is not known by an authority is told nothing")
	require.NotContains(t, err.Error(), secret)
	to, err := Caller{NameCall: plan.NameCall{URL: "https://names.tern.example/{name}"}}.To()
	require.NoError(t, err)
	require.Equal(t, "names.tern.example:443", to)
}
