package e2e

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/handover"
	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/onetime"
	"yellowlantern/internal/probe"
	isle "yellowlantern/internal/testkit/island"
	"yellowlantern/internal/tour"
)

// codePage is where the tests' code page is.
const codePage = "    internet: true\n    code-page: {name: code.tern.example, addresses: [10.99.255.1, \"fd00:99:ffff::1\"]}\n"

// asking is Tern Island whose researchers are asked for a second factor.
func asking(t *testing.T, how string, more ...string) (*tour.Demo, terminal) {
	d := island(t, nil)
	x := newTerminal(t, d)
	askFor(t, d, x, how, more...)
	return d, x
}

func askFor(t *testing.T, d *tour.Demo, x terminal, how string, more ...string) {
	text := strings.NewReplacer(append([]string{
		"    internet: true\n", codePage, "    routes: {split: [station, archive]}\n" + isle.Waived,
		"    routes: {split: [station, archive]}\n    second-factor: {asked: true" + how + "}\n",
	}, more...)...).Replace(d.Scenario.Plan)
	x.did("plan", "load", write(t, text))
	x.did("plan", "commit", "-m", "second factor", "--accept", "all", "--because", "they get theirs now")
}

// enrol gets somebody a second factor by a link, as they would, and gives its secret and their recovery codes.
func enrol(t *testing.T, d *tour.Demo, x terminal, user string) (onetime.Secret, []string) {
	at := d.URL() + regexp.MustCompile(`/second-factor/\w+`).FindString(x.did("users", "second-factor", "link", user))
	page := func(method, body string) (string, int) {
		r, err := http.NewRequestWithContext(t.Context(), method, at, strings.NewReader(body))
		require.NoError(t, err)
		r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		return fetched(t, http.DefaultClient, r)
	}
	text, _ := page("GET", "")
	require.NotContains(t, text, user, "whoever scans mail opens links")
	text, _ = page("POST", "")
	secret, err := onetime.Read(onetime.ByTime, regexp.MustCompile(`<code>([\w ]+)</code>`).FindStringSubmatch(text)[1])
	require.NoError(t, err)
	text, status := page("POST", "code=000000")
	require.Equal(t, 422, status)
	require.Contains(t, strings.ReplaceAll(text, " ", ""), secret.Text(), "the same key is shown again")
	x.did("slowed", "lift")
	text, status = page("POST", "code="+secret.Code(onetime.At(time.Now())))
	require.Equal(t, 200, status, text)
	var codes []string
	for _, m := range regexp.MustCompile(`<li>([A-Z0-9-]+)</li>`).FindAllStringSubmatch(text, -1) {
		codes = append(codes, m[1])
	}
	require.Len(t, codes, 10)
	_, status = page("POST", "")
	require.Equal(t, 410, status, "the link is used up")
	return secret, codes
}

func fetched(t *testing.T, c *http.Client, r *http.Request) (string, int) {
	answer, err := c.Do(r)
	require.NoError(t, err)
	defer answer.Body.Close()
	b, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	return string(b), answer.StatusCode
}

// browser opens pages through a tunnel, with names as the tunnel's device asks for them, and trusts the own authority alone.
func browser(t *testing.T, d *tour.Demo, tn *probe.Tunnel) *http.Client {
	pem, err := d.App.Trust.Authority(t.Context())
	require.NoError(t, err)
	roots := x509.NewCertPool()
	require.True(t, roots.AppendCertsFromPEM([]byte(pem)))
	return &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{
		DisableKeepAlives: true, TLSClientConfig: &tls.Config{RootCAs: roots},
		DialContext: func(ctx context.Context, _, address string) (net.Conn, error) {
			name, port, err := net.SplitHostPort(address)
			if err != nil {
				return nil, err
			}
			a, code := asks(t, tn, name)
			require.Equal(t, dns.RcodeSuccess, code)
			p, err := net.LookupPort("tcp", port)
			if err != nil {
				return nil, err
			}
			return tn.Stack.DialTCP(ctx, netip.AddrPortFrom(a, uint16(p)))
		},
	}}
}

// asks asks the name server that the device was told.
func asks(t *testing.T, tn *probe.Tunnel, name string) (a netip.Addr, code int) {
	c, err := tn.Stack.DialUDP(netip.AddrPortFrom(tn.Given.DNS[0], 53))
	require.NoError(t, err)
	defer c.Close()
	require.NoError(t, c.SetDeadline(time.Now().Add(5*time.Second)))
	var ask dns.Msg
	ask.SetQuestion(dns.Fqdn(name), dns.TypeA)
	wire := &dns.Conn{Conn: c}
	require.NoError(t, wire.WriteMsg(&ask))
	answer, err := wire.ReadMsg()
	require.NoError(t, err)
	for _, rr := range answer.Answer {
		if x, ok := rr.(*dns.A); ok {
			a, _ = netip.AddrFromSlice(x.A)
		}
	}
	return a, answer.Rcode
}

func give(t *testing.T, c *http.Client, code string) (string, int) {
	r, err := http.NewRequestWithContext(t.Context(), "POST", "https://code.tern.example/",
		strings.NewReader("code="+url.QueryEscape(code)))
	require.NoError(t, err)
	r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	return fetched(t, c, r)
}

// A session of who comes by a password is held: it reaches the code page by its name, with a certificate that its device trusts, and
// nothing else; once a code was given it reaches what it may. Each code works once. A trial of the same plan sees what is computed all
// the while.
func TestHeld(t *testing.T) {
	t.Parallel()
	d, x := asking(t, "")
	secret, recovery := enrol(t, d, x, "rory.researcher")
	tn, err := with(t, d, "rory.researcher", nil)
	require.NoError(t, err)
	journaled(t, d, "login", "is held until the second factor is given")
	require.Error(t, ping(t, tn, "10.20.30.5"), "held")
	require.True(t, live(t, d)[0].Held)
	out, _, _ := x.run("journey", "--from", "rory.researcher", "--to", "records:80")
	require.Contains(t, out, "held until they give their second factor")
	out, _, err = x.run("journey", "--from", "rory.researcher", "--to", "records:80", "--held")
	require.Error(t, err)
	require.Contains(t, squeezed(out), "lost at held")
	out, _, err = x.run("diagnose", "rory.researcher", "--no-trial", "--complaint", "reaches-some", "--to", "records", "--service",
		"tcp/80")
	require.NoError(t, err)
	require.Contains(t, squeezed(out), "let them open https://code.tern.example/")
	require.Contains(t, squeezed(x.did("sessions", "list", "--json")), "held until its person gives")
	a, code := asks(t, tn, "code.tern.example")
	require.Equal(t, []any{"10.99.255.1", dns.RcodeSuccess}, []any{a.String(), code})
	_, code = asks(t, tn, "records.tern.example")
	require.Equal(t, dns.RcodeRefused, code, "that name alone")

	b := browser(t, d, tn)
	page, status := fetched(t, b, must(http.NewRequestWithContext(t.Context(), "GET", "http://code.tern.example/", nil)))
	require.Equal(t, 200, status)
	require.Contains(t, page, "connected as <b>rory.researcher</b>")
	page, status = give(t, b, "000000")
	require.Equal(t, 403, status)
	require.Contains(t, page, "That code is not right")
	journaled(t, d, "refused", "the code of the second factor is wrong")
	for n := 0; n < 20 && !strings.Contains(page, "Too many wrong codes"); n++ {
		page, _ = give(t, b, "000001")
	}
	require.Contains(t, page, "Too many wrong codes")
	for range 20 {
		give(t, b, "000002")
	}
	var written []struct{ Words string }
	require.NoError(t, json.Unmarshal([]byte(x.did("journal", "--json", "--kind", "refused", "--user", "rory.researcher")), &written))
	require.Less(t, len(written), 6, "what is wrong again and again is told together")
	x.did("slowed", "lift")
	require.Error(t, ping(t, tn, "10.20.30.5"), "held still")
	newest := secret.Code(onetime.At(time.Now()) + 1) // the one of now was used to get it
	page, status = give(t, b, newest)
	require.Equal(t, 200, status, page)
	require.Contains(t, page, "You are connected")
	require.NoError(t, ping(t, tn, "10.20.30.5"))
	_, code = asks(t, tn, "records.tern.example")
	require.Equal(t, dns.RcodeSuccess, code, "the island's own name server answers now")
	journaled(t, d, "login", "is held no more")

	again, err := with(t, d, "rory.researcher", nil)
	require.NoError(t, err)
	b = browser(t, d, again)
	_, status = give(t, b, newest)
	require.Equal(t, 403, status, "a code works once")
	x.did("slowed", "lift")
	_, status = give(t, b, recovery[3])
	require.Equal(t, 200, status)
	require.NoError(t, ping(t, again, "10.20.30.5"))
	require.Contains(t, x.did("users", "second-factor", "list"), "9")

	file := write(t, d.Passwords["rory.researcher"])
	out, _, err = x.run("probe", "--user", "rory.researcher", "--vantage", "home", "--password-file", file)
	require.Error(t, err)
	require.Contains(t, squeezed(out), "the session is held until the code is given at https://code.tern.example/")
	out, _, err = x.run("probe", "--user", "rory.researcher", "--vantage", "home", "--password-file", file, "--code-file", write(t,
		recovery[5]+"\n"))
	require.NoError(t, err, out)
	require.Contains(t, squeezed(x.did("people", "explain", "rory.researcher")), "second factor by time")

	out, _, err = x.run("validate", "--try", "--vantage", "home")
	require.NoError(t, err, "trials are of people who gave theirs: %s", out)

	out = x.did("users", "lost-device", "rory.researcher")
	require.Contains(t, out, "sessions ended: 2, second factors forgotten: 1")
	require.Contains(t, out, "/second-factor/")
	journaled(t, d, "ended", "a device of theirs was lost")
	require.Error(t, ping(t, tn, "10.20.30.5"))
	none, err := with(t, d, "rory.researcher", nil)
	require.NoError(t, err)
	page, _ = give(t, browser(t, d, none), recovery[4])
	require.Contains(t, page, "There is no second factor for you yet")
	out, _, err = x.run("people", "explain", "rory.researcher")
	require.Error(t, err)
	require.Contains(t, squeezed(out), "they have none: they connect, and reach nothing but the code page")
	kit, err := d.App.Handover.Make(t.Context(), "rory.researcher", "android", handover.Wants{})
	require.NoError(t, err)
	require.Contains(t, kit.Steps[len(kit.Steps)-1], "https://code.tern.example/")
}

// A device with a key of its own is not asked again for as long as the plan says, whoever else of the same person is; what was remembered
// goes with the second factor.
func TestRemembered(t *testing.T) {
	t.Parallel()
	d, x := asking(t, ", remember: 1h", "login: eap-mschapv2", "login: public-key")
	_, recovery := enrol(t, d, x, "rory.researcher")
	device := func() *probe.Tunnel {
		key, err := cert.NewKey(rand.Reader)
		require.NoError(t, err)
		spki, err := x509.MarshalPKIXPublicKey(key.Public())
		require.NoError(t, err)
		_, err = d.App.Members.People.AddKey(t.Context(), "rory.researcher", "laptop", spki, nil)
		require.NoError(t, err)
		tn, err := with(t, d, "rory.researcher", func(_ *probe.Order, o *probe.Options) { *o = probe.Options{Key: key} })
		require.NoError(t, err)
		require.Error(t, ping(t, tn, "10.20.30.5"), "held")
		_, status := give(t, browser(t, d, tn), recovery[0])
		require.Equal(t, 200, status)
		require.NoError(t, ping(t, tn, "10.20.30.5"))
		recovery = recovery[1:]
		tn.Close()
		tn, err = with(t, d, "rory.researcher", func(_ *probe.Order, o *probe.Options) { *o = probe.Options{Key: key} })
		require.NoError(t, err)
		require.NoError(t, ping(t, tn, "10.20.30.5"), "it is remembered")
		return tn
	}
	device()
	tn := device() // each for itself
	require.Contains(t, x.did("users", "lost-device", "rory.researcher", "--device", "laptop"), "keys taken back: 2")
	require.Error(t, ping(t, tn, "10.20.30.5"))
}

func must[T any](x T, err error) T {
	if err != nil {
		panic(err)
	}
	return x
}

// Whom a passage asks hangs on groups and places, and on what a commit says: a session that came in before it asked ends.
func TestWhoIsAsked(t *testing.T) {
	t.Parallel()
	d, x := asking(t, ", not-from: [203.0.113.0/24]")
	enrol(t, d, x, "rory.researcher")
	tn, err := with(t, d, "rory.researcher", nil)
	require.NoError(t, err)
	time.Sleep(1500 * time.Millisecond) // the gateway looks over its sessions each second
	require.NoError(t, ping(t, tn, "10.20.30.5"), "nobody is asked there")
	askFor(t, d, x, ", of: [wardens]")
	require.NoError(t, ping(t, tn, "10.20.30.5"), "nor somebody in other groups")
	askFor(t, d, x, "")
	journaled(t, d, "ended", "a second factor is asked for")
	require.Error(t, ping(t, tn, "10.20.30.5"))
	tn, err = with(t, d, "rory.researcher", nil)
	require.NoError(t, err)
	require.Error(t, ping(t, tn, "10.20.30.5"))
	askFor(t, d, x, ", of: [wardens]")
	require.Eventually(t, func() bool { return ping(t, tn, "10.20.30.5") == nil }, 10*time.Second, 100*time.Millisecond,
		"nothing is asked for any more")
}

// A password that is handed over can have the code behind it; one without is held.
func TestAppendedCode(t *testing.T) {
	t.Parallel()
	d, x := asking(t, "", "login: eap-mschapv2", "login: eap-ttls")
	secret, recovery := enrol(t, d, x, "rory.researcher")
	password := func(code string) func(*probe.Order, *probe.Options) {
		return func(_ *probe.Order, o *probe.Options) { o.Password += code }
	}
	newest := secret.Code(onetime.At(time.Now()) + 1)
	tn, err := with(t, d, "rory.researcher", password(newest))
	require.NoError(t, err)
	require.NoError(t, ping(t, tn, "10.20.30.5"))
	_, err = with(t, d, "rory.researcher", password(newest))
	require.Error(t, err, "a code works once")
	x.did("slowed", "lift")
	held, err := with(t, d, "rory.researcher", nil)
	require.NoError(t, err)
	require.Error(t, ping(t, held, "10.20.30.5"))
	_, status := give(t, browser(t, d, held), recovery[0])
	require.Equal(t, 200, status)
	require.NoError(t, ping(t, held, "10.20.30.5"))
}
