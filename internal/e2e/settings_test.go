package e2e

import (
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/proofs"
	"yellowlantern/internal/app/running"
	"yellowlantern/internal/app/trust"
	"yellowlantern/internal/app/watching"
	"yellowlantern/internal/client"
	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/instance"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/testkit/nameserver"
	"yellowlantern/internal/tour"
)

// recommit makes a changed demo plan the newest revision; pairs are what is replaced by what.
func recommit(t *testing.T, d *tour.Demo, pairs ...string) {
	t.Helper()
	text := d.Scenario.Plan
	for i := 0; i < len(pairs); i += 2 {
		require.Equal(t, 1, strings.Count(text, pairs[i]), pairs[i])
		text = strings.Replace(text, pairs[i], pairs[i+1], 1)
	}
	require.NoError(t, d.Client.Do(t.Context(), "PUT", "/drafts/changed", map[string]any{"text": text, "version": 0}, nil))
	require.NoError(t, d.Client.Do(t.Context(), "POST", "/drafts/changed/commit", map[string]any{"message": "changed"}, nil))
}

func login(t *testing.T, d *tour.Demo, user string) (*probe.Tunnel, error) {
	tn, err := probe.Open(t.Context(), home(t, d), order(t, d, user), probe.Options{Password: d.Passwords[user]})
	if err == nil {
		t.Cleanup(tn.Close)
	}
	return tn, err
}

// Limits are enforced where people log in, and the reason is in the journal; a kept address goes to whom it is kept for.
func TestLimitsAndReservations(t *testing.T) {
	d := island(t, nil)
	never := strings.ToLower(time.Now().UTC().Add(72 * time.Hour).Weekday().String())
	recommit(t, d,
		"hours:\n", "hours:\n  - {name: another-day, days: ["+never+"], from: 00:00, to: 24:00}\n",
		"routes: {split: [names, nestcams]}", "routes: {split: [names, nestcams]}\n    limits: {per-person: 1}",
		"routes: {split: [station, archive]}", "routes: {split: [station, archive]}\n    limits: {sessions: 2, per-person: 1, newest-wins: true}",
		"routes: {split: [names, turbine]}", "routes: {split: [names, turbine]}\n    limits: {hours: another-day}",
		"{name: staff, prefixes: [10.99.0.0/24, \"fd00:99::/112\"]}", "{name: staff, prefixes: [10.99.0.0/24, \"fd00:99::/112\"], reserved: [{user: rory.researcher, address: 10.99.0.20}]}")

	first := connect(t, d, "rory.researcher")
	require.Contains(t, first.Given.Addresses, mustAddr("10.99.0.20"))
	pools, err := client.Get[[]gateway.Pool](t.Context(), d.Client, "/pools?filter=rory")
	require.NoError(t, err)
	require.Len(t, pools, 1)
	require.True(t, pools[0].Leases[0].Kept && pools[0].Leases[0].Out)
	require.Equal(t, 254, pools[0].Total)

	second := connect(t, d, "rory.researcher")
	require.Eventually(t, func() bool { return first.Ended() != nil }, 20*time.Second, 20*time.Millisecond, "the newest session wins")
	journaled(t, d, "ended", "lets the newest session win")
	require.NoError(t, second.Ended())

	connect(t, d, "vera.volunteer")
	_, err = login(t, d, "vera.volunteer")
	require.Error(t, err)
	journaled(t, d, "refused", "has 1 sessions already, as many as passage volunteers lets one person have")
	_, err = login(t, d, "curt.contractor")
	require.Error(t, err)
	journaled(t, d, "refused", "may connect only in the hours another-day ("+never+", 00:00 to 24:00)")
}

// Two tunnels of one gateway are told apart by the name that devices ask for, each with its own certificate and algorithms; a passage
// is entered by its own tunnels only.
func TestSeveralTunnels(t *testing.T) {
	d := island(t, nil)
	require.NoError(t, d.Client.Do(t.Context(), "POST", "/certificates/field", map[string]any{"for": []string{"field.tern.example"}}, nil))
	recommit(t, d, "    certificate: gate\n", "    certificate: gate\n  - name: field\n    kind: ikev2\n    gateway: jetty\n    login: eap-mschapv2\n    identity: field.tern.example\n    certificate: field\n    algorithms: {encryption: [ChaCha20-Poly1305, AES-128-GCM-16], prf: [PRF-HMAC-SHA2-512], groups: [P-384, X25519]}\n",
		"{level: strict}", "{encryption: [AES-256-GCM-16], prf: [PRF-HMAC-SHA2-256], groups: [X25519, P-256]}",
		"groups: [volunteers]\n    tunnels: [main]", "groups: [volunteers]\n    tunnels: [field]")
	tn := connect(t, d, "vera.volunteer")
	require.NoError(t, ping(t, tn, "10.20.0.53"))
	require.Equal(t, "ChaCha20-Poly1305, PRF-HMAC-SHA2-512, P-384", tn.Given.Algorithms)
	require.NoError(t, ping(t, connect(t, d, "rory.researcher"), "10.20.30.5"))
	ss, err := client.Get[[]gateway.Session](t.Context(), d.Client, "/sessions")
	require.NoError(t, err)
	require.Equal(t, []string{"main", "field"}, []string{ss[0].Tunnel, ss[1].Tunnel})

	other := order(t, d, "rory.researcher")
	other.User = "vera.volunteer"
	_, err = probe.Open(t.Context(), home(t, d), other, probe.Options{Password: d.Passwords["vera.volunteer"]})
	require.Error(t, err)
	journaled(t, d, "refused", "passage volunteers, which takes this user, comes by tunnel field only, not by main")
}

// A rule with hours lets traffic through within them, and ends known flows when they are over.
func TestRuleHours(t *testing.T) {
	d := island(t, nil)
	now := time.Now().UTC()
	today, other := strings.ToLower(now.Weekday().String()), strings.ToLower(now.Add(72*time.Hour).Weekday().String())
	tomorrow := strings.ToLower(now.Add(24 * time.Hour).Weekday().String())
	hours := func(days string) []string {
		return []string{
			"hours:\n", "hours:\n  - {name: watch, days: [" + days + "], from: 00:00, to: 24:00}\n",
			"rules:\n", "rules:\n  - {name: watch, action: permit, groups: [researchers], to: [10.20.0.1], services: [ping], hours: watch}\n",
		}
	}
	recommit(t, d, hours(other)...)
	tn := connect(t, d, "rory.researcher")
	require.Error(t, ping(t, tn, "10.20.0.1"))
	j, err := client.Get[proofs.JourneyAnswer](t.Context(), d.Client, "/journey?from=rory.researcher&to=10.20.0.1&service=ping")
	require.NoError(t, err)
	require.Contains(t, j.Verdict, "only in its hours, watch")
	recommit(t, d, hours(today+", "+tomorrow)...)
	require.NoError(t, ping(t, tn, "10.20.0.1"), "the session goes on, and the rule acts now")
	at := now.Add(72 * time.Hour).Format(time.RFC3339)
	j, err = client.Get[proofs.JourneyAnswer](t.Context(), d.Client, "/journey?from=rory.researcher&to=10.20.0.1&service=ping&at="+at)
	require.NoError(t, err)
	require.Contains(t, j.Verdict, "only in its hours", "at another day")
}

// Certificates: asked for elsewhere and imported without the key ever leaving, made anew while sessions go on, revoked.
func TestCertificates(t *testing.T) {
	d := island(t, nil)
	x := newTerminal(t, d)
	ok := func(args ...string) string {
		t.Helper()
		text, exit, err := x.run(args...)
		require.NoError(t, err, "%v", args)
		require.Zero(t, exit)
		return text
	}
	dir := t.TempDir()
	tn := connect(t, d, "rory.researcher")
	require.Contains(t, ok("certificate", "make", "gate", "--for", "gate.tern.example"), "tunnel main shows it from now on")
	require.NoError(t, ping(t, tn, "10.20.30.5"), "sessions go on")
	connect(t, d, "vera.volunteer")
	journaled(t, d, "trust", "was made anew by")

	// A signing request for another authority.
	csr := filepath.Join(dir, "gate.csr")
	ok("certificate", "request", "gate", "--for", "gate.tern.example", "--out", csr)
	require.Contains(t, squeezed(ok("certificate", "list")), "gate ecdsa gate.tern.example")
	text, err := os.ReadFile(csr)
	require.NoError(t, err)
	block, _ := pem.Decode(text)
	request, err := x509.ParseCertificateRequest(block.Bytes)
	require.NoError(t, err)
	require.NoError(t, request.CheckSignature())
	require.Equal(t, []string{"gate.tern.example"}, request.DNSNames)
	ca, err := cert.NewAuthority(rand.Reader, time.Now(), "Skua Point")
	require.NoError(t, err)
	leaf, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{
		SerialNumber: big.NewInt(5), Subject: request.Subject, DNSNames: request.DNSNames, NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().Add(100 * 24 * time.Hour), KeyUsage: x509.KeyUsageDigitalSignature,
	}, ca.Leaf, request.PublicKey, ca.Key)
	require.NoError(t, err)
	chain := filepath.Join(dir, "gate.pem")
	require.NoError(t, os.WriteFile(chain, append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: leaf}), ca.PEM()...), 0o600))
	require.Contains(t, ok("certificate", "import", "gate", "--chain", chain), "of Skua Point authority holds gate.tern.example")
	o := order(t, d, "rory.researcher")
	require.Equal(t, string(ca.PEM()), o.Authority, "whom devices are to trust is who signed what the tunnel shows")
	o.Authority = ok("certificate", "authority")
	_, err = probe.Open(t.Context(), home(t, d), o, probe.Options{Password: d.Passwords["rory.researcher"]})
	require.ErrorContains(t, err, "certificate is not accepted", "devices that trust the own authority only")
	o = order(t, d, "rory.researcher")
	other, err := probe.Open(t.Context(), home(t, d), o, probe.Options{Password: d.Passwords["rory.researcher"]})
	require.NoError(t, err)
	other.Close()

	// What will not do is refused with the reason, and nothing is kept.
	for name, c := range map[string]struct{ chain, says string }{
		"no certificate": {"nothing", "there is no certificate in it"},
		"no key":         {string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: leaf})), "no private key"},
		"encrypted":      {"-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n", "cannot be read"},
	} {
		status, words := refused(t, d.Client, "PUT", "/certificates/new", map[string]string{"chain": c.chain})
		require.Equal(t, 422, status, name)
		require.Contains(t, words, c.says, name)
	}
	strange, err := ca.NewGateway(rand.Reader, time.Now(), "elsewhere.tern.example")
	require.NoError(t, err)
	key, err := strange.KeyDER()
	require.NoError(t, err)
	status, words := refused(t, d.Client, "PUT", "/certificates/gate", map[string]string{
		"chain": string(strange.PEM()), "key": string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key})),
	})
	require.Equal(t, 409, status, "what a running tunnel shows is held against it as at a commit")
	require.Contains(t, words, "certificate gate is shown by main, and with this one in its place")
	status, words = refused(t, d.Client, "DELETE", "/certificates/gate", nil)
	require.Equal(t, 409, status)
	require.Contains(t, words, "tunnels/main")
	status, _ = refused(t, d.Client, "POST", "/certificates/gate/revoke", map[string]string{"reason": "x"})
	require.Equal(t, 422, status, "another authority's certificate is not ours to revoke")

	// Every serial that was signed is kept, also of what was replaced, and can be revoked; whoever asks is given the list.
	ok("certificate", "make", "gate", "--for", "gate.tern.example")
	older := authorityOf(t, d)
	ok("certificate", "make", "gate", "--for", "gate.tern.example")
	serial, good := new(big.Int).SetString(older, 10)
	require.True(t, good)
	require.Contains(t, squeezed(ok("certificate", "issued")), serial.Text(16)+" gate gate.tern.example")
	ok("certificate", "revoke", "gate", "--serial", serial.Text(16), "--because", "its key was copied")
	tn, err = login(t, d, "rory.researcher")
	require.NoError(t, err, "the one that is shown is another")
	tn.Close()
	resp, err := http.Get(d.URL() + "/authority.crl")
	require.NoError(t, err)
	defer resp.Body.Close()
	der, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	open, err := x509.ParseRevocationList(der)
	require.NoError(t, err)
	require.Equal(t, serial, open.RevokedCertificateEntries[0].SerialNumber)

	// Revoked, a certificate is on the list and counts as none.
	pair, err := d.Store.Certificate(t.Context(), "gate")
	require.NoError(t, err)
	ok("certificate", "revoke", "gate", "--because", "the jetty was broken into")
	s, err := client.Get[running.Status](t.Context(), d.Client, "/status")
	require.NoError(t, err)
	require.Zero(t, s.Runs, "it is shown to nobody from that moment")
	require.Contains(t, s.Problem, "certificate gate, which tunnel main shows, is revoked")
	_, err = login(t, d, "rory.researcher")
	require.Error(t, err)
	list, _ := pem.Decode([]byte(ok("certificate", "revoked")))
	crl, err := x509.ParseRevocationList(list.Bytes)
	require.NoError(t, err)
	own, _ := pem.Decode([]byte(ok("certificate", "authority")))
	authority, err := x509.ParseCertificate(own.Bytes)
	require.NoError(t, err)
	require.NoError(t, crl.CheckSignatureFrom(authority))
	require.Equal(t, pair.Leaf.SerialNumber, crl.RevokedCertificateEntries[1].SerialNumber)
	out, exit, _ := x.run("plan", "check", "--severity", "stop", write(t, d.Scenario.Plan))
	require.Equal(t, 1, exit)
	require.Contains(t, squeezed(out), `there is no certificate "gate"`)

	// What ends soon is made anew by itself, for the same names; what does not is left alone.
	before := authorityOf(t, d)
	require.NoError(t, d.App.Trust.Renew(t.Context(), time.Now()))
	require.Equal(t, before, authorityOf(t, d))
	require.NoError(t, d.App.Trust.Renew(t.Context(), time.Now().Add(360*24*time.Hour)))
	require.NotEqual(t, before, authorityOf(t, d))
	journaled(t, d, "trust", "was made anew before its end")
	ok("certificate", "make", "gate", "--for", "gate.tern.example")
	s, err = client.Get[running.Status](t.Context(), d.Client, "/status")
	require.NoError(t, err)
	require.Empty(t, s.Problem)
	tn, err = login(t, d, "rory.researcher")
	require.NoError(t, err)
	require.NoError(t, ping(t, tn, "10.20.30.5"))
}

// authorityOf is the serial number of the certificate that the gateway shows.
func authorityOf(t *testing.T, d *tour.Demo) string {
	pair, err := d.Store.Certificate(t.Context(), "gate")
	require.NoError(t, err)
	return pair.Leaf.SerialNumber.String()
}

// provider publishes names for who has its token, and writes down what it is asked.
type provider struct {
	*httptest.Server
	mu  sync.Mutex
	all []string
}

func (p *provider) asked() []string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return slices.Clone(p.all)
}

func called(t *testing.T, token, answer string) *provider {
	p := &provider{}
	p.Server = httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		p.mu.Lock()
		defer p.mu.Unlock()
		p.all = append(p.all, r.Method+" "+r.URL.String()+" "+r.Header.Get("Authorization"))
		if r.Header.Get("Authorization") != "Bearer "+token {
			w.WriteHeader(http.StatusForbidden)
		}
		_, _ = w.Write([]byte(answer))
	}))
	t.Cleanup(p.Close)
	return p
}

// The dialled name follows the public address at a real name server, and what keeps it from doing so is told once.
func TestNameFollowsAddress(t *testing.T) {
	server := nameserver.Start(t)
	var mu sync.Mutex
	has := []netip.Addr{mustAddr("192.0.2.10"), mustAddr("2001:db8:10::10")}
	move := func(words ...string) {
		mu.Lock()
		defer mu.Unlock()
		has = nil
		for _, w := range words {
			has = append(has, mustAddr(w))
		}
	}
	good, stubborn := called(t, "token-of-tern", "updated"), called(t, "another", "no")
	d := island(t, func(o *instance.Options) {
		o.Roots = x509.NewCertPool()
		o.Roots.AddCert(good.Certificate())
		o.OutsideAddresses = func(string) ([]netip.Addr, error) {
			mu.Lock()
			defer mu.Unlock()
			if len(has) == 0 {
				return nil, fmt.Errorf("the line is down")
			}
			return has, nil
		}
	})
	x := newTerminal(t, d)
	text, exit, err := x.run("secret", "keep", "jetty-update", "--from-file", write(t, nameserver.Secret+"\n"))
	require.NoError(t, err, text)
	require.Zero(t, exit)
	recommit(t, d, "    outside:\n", fmt.Sprintf("    outside:\n      changes: true\n      update: {server: %q, zone: tern.example, key: jetty-update, every: 10s, ttl: 30s}\n", server))
	journaled(t, d, "name", "the name gate.tern.example leads to 192.0.2.10, 2001:db8:10::10 now")
	text, _, err = x.run("status")
	require.NoError(t, err)
	require.Contains(t, squeezed(text), "✓ name: gate.tern.example leads to 192.0.2.10, 2001:db8:10::10")

	// Two providers without DNS UPDATE are called besides; what one of them refuses is told, and keeps the other from nothing.
	text, exit, err = x.run("secret", "keep", "registrar", "--kind", "password", "--from-file", write(t, "token-of-tern\n"))
	require.NoError(t, err, text)
	require.Zero(t, exit)
	recommit(t, d, "    outside:\n", fmt.Sprintf("    outside:\n      changes: true\n      calls:\n"+
		"        - {name: registrar, url: %q, secret: registrar, answers: [updated], every: 10s}\n"+
		"        - {name: stubborn, method: get, url: %q, secret: registrar, user: jetty, every: 10s}\n"+
		"      update: {server: %q, zone: tern.example, key: jetty-update, every: 10s, ttl: 30s}\n",
		good.URL+"/{name}/{ipv4}", stubborn.URL+"/?a={ipv4}&b={ipv6}", server))
	journaled(t, d, "name", "the name gate.tern.example, by call registrar leads to 192.0.2.10, 2001:db8:10::10 now")
	journaled(t, d, "name", "by call stubborn is not kept up to date: the update is refused: it answers 403")
	require.Contains(t, good.asked(), "POST /gate.tern.example/192.0.2.10 Bearer token-of-tern")
	require.Contains(t, stubborn.asked()[0], "GET /?a=192.0.2.10&b=2001%3Adb8%3A10%3A%3A10 Basic")
	text, exit, _ = x.run("status")
	require.Equal(t, 1, exit)
	require.Contains(t, squeezed(text), "✓ name: call registrar told 192.0.2.10, 2001:db8:10::10")
	require.Contains(t, squeezed(text), "✗ name: gate.tern.example is not kept up to date by call stubborn")
	require.NotContains(t, text, "token-of-tern")
	move("192.0.2.11")
	require.Eventually(t, func() bool {
		return slices.Contains(good.asked(), "POST /gate.tern.example/192.0.2.11 Bearer token-of-tern")
	},
		14*time.Second, 100*time.Millisecond)
	require.Len(t, good.asked(), 2, "only when something changed")

	// A call that is described otherwise from now on is made anew, though nothing else changed; the others are not.
	recommit(t, d, "    outside:\n", fmt.Sprintf("    outside:\n      changes: true\n      calls:\n"+
		"        - {name: registrar, url: %q, secret: registrar, answers: [updated], every: 10s}\n"+
		"      update: {server: %q, zone: tern.example, key: jetty-update, every: 10s, ttl: 30s}\n",
		good.URL+"/moved/{name}/{ipv4}", server))
	require.Eventually(t, func() bool { return len(good.asked()) == 3 }, 20*time.Second, 50*time.Millisecond)
	require.Equal(t, "POST /moved/gate.tern.example/192.0.2.11 Bearer token-of-tern", good.asked()[2])
	require.Eventually(t, func() bool {
		o, err := client.Get[watching.Outside](t.Context(), d.Client, "/outside")
		return err == nil && len(o.Published) == 1 && o.Published[0] == mustAddr("192.0.2.11")
	}, 14*time.Second, 100*time.Millisecond)

	// Secrets are told once, and never again.
	made := client.Get[[]trust.SharedSecret]
	all, err := made(t.Context(), d.Client, "/secrets")
	require.NoError(t, err)
	require.Empty(t, all[0].Value)
	text, _, err = x.run("secret", "make", "radius", "--kind", "shared-key")
	require.NoError(t, err)
	require.Regexp(t, `[A-Za-z0-9+/]{43}=`, text)
	_, exit, err = x.run("secret", "keep", "weak", "--kind", "shared-key", "--from-file", write(t, "terns"))
	require.Equal(t, 4, exit)
	require.ErrorContains(t, err, "can be guessed")
	text, _, err = x.run("secret", "list")
	require.NoError(t, err)
	require.NotContains(t, text, nameserver.Secret)
}
