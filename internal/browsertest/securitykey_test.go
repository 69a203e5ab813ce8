package browsertest

import (
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"io"
	"net"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/webauthn"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"yellowlantern/internal/client"
	"yellowlantern/internal/core/onetime"
	"yellowlantern/internal/probe"
	isle "yellowlantern/internal/testkit/island"
	"yellowlantern/internal/underlay"
)

// plugIn gives the browser a security key, which is touched whenever it is asked.
func (p page) plugIn() {
	_, err := chromedp.Call(p.ctx, webauthn.Enable, webauthn.EnableParams{})
	require.NoError(p.t, err)
	_, err = chromedp.Call(p.ctx, webauthn.AddVirtualAuthenticator, webauthn.AddVirtualAuthenticatorParams{
		Options: &webauthn.VirtualAuthenticatorOptions{
			Protocol: webauthn.AuthenticatorProtocolCtap2, Transport: webauthn.AuthenticatorTransportUsb, AutomaticPresenceSimulation: true,
		},
	})
	require.NoError(p.t, err)
}

// fill types into a field in place of what is in it.
func (p page) fill(id, text string) {
	p.do(chromedp.WaitVisible(chromedp.CSS(id)))
	p.script(`(() => { const e = document.querySelector('` + id + `'); e.value = ''; e.dispatchEvent(new Event('input')); })()`)
	p.do(chromedp.SendKeys(chromedp.CSS(id), text))
}

func (p page) press(id string) {
	p.do(chromedp.WaitVisible(chromedp.CSS(id)), chromedp.Click(chromedp.CSS(id)))
}

// An administrator adds a security key, and signs in by touching it, where the console is opened by a name.
func TestSecurityKeyOfAnAdministrator(t *testing.T) {
	d, p := start(t)
	at := strings.Replace(d.URL(), "127.0.0.1", "localhost", 1)
	p.plugIn()
	p.do(chromedp.Navigate(at + "/access"))
	p.fill("#password", d.Admin)
	p.press("#enter")
	p.do(chromedp.WaitVisible(chromedp.CSS(".board")), chromedp.Navigate(at+"/access"))
	p.press("#begin-key")
	p.fill("#own-password", d.Admin)
	p.press("#add-key")
	p.until(bodyText, "my security key is added")
	require.Len(t, strings.Fields(p.script(`document.querySelector('#recovery').innerText`)), 10)
	p.shot("access-key")
	p.script(`fetch('/api/v1/sign-out', {method: 'POST'}).then(() => location.assign('/'))`)
	p.fill("#password", d.Admin)
	p.press("#enter")
	p.do(chromedp.WaitVisible(chromedp.CSS("#by-key")))
	p.shot("sign-in-key")
	p.press("#by-key")
	p.do(chromedp.WaitVisible(chromedp.CSS(".board")))
}

// On the code page, through a real tunnel and under its own name, somebody adds a security key beside a code, and is held no more by
// touching it the next time.
func TestSecurityKeyOnTheCodePage(t *testing.T) {
	d, _ := start(t)
	text := strings.NewReplacer("    internet: true\n", "    internet: true\n    code-page: {name: code.tern.example, addresses: [10.99.255.1, \"fd00:99:ffff::1\"]}\n",
		isle.Waived, "    second-factor: {asked: true}\n").Replace(d.Scenario.Plan)
	secret, err := onetime.New(onetime.ByTime)
	require.NoError(t, err)
	for _, user := range []string{"rory.researcher", "both.birdwatcher"} {
		_, err = d.People.AddFactor(t.Context(), user, "", secret, nil, "")
		require.NoError(t, err)
	}
	require.NoError(t, d.Client.Do(t.Context(), "PUT", "/drafts/asks", map[string]any{"text": text, "version": 0}, nil))
	require.NoError(t, d.Client.Do(t.Context(), "POST", "/drafts/asks/commit", map[string]any{"message": "asks"}, nil))
	connect := func() *probe.Tunnel {
		o, err := client.Get[probe.Order](t.Context(), d.Client, "/probes/order?user=rory.researcher")
		require.NoError(t, err)
		dev, err := underlay.Vantage(t.Context(), d.Lab.Vantages()[0].Link)
		require.NoError(t, err)
		t.Cleanup(dev.Close)
		tn, err := probe.Open(t.Context(), dev, o, probe.Options{Password: d.Passwords["rory.researcher"]})
		require.NoError(t, err)
		t.Cleanup(tn.Close)
		return tn
	}
	var tn *probe.Tunnel
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go relay(l, func() (net.Conn, error) {
		return tn.Stack.DialTCP(t.Context(), netip.MustParseAddrPort("10.99.255.1:443"))
	})
	pair, err := d.Store.Certificate(t.Context(), "code")
	require.NoError(t, err)
	leaf, err := x509.ParseCertificate(pair.DER)
	require.NoError(t, err)
	sum := sha256.Sum256(leaf.RawSubjectPublicKeyInfo)
	p := browse(t, chromedp.Flag("host-resolver-rules", "MAP code.tern.example "+l.Addr().String()),
		chromedp.Flag("ignore-certificate-errors-spki-list", base64.StdEncoding.EncodeToString(sum[:])))
	p.plugIn()
	tn = connect()
	p.do(chromedp.Navigate("https://code.tern.example/"))
	p.until(bodyText, "One step is left")
	p.shot("code-page-key")
	p.fill("#code", secret.Code(onetime.At(time.Now())))
	p.script(`document.querySelector('#add summary').click()`)
	p.press("#add button")
	p.until(bodyText, "The security key is added")
	p.until(bodyText, "You are connected")
	p.shot("code-page-added")
	tn.Close()
	tn = connect()
	p.do(chromedp.Navigate("https://code.tern.example/"))
	p.until(bodyText, "One step is left")
	p.press("#key button")
	p.until(bodyText, "You are connected")
}

// relay carries connections to where dial leads.
func relay(l net.Listener, dial func() (net.Conn, error)) {
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		go func() {
			defer c.Close()
			to, err := dial()
			if err != nil {
				return
			}
			defer to.Close()
			go func() { _, _ = io.Copy(to, c); _ = to.Close() }()
			_, _ = io.Copy(c, to)
		}()
	}
}
