package e2e

import (
	"bytes"
	"cmp"
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/binary"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/algorithm"
	"yellowlantern/internal/instance"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/underlay"
)

// tap stands between a device and a vantage's link and writes down every packet.
type tap struct {
	mu      sync.Mutex
	capture bytes.Buffer
	addr    netip.AddrPort
}

func newTap(t *testing.T, link netip.AddrPort) *tap {
	in, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(netip.MustParseAddrPort("127.0.0.1:0")))
	require.NoError(t, err)
	out, err := net.DialUDP("udp", nil, net.UDPAddrFromAddrPort(link))
	require.NoError(t, err)
	t.Cleanup(func() { in.Close(); out.Close() })
	x := &tap{addr: in.LocalAddr().(*net.UDPAddr).AddrPort()}
	// The classic capture format: microseconds, raw IP packets (link type 101).
	for _, v := range []any{uint32(0xa1b2c3d4), uint16(2), uint16(4), int32(0), uint32(0), uint32(65535), uint32(101)} {
		_ = binary.Write(&x.capture, binary.LittleEndian, v)
	}
	var device netip.AddrPort
	go func() {
		buf := make([]byte, 4096)
		for {
			n, from, err := in.ReadFromUDPAddrPort(buf)
			if err != nil {
				return
			}
			x.mu.Lock()
			device = from
			x.mu.Unlock()
			x.write(buf[:n])
			_, _ = out.Write(buf[:n])
		}
	}()
	go func() {
		buf := make([]byte, 4096)
		for {
			n, err := out.Read(buf)
			if err != nil {
				return
			}
			x.write(buf[:n])
			x.mu.Lock()
			to := device
			x.mu.Unlock()
			_, _ = in.WriteToUDPAddrPort(buf[:n], to)
		}
	}()
	return x
}

func (x *tap) write(b []byte) {
	if b[0] == 0 {
		return
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	now := time.Now()
	for _, v := range []uint32{uint32(now.Unix()), uint32(now.Nanosecond() / 1000), uint32(len(b)), uint32(len(b))} {
		_ = binary.Write(&x.capture, binary.LittleEndian, v)
	}
	x.capture.Write(b)
}

func (x *tap) save(t *testing.T, path string) {
	x.mu.Lock()
	defer x.mu.Unlock()
	require.NoError(t, os.WriteFile(path, x.capture.Bytes(), 0o600))
}

// An independent packet analyser decrypts and authenticates a whole login and some traffic, from the key log alone, and has
// nothing to complain about: under everything that it knows: AES-GCM, AES-CBC and 3DES, each HMAC and PRF, and groups of
// both kinds.
func TestPacketAnalyser(t *testing.T) {
	for _, words := range []string{
		"AES-256-GCM-16, PRF-HMAC-SHA2-256, X25519", "AES-128-GCM-16, PRF-HMAC-SHA2-384, P-384", "AES-256-GCM-16, PRF-HMAC-SHA2-512, P-521",
		"AES-128-GCM-16, PRF-HMAC-SHA2-256, P-256", "AES-256-CBC, HMAC-SHA2-256-128, PRF-HMAC-SHA2-256, MODP-2048",
		"AES-128-CBC, HMAC-SHA2-512-256, PRF-HMAC-SHA2-512, MODP-3072", "AES-256-CBC, HMAC-SHA2-384-192, PRF-HMAC-SHA2-384, MODP-4096",
		"3DES-CBC, HMAC-SHA1-96, PRF-HMAC-SHA1, MODP-1024",
	} {
		t.Run(words, func(t *testing.T) { analyse(t, words, false) })
	}
	for _, words := range []string{
		"AES-256-GCM-16, PRF-HMAC-SHA2-256, X25519", "AES-128-CBC, HMAC-SHA2-256-128, PRF-HMAC-SHA2-256, MODP-2048",
	} {
		t.Run("in parts by "+words, func(t *testing.T) { analyse(t, words, true) })
	}
}

// longChain makes the gateway show a certificate with three authorities before the one that devices trust: more than one part holds.
func longChain(t *testing.T, x terminal) {
	dir := t.TempDir()
	csr := filepath.Join(dir, "gate.csr")
	_, _, err := x.run("certificate", "request", "gate", "--for", "gate.tern.example", "--out", csr)
	require.NoError(t, err)
	text, err := os.ReadFile(csr)
	require.NoError(t, err)
	block, _ := pem.Decode(text)
	request, err := x509.ParseCertificateRequest(block.Bytes)
	require.NoError(t, err)
	var above *x509.Certificate
	var key crypto.Signer
	var chain []byte
	sign := func(template *x509.Certificate, public any) *x509.Certificate {
		template.NotBefore, template.NotAfter = time.Now().Add(-time.Hour), time.Now().Add(100*24*time.Hour)
		der, err := x509.CreateCertificate(rand.Reader, template, cmp.Or(above, template), public, key)
		require.NoError(t, err)
		chain = append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), chain...)
		made, err := x509.ParseCertificate(der)
		require.NoError(t, err)
		return made
	}
	for n := range 4 { // the first signs itself
		next, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		require.NoError(t, err)
		if key == nil {
			key = next
		}
		above, key = sign(&x509.Certificate{
			SerialNumber: big.NewInt(int64(n + 2)), Subject: pkix.Name{CommonName: fmt.Sprintf("Skua Point, authority below %d", n)}, IsCA: true,
			BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign,
		}, next.Public()), next
	}
	sign(&x509.Certificate{
		SerialNumber: big.NewInt(9), Subject: request.Subject, DNSNames: request.DNSNames, KeyUsage: x509.KeyUsageDigitalSignature,
	}, request.PublicKey)
	path := filepath.Join(dir, "gate.pem")
	require.NoError(t, os.WriteFile(path, chain, 0o600))
	said, _, err := x.run("certificate", "import", "gate", "--chain", path)
	require.NoError(t, err, said)
}

func analyse(t *testing.T, words string, parts bool) {
	if _, err := exec.LookPath("tshark"); err != nil {
		if os.Getenv("CI") != "" {
			t.Fatal("tshark is missing: make apt-test installs it")
		}
		t.Skip("tshark is missing: make apt-test installs it")
	}
	folder := t.TempDir()
	gatewayLog, deviceLog, capture := filepath.Join(folder, "gateway.keys"), filepath.Join(folder, "device.keys"),
		filepath.Join(folder, "login.pcap")
	d := island(t, func(o *instance.Options) { o.KeyLog = gatewayLog })
	var items []string
	kinds := map[string][]string{}
	for _, w := range strings.Split(words, ", ") {
		for _, k := range algorithm.Kinds {
			if _, ok := algorithm.Named(k, w); ok {
				kinds[k.String()] = append(kinds[k.String()], w)
			}
		}
	}
	for kind, list := range kinds {
		items = append(items, kind+": ["+strings.Join(list, ", ")+"]")
	}
	x := newTerminal(t, d)
	changed := strings.Replace(d.Scenario.Plan, "{level: strict}", "{"+strings.Join(items, ", ")+"}", 1)
	text, exit, err := x.run("plan", "load", write(t, changed))
	require.NoError(t, err, text)
	require.Zero(t, exit)
	text, exit, err = x.run("plan", "commit", "-m", words, "--accept", "all", "--because", "it is a trial")
	require.NoError(t, err, text)
	require.Zero(t, exit)
	if parts {
		longChain(t, x)
	}
	tapped := newTap(t, d.Lab.Vantages()[0].Link)
	u, err := underlay.Vantage(t.Context(), tapped.addr)
	require.NoError(t, err)
	keys, err := os.Create(deviceLog)
	require.NoError(t, err)
	tn, err := probe.Open(t.Context(), u, order(t, d, "rory.researcher"),
		probe.Options{Password: d.Passwords["rory.researcher"], KeyLog: keys})
	require.NoError(t, err)
	require.Equal(t, words, tn.Given.Algorithms)
	for _, dst := range []string{"10.20.30.5", "fd00:20:30::5"} {
		ctx, cancel := context.WithTimeout(t.Context(), 3*time.Second)
		_, err = tn.Stack.Ping(ctx, netip.MustParseAddr(dst), tn.Send)
		cancel()
		require.NoError(t, err)
	}
	c, err := tn.Stack.DialTCP(t.Context(), netip.MustParseAddrPort("10.20.30.5:80"))
	require.NoError(t, err)
	fmt.Fprint(c, "GET / HTTP/1.0\r\n\r\n")
	_ = c.SetReadDeadline(time.Now().Add(2 * time.Second))
	n, err := c.Read(make([]byte, 1000))
	require.NoError(t, err)
	require.Positive(t, n)
	tn.Close()
	time.Sleep(200 * time.Millisecond)
	u.Close()
	tapped.save(t, capture)

	// Both sides log the same keys.
	rows := map[string][]string{}
	for _, path := range []string{gatewayLog, deviceLog} {
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		rows[path] = strings.Split(strings.TrimSpace(string(text)), "\n")
		require.Len(t, rows[path], 3, "one IKE SA, two directions of ESP")
	}
	require.ElementsMatch(t, rows[gatewayLog], rows[deviceLog])

	args := []string{
		"-r", capture, "-T", "json", "-o", "esp.enable_encryption_decode:TRUE", "-o", "esp.enable_authentication_check:TRUE",
		"-o", "ip.check_checksum:TRUE", "-o", "udp.check_checksum:TRUE", "-o", "tcp.check_checksum:TRUE",
	}
	for _, row := range rows[gatewayLog] {
		args = append(args, "-o", "uat:"+row)
	}
	out, err := exec.Command("tshark", args...).Output()
	require.NoError(t, err)
	var frames []struct {
		Source struct {
			Layers map[string]json.RawMessage `json:"layers"`
		} `json:"_source"`
	}
	require.NoError(t, json.Unmarshal(out, &frames))
	sealedIKE, opened, espSeen, espGood := 0, 0, 0, 0
	all := string(out)
	for _, f := range frames {
		if _, quoted := f.Source.Layers["icmp"]; quoted && f.Source.Layers["esp"] == nil {
			continue // the device's socket closed before the last answer came
		}
		if isakmp, ok := f.Source.Layers["isakmp"]; ok && bytes.Contains(isakmp, []byte("isakmp.enc.iv")) {
			sealedIKE++
			if bytes.Contains(isakmp, []byte("isakmp.enc.decrypted")) {
				opened++
			}
		}
		if esp, ok := f.Source.Layers["esp"]; ok {
			espSeen++
			if bytes.Contains(esp, []byte(`"esp.icv_good": "1"`)) {
				espGood++
			}
		}
	}
	if parts {
		require.Contains(t, all, "isakmp.fragments", "put together by the analyser")
		require.Greater(t, sealedIKE, 12)
	} else {
		require.Equal(t, 12, sealedIKE, "five exchanges of IKE_AUTH and the deletion, there and back")
	}
	require.Equal(t, sealedIKE, opened, "every IKE message decrypts")
	require.Greater(t, espSeen, 8)
	require.Equal(t, espSeen, espGood, "every ESP packet is authentic")
	require.Contains(t, all, "This is records of Tern Island", "the page is readable inside")
	require.Contains(t, all, "rory.researcher")
	require.NotContains(t, all, "_ws.malformed")
	require.NotContains(t, all, "Bad checksum")
	require.NotContains(t, all, "Incorrect")
}
