package e2e

import (
	"context"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/eap"
	"yellowlantern/internal/core/onetime"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/people"
	"yellowlantern/internal/people/remote"
	"yellowlantern/internal/store"
	"yellowlantern/internal/tour"
)

const sharedSecret = "mosaic-ferry-lantern-plover"

// switches is Tern Island with equipment that asks the service about people, by ways.
func switches(t *testing.T, ways string, more ...string) (d *tour.Demo, x terminal, port int) {
	c, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	port = c.LocalAddr().(*net.UDPAddr).Port
	require.NoError(t, c.Close())
	d = island(t, nil)
	x = newTerminal(t, d)
	x.did("secret", "keep", "jetty", "--kind", "password", "--from-file", write(t, sharedSecret+"\n"))
	text := strings.Replace(d.Scenario.Plan, "\npassages:\n", fmt.Sprintf("\nequipment-at: 127.0.0.1\nequipment-port: %d\nequipment:\n"+
		"  - {name: jetty, secret: jetty, certificate: gate, addresses: [127.0.0.1/32], groups: [researchers, wardens], logins: [%s]%s,\n"+
		"     gives: [{users: [wanda.warden], vlan: 30, address: 10.20.30.77}, {groups: [researchers], vlan: 20}]}\n\npassages:\n", port, ways, strings.Join(more, "")), 1)
	x.did("plan", "load", write(t, text))
	x.did("plan", "commit", "-m", "equipment", "--accept", "all", "--because", "trial")
	require.Eventually(t, func() bool {
		return strings.Contains(ask(t, port, "status", sharedSecret), "Received Access-Accept")
	}, 30*time.Second, 100*time.Millisecond, "it answers whether it is there")
	return d, x, port
}

// asked has the tool of another RADIUS server ask about somebody.
func asked(t *testing.T, port int, secret string, attributes ...string) string {
	t.Helper()
	return ask(t, port, "auth", secret, attributes...)
}

func ask(t *testing.T, port int, kind, secret string, attributes ...string) string {
	t.Helper()
	cmd := exec.Command("radclient", "-x", "-r", "1", "-t", "4", fmt.Sprintf("127.0.0.1:%d", port), kind, secret)
	all := append(slices.Clone(attributes), "Message-Authenticator=0x00")
	cmd.Stdin = strings.NewReader(strings.Join(all, "\n") + "\n")
	out, _ := cmd.CombinedOutput()
	return string(out)
}

// The network's other equipment lets in the same people, by each way that it may, and is told what to do with them; others, and those who
// may
// not, are refused, counted and journalled as at the gateway.
func TestEquipment(t *testing.T) {
	d, x, port := switches(t, "password, ms-chapv2, eap-mschapv2, eap-ttls")
	rory, wanda := d.Passwords["rory.researcher"], d.Passwords["wanda.warden"]
	out := asked(t, port, sharedSecret, "User-Name=rory.researcher", "User-Password="+rory, "Proxy-State=0x0102")
	require.Contains(t, out, "Received Access-Accept")
	for _, told := range []string{
		`Filter-Id = "researchers"`, `Tunnel-Private-Group-Id:0 = "20"`, "Tunnel-Type:0 = VLAN", "Tunnel-Medium-Type:0 = IEEE-802",
		`User-Name = "rory.researcher"`, "Proxy-State = 0x0102",
	} {
		require.Contains(t, out, told)
	}
	journaled(t, d, "equipment", "jetty was told to let them in, for researchers")
	out = asked(t, port, sharedSecret, "User-Name=wanda.warden", "User-Password="+wanda)
	require.Contains(t, out, `Tunnel-Private-Group-Id:0 = "30"`)
	require.Contains(t, out, "Framed-IP-Address = 10.20.30.77")

	for name, ask := range map[string][]string{
		"a wrong password": {"User-Name=wanda.warden", "User-Password=no"},
		"another group":    {"User-Name=vera.volunteer", "User-Password=" + d.Passwords["vera.volunteer"]},
		"nobody":           {"User-Name=nobody", "User-Password=no"},
		"no way at all":    {"User-Name=rory.researcher"},
	} {
		require.Contains(t, asked(t, port, sharedSecret, ask...), "Received Access-Reject", name)
	}
	journaled(t, d, "equipment", "it lets in people of other groups than volunteers")
	require.Contains(t, x.did("slowed", "list"), "wanda.warden", "guesses wait here as everywhere")
	x.did("slowed", "lift")
	require.NotContains(t, asked(t, port, "another secret, though", "User-Name=rory.researcher", "User-Password="+rory), "Received")
	journaled(t, d, "equipment", "equipment jetty asks from 127.0.0.1 with another secret than the one kept for it")

	// An answer to a challenge, by our own other side of it: the tool at hand has the first version of MS-CHAP alone.
	r, err := remote.New(plan.Source{Name: "back", Kind: plan.KindRADIUS, Servers: []string{fmt.Sprintf("radius://127.0.0.1:%d", port)}},
		remote.Secrets{Shared: func(context.Context) (string, error) { return sharedSecret, nil }}, nil)
	require.NoError(t, err)
	var key []byte
	c := eap.Converse(eap.ByMSCHAPv2(rand.Reader, "", func(k eap.Check) eap.Verdict {
		_, v, err := r.Challenge(t.Context(), netip.Addr{}, k, nil)
		require.NoError(t, err)
		key = v.MSK
		return v
	}))
	device, message := eap.NewPeer(rand.Reader, "wanda.warden", wanda), c.Next(nil).Send
	for done := false; !done; {
		var answer []byte
		answer, done, err = device.Handle(message)
		require.NoError(t, err)
		if !done {
			message = c.Next(answer).Send
		}
	}
	require.Equal(t, device.MSK(), key)

	u := people.User{Name: "rory.researcher", Groups: []string{"researchers"}, Off: true}
	require.NoError(t, d.People.Change(t.Context(), u))
	require.Contains(t, asked(t, port, sharedSecret, "User-Name=rory.researcher", "User-Password="+rory), "Received Access-Reject")
	x.did("slowed", "lift")
	u.Off, u.Until = false, time.Now().Add(time.Hour)
	require.NoError(t, d.People.Change(t.Context(), u))
	require.Regexp(t, `Session-Timeout = 3[56]\d\d`, asked(t, port, sharedSecret, "User-Name=rory.researcher", "User-Password="+rory))
}

// Where equipment asks can be changed while it does.
func TestEquipmentMoves(t *testing.T) {
	d, x, port := switches(t, "password")
	rory := d.Passwords["rory.researcher"]
	until, stop := context.WithCancel(t.Context())
	var asking sync.WaitGroup
	for range 4 {
		asking.Go(func() {
			for until.Err() == nil {
				ask(t, port, "auth", sharedSecret, "User-Name=nobody", "User-Password=no")
			}
		})
	}
	c, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	next := c.LocalAddr().(*net.UDPAddr).Port
	require.NoError(t, c.Close())
	x.did("plan", "set", "equipment-port", fmt.Sprint(next))
	x.did("plan", "commit", "-m", "moved", "--accept", "all", "--because", "trial")
	require.Eventually(t, func() bool {
		return strings.Contains(ask(t, next, "auth", sharedSecret, "User-Name=rory.researcher",
			"User-Password="+rory),
			"Received Access-Accept")
	}, 20*time.Second, 100*time.Millisecond)
	stop()
	asking.Wait()
}

// An independent supplicant logs in by EAP through equipment, and finds the keys that the equipment is told.
func TestEquipmentByEAP(t *testing.T) {
	d, _, port := switches(t, "eap-ttls, eap-mschapv2, eap-tls")
	folder := t.TempDir()
	mine, key := filepath.Join(folder, "rory.pem"), filepath.Join(folder, "rory.key")
	fingerprint := certified(t, d, "rory.researcher", mine, key)
	authority := write(t, order(t, d, "rory.researcher").Authority)
	for name, settings := range map[string]string{
		"PAP inside TTLS":       "eap=TTLS\nphase2=\"auth=PAP\"",
		"MS-CHAPv2 inside TTLS": "eap=TTLS\nphase2=\"auth=MSCHAPV2\"",
		"small parts":           "eap=TTLS\nphase2=\"auth=PAP\"\nfragment_size=200",
		"EAP-MSCHAPv2":          "eap=MSCHAPV2",
		"a certificate":         "eap=TLS\nclient_cert=\"" + mine + "\"\nprivate_key=\"" + key + "\"",
	} {
		for _, right := range []bool{true, false} {
			password := d.Passwords["rory.researcher"]
			if !right {
				password = "not this one, though"
				if strings.HasPrefix(settings, "eap=TLS") {
					_, err := d.People.RevokeKey(t.Context(), fingerprint)
					require.NoError(t, err)
				}
			}
			conf := filepath.Join(t.TempDir(), "conf")
			cmd := exec.Command("eapol_test", "-c", conf, "-a", "127.0.0.1", "-p", fmt.Sprint(port), "-s", sharedSecret, "-t", "10")
			require.NoError(t, os.WriteFile(conf, []byte("network={\nkey_mgmt=IEEE8021X\nidentity=\"rory.researcher\"\nanonymous_identity=\"somebody\"\nca_cert=\""+authority+
				"\"\npassword=\""+password+"\"\n"+settings+"\n}\n"), 0o600))
			out, err := cmd.CombinedOutput()
			require.Equal(t, right, err == nil, "%s: %s", name, out[max(0, len(out)-1500):])
			if right {
				require.Contains(t, string(out), "MPPE keys OK: 1  mismatch: 0", name)
			}
			d.People.Guesses.Lift("", netip.Addr{}, nil)
		}
	}
	require.Contains(t, asked(t, port, sharedSecret, "User-Name=rory.researcher", "User-Password=x"), "Received Access-Reject")
	journaled(t, d, "equipment", "it asks by a way that the plan does not let it have people log in by")
}

// certified issues somebody a certificate of the own authority, writes it and its key into files, and gives the key's fingerprint.
func certified(t *testing.T, d *tour.Demo, user, certificate, key string) string {
	ctx := t.Context()
	ca, err := d.App.Trust.Store.Certificate(ctx, store.AuthorityName)
	require.NoError(t, err)
	private, err := cert.NewKey(rand.Reader)
	require.NoError(t, err)
	spki, err := x509.MarshalPKIXPublicKey(private.Public())
	require.NoError(t, err)
	der, err := x509.CreateCertificate(rand.Reader, &x509.Certificate{
		SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: user}, NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().Add(time.Hour), KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth},
	}, ca.Leaf, private.Public(), ca.Key)
	require.NoError(t, err)
	leaf, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	k, err := d.App.Members.People.AddKey(ctx, user, "laptop", spki, leaf)
	require.NoError(t, err)
	secret, err := x509.MarshalPKCS8PrivateKey(private)
	require.NoError(t, err)
	for path, block := range map[string]*pem.Block{
		certificate: {Type: "CERTIFICATE", Bytes: der},
		key: {
			Type:  "PRIVATE KEY",
			Bytes: secret,
		},
	} {
		require.NoError(t, os.WriteFile(path, pem.EncodeToMemory(block), 0o600))
	}
	return k.Fingerprint
}

// Equipment that asks for second factors asks once more, or takes the code behind the password; by a way without room for one whoever has
// one is refused, and who has none, unless the plan lets them in.
func TestEquipmentAsksForCodes(t *testing.T) {
	t.Parallel()
	d, x, port := switches(t, "password, eap-ttls", ", second-factor: true")
	rory := d.Passwords["rory.researcher"]
	secret, recovery := enrol(t, d, x, "rory.researcher")
	code := secret.Code(onetime.At(time.Now()) + 1)
	out := asked(t, port, sharedSecret, "User-Name=rory.researcher", "User-Password="+rory)
	require.Contains(t, out, "Received Access-Challenge")
	require.Contains(t, out, `Reply-Message = "Code: "`)
	state := regexp.MustCompile(`State = (0x[0-9a-f]+)`).FindStringSubmatch(out)[1]
	require.Contains(t, asked(t, port, sharedSecret, "User-Name=rory.researcher", "User-Password="+recovery[0], "State="+state),
		"Received Access-Accept")
	require.Contains(t, asked(t, port, sharedSecret, "User-Name=rory.researcher", "User-Password="+recovery[1], "State="+state),
		"No reply from server",
		"a state counts once")
	require.Contains(t, asked(t, port, sharedSecret, "User-Name=rory.researcher", "User-Password="+rory+code), "Received Access-Accept")
	require.Contains(t, asked(t, port, sharedSecret, "User-Name=rory.researcher", "User-Password="+rory+code), "Received Access-Reject")
	x.did("slowed", "lift")
	out = asked(t, port, sharedSecret, "User-Name=wanda.warden", "User-Password="+d.Passwords["wanda.warden"])
	require.Contains(t, out, "Received Access-Reject", "who has none does not get in by the password alone")
	require.Contains(t, squeezed(x.did("journal", "--user", "wanda.warden")), "a second factor is required and they have none")
	x.did("plan", "set", "equipment/jetty/factor-optional", "true")
	x.did("plan", "commit", "-m", "who has none", "--accept", "all", "--because", "this is a test")
	require.Eventually(t, func() bool {
		out := asked(t, port, sharedSecret, "User-Name=wanda.warden", "User-Password="+d.Passwords["wanda.warden"])
		return strings.Contains(out, "Received Access-Accept")
	}, 10*time.Second, 100*time.Millisecond, "unless the plan says so")
}
