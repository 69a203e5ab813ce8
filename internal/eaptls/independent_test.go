package eaptls

import (
	"bytes"
	"crypto/hmac"
	"crypto/md5" //nolint:staticcheck // RFC 3579 is made of it
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"layeh.com/radius"
	"layeh.com/radius/rfc2865"
	"layeh.com/radius/rfc2869"
	"layeh.com/radius/vendors/microsoft"

	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/eap"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/reason"
)

// relay carries logins of an independent program, which speaks RADIUS (RFC 3579), to conversations of ours, as an access point's server
// would.
func relay(t *testing.T, begin func() login.Conversation) (port int) {
	pc, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = pc.Close() })
	secret := []byte("testing")
	var talk login.Conversation
	go func() {
		buf := make([]byte, 4096)
		for {
			n, from, err := pc.ReadFrom(buf)
			if err != nil {
				return
			}
			in, err := radius.Parse(buf[:n], secret)
			if err != nil {
				continue
			}
			message, err := rfc2869.EAPMessage_Lookup(in)
			if err != nil {
				continue
			}
			var step login.Step
			if len(rfc2865.State_Get(in)) == 0 { // the program says who it is by itself: our question comes first
				talk = begin()
				question := talk.Next(nil)
				message[1] = question.Send[1]
			}
			step = talk.Next(message)
			out := in.Response(radius.CodeAccessChallenge)
			if step.Over {
				out.Code = radius.CodeAccessReject
				if step.OK {
					out.Code = radius.CodeAccessAccept
					_ = microsoft.MSMPPERecvKey_Set(out, step.Key[:32])
					_ = microsoft.MSMPPESendKey_Set(out, step.Key[32:])
				}
			}
			_ = rfc2865.State_Set(out, []byte("one"))
			_ = rfc2869.EAPMessage_Set(out, step.Send)
			_ = rfc2869.MessageAuthenticator_Set(out, make([]byte, 16))
			b, err := out.MarshalBinary()
			if err != nil {
				continue
			}
			copy(b[4:20], in.Authenticator[:])
			mac := hmac.New(md5.New, secret)
			mac.Write(b)
			_ = rfc2869.MessageAuthenticator_Set(out, mac.Sum(nil))
			if b, err = out.Encode(); err == nil {
				_, _ = pc.WriteTo(b, from)
			}
		}
	}()
	return pc.LocalAddr().(*net.UDPAddr).Port
}

// An independent program logs in by EAP-TTLS with PAP and with MS-CHAPv2 inside, under TLS 1.2 and 1.3, by EAP-MSCHAPv2, and by asking for
// another method than it was proposed; it finds the same keys as we do.
func TestIndependentPeer(t *testing.T) {
	program, err := exec.LookPath("eapol_test")
	if err != nil {
		if os.Getenv("CI") != "" {
			t.Fatal("eapol_test is missing: make apt-test installs it")
		}
		t.Skip("eapol_test is missing: make apt-test installs it")
	}
	ca, err := cert.NewAuthority(rand.Reader, time.Now(), "Tern Island")
	require.NoError(t, err)
	pair, err := ca.NewGateway(rand.Reader, time.Now(), gate)
	require.NoError(t, err)
	c, _ := credential(t)
	c.Certificate, c.PrivateKey = [][]byte{pair.DER}, pair.Key
	folder := t.TempDir()
	authority := filepath.Join(folder, "ca.pem")
	require.NoError(t, os.WriteFile(authority, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: ca.DER}), 0o600))
	const password = "gannet lantern mosaic ferry"
	check := func(k eap.Check) eap.Verdict { return k.Judge(eap.NTHash(password)) }
	ttls := func() eap.Method { return TTLS([]tls.Certificate{c}, Inner{Password: byPassword, Check: check}) }
	mschap := func() eap.Method { return eap.ByMSCHAPv2(rand.Reader, gate, check) }
	// A certificate of a person's, with its key.
	person := func(name string) string {
		pair, err := ca.NewGateway(rand.Reader, time.Now(), name)
		require.NoError(t, err)
		der, err := pair.KeyDER()
		require.NoError(t, err)
		at := filepath.Join(folder, name)
		require.NoError(t, os.WriteFile(at+".pem", pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: pair.DER}), 0o600))
		require.NoError(t, os.WriteFile(at+".key", pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), 0o600))
		return `eap=TLS client_cert="` + at + `.pem" private_key="` + at + `.key" `
	}
	rory, other := person("rory.researcher"), person("somebody.else")
	byKey := func() eap.Method {
		return TLS([]tls.Certificate{c}, func(chain [][]byte, public []byte) login.Outcome {
			leaf, err := x509.ParseCertificate(chain[0])
			if err != nil || string(leaf.RawSubjectPublicKeyInfo) != string(public) || leaf.Subject.CommonName != "rory.researcher" {
				return login.Outcome{Why: reason.Of(reason.KeyUnknown, nil)}
			}
			return login.Outcome{OK: true, User: "rory.researcher", Known: true}
		})
	}
	for name, x := range map[string]struct {
		settings string
		methods  []func() eap.Method
		ok       bool
	}{
		"certificate by TLS 1.2":     {rory + `phase1="tls_disable_tlsv1_3=1"`, []func() eap.Method{byKey}, true},
		"certificate by TLS 1.3":     {rory + `phase1="tls_disable_tlsv1_3=0"`, []func() eap.Method{byKey}, true},
		"certificate in small parts": {rory + `fragment_size=100`, []func() eap.Method{ttls, byKey}, true},
		"another's by TLS 1.2":       {other + `phase1="tls_disable_tlsv1_3=1"`, []func() eap.Method{byKey}, false},
		"another's by TLS 1.3":       {other + `phase1="tls_disable_tlsv1_3=0"`, []func() eap.Method{byKey}, false},
		"no certificate":             {`eap=TLS phase1="tls_disable_tlsv1_3=0"`, []func() eap.Method{byKey}, false},
		"PAP by TLS 1.2":             {`eap=TTLS phase2="auth=PAP" phase1="tls_disable_tlsv1_3=1"`, []func() eap.Method{ttls}, true},
		"PAP by TLS 1.3":             {`eap=TTLS phase2="auth=PAP" phase1="tls_disable_tlsv1_3=0"`, []func() eap.Method{ttls}, true},
		"MS-CHAPv2 by TLS 1.2":       {`eap=TTLS phase2="auth=MSCHAPV2" phase1="tls_disable_tlsv1_3=1"`, []func() eap.Method{ttls}, true},
		"GTC inside":                 {`eap=TTLS phase2="autheap=GTC"`, []func() eap.Method{ttls}, true},
		"GTC, a wrong password":      {`eap=TTLS phase2="autheap=GTC" password="no"`, []func() eap.Method{ttls}, false},
		"EAP-MSCHAPv2 inside":        {`eap=TTLS phase2="autheap=MSCHAPV2"`, []func() eap.Method{ttls}, true},
		"neither inside":             {`eap=TTLS phase2="autheap=MD5"`, []func() eap.Method{ttls}, false},
		"small parts":                {`eap=TTLS phase2="auth=PAP" fragment_size=100`, []func() eap.Method{ttls}, true},
		"EAP-MSCHAPv2":               {`eap=MSCHAPV2`, []func() eap.Method{mschap}, true},
		"another than proposed":      {`eap=MSCHAPV2`, []func() eap.Method{ttls, mschap}, true},
		"neither":                    {`eap=MD5`, []func() eap.Method{ttls, mschap}, false},
		"a wrong password":           {`eap=TTLS phase2="auth=PAP" password="no"`, []func() eap.Method{ttls}, false},
		"another name":               {`eap=TTLS phase2="auth=PAP" domain_match="another.tern.example"`, []func() eap.Method{ttls}, false},
	} {
		t.Run(name, func(t *testing.T) {
			port := relay(t, func() login.Conversation {
				var ms []eap.Method
				for _, m := range x.methods {
					ms = append(ms, m())
				}
				return eap.Converse(ms...)
			})
			settings := "network={\nkey_mgmt=IEEE8021X\nidentity=\"rory.researcher\"\nanonymous_identity=\"somebody\"\nca_cert=\"" + authority + "\"\n"
			for _, f := range strings.Fields(strings.ReplaceAll(x.settings, " phase", "\nphase")) {
				settings += f + "\n"
			}
			if !strings.Contains(x.settings, "password=") {
				settings += "password=\"" + password + "\"\n"
			}
			file := filepath.Join(t.TempDir(), "conf")
			require.NoError(t, os.WriteFile(file, []byte(settings+"}\n"), 0o600))
			var out bytes.Buffer
			cmd := exec.CommandContext(t.Context(), program, "-c", file, "-a", "127.0.0.1", "-p", fmt.Sprint(port), "-s",
				"testing", "-t", "10")
			cmd.Stdout, cmd.Stderr = &out, &out
			err := cmd.Run()
			text := out.String()
			require.Equal(t, x.ok, err == nil, "%s", text[max(0, len(text)-3000):])
			if x.ok {
				require.Contains(t, text, "MPPE keys OK: 1  mismatch: 0")
				for _, version := range []string{"1.2", "1.3"} {
					if strings.HasSuffix(name, "TLS "+version) {
						require.Contains(t, text, "Using TLS version TLSv"+version)
					}
				}
			}
		})
	}
}
