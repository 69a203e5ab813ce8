package e2e

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"io"
	"math/big"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/smallstep/pkcs7"
	"github.com/stretchr/testify/require"
	"howett.net/plist"

	"yellowlantern/internal/app/members"
	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/people"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/store"
)

// A device has a certificate issued for a key that it makes itself, by an invitation, once; asked again it is the same one, another key
// gets none, and its person comes in by it. The device is Debian's own client for SCEP.
func TestDeviceEnrolsItself(t *testing.T) {
	d := island(t, nil)
	x := newTerminal(t, d)
	x.did("plan", "set", "tunnels/main/login", "certificate")
	x.did("plan", "commit", "-m", "certificates", "--accept", "all", "--because", "devices follow")
	invite := func(args ...string) (i members.Invitation) {
		require.NoError(t, json.Unmarshal([]byte(x.did(append([]string{"--json", "users", "keys", "invite"}, args...)...)), &i))
		return i
	}
	at := d.URL() + members.EnrolPath
	to, _, err := d.App.Trust.Enrolment(t.Context())
	require.NoError(t, err)
	sum := sha256.Sum256(to.Certificate.Raw) // it would seal for the authority too, whose key is not RSA
	device := func(folder, challenge string) (string, error) {
		bounded, stop := context.WithTimeout(t.Context(), 30*time.Second)
		defer stop()
		out, err := exec.CommandContext(bounded, "scepclient", "-server-url", at, "-challenge", challenge, "-cn", "a device",
			"-ca-fingerprint", hex.EncodeToString(sum[:]), "-private-key", filepath.Join(folder, "key.pem"), "-certificate", filepath.Join(folder, "leaf.pem")).CombinedOutput()
		return string(out), err
	}
	enters := func(folder string) error {
		read := func(name string) []byte {
			b, err := os.ReadFile(filepath.Join(folder, name))
			require.NoError(t, err)
			block, _ := pem.Decode(b)
			return block.Bytes
		}
		key, err := x509.ParsePKCS1PrivateKey(read("key.pem"))
		require.NoError(t, err)
		has := probe.Options{Key: key, Certificate: read("leaf.pem")}
		tn, err := probe.Open(t.Context(), home(t, d), order(t, d, "rory.researcher"), has)
		if err == nil {
			tn.Close()
		}
		return err
	}
	mine := t.TempDir()
	i := invite("rory.researcher", "--device", "phone")
	out, err := device(t.TempDir(), "WRONGWRONGWRONG")
	require.Error(t, err, out)
	require.Contains(t, x.did("--json", "journal", "--code", "enrolment-refused"), "yl users keys invite")
	out, err = device(mine, i.Challenge)
	require.NoError(t, err, out)
	require.NoError(t, enters(mine))
	require.Contains(t, x.did("journal", "--code", "enrolled"), "phone")
	require.NotContains(t, x.did("journal"), i.Challenge)
	first, err := os.ReadFile(filepath.Join(mine, "leaf.pem"))
	require.NoError(t, err)
	require.NoError(t, os.Remove(filepath.Join(mine, "leaf.pem"))) // as if the answer had been lost
	out, err = device(mine, i.Challenge)
	require.NoError(t, err, out)
	again, err := os.ReadFile(filepath.Join(mine, "leaf.pem"))
	require.NoError(t, err)
	require.Equal(t, string(first), string(again))
	out, err = device(t.TempDir(), i.Challenge)
	require.Error(t, err, out)
	require.Contains(t, x.did("users", "keys", "invitations"), "used for the key")

	withdrawn := invite("rory.researcher")
	x.did("users", "keys", "withdraw", withdrawn.ID)
	out, err = device(t.TempDir(), withdrawn.Challenge)
	require.Error(t, err, out)
	off := invite("wanda.warden")
	x.did("users", "change", "wanda.warden", "--off")
	out, err = device(t.TempDir(), off.Challenge)
	require.Error(t, err, out)
	var keys []people.Key
	require.NoError(t, json.Unmarshal([]byte(x.did("--json", "users", "keys", "list")), &keys))
	require.Len(t, keys, 1)
	require.Equal(t, "rory.researcher", keys[0].User)
	x.did("users", "keys", "revoke", keys[0].Fingerprint)
	require.Error(t, enters(mine))
	require.NotContains(t, x.did("certificate", "list"), "\nenrolment  ecdsa")

	// A kit for Apple's systems holds an invitation, and nothing secret beside it.
	folder := t.TempDir()
	_, _, err = x.run("users", "kit", "vera.volunteer", "--platform", "apple", "--key-on-device", "--out", folder)
	require.ErrorContains(t, err, "kits-at")
	x.did("plan", "set", "kits-at", "https://kits.tern.example")
	x.did("plan", "commit", "-m", "kits", "--accept", "all", "--because", "devices follow")
	_, _, err = x.run("users", "kit", "vera.volunteer", "--platform", "windows", "--key-on-device", "--out", folder)
	require.ErrorContains(t, err, "yl users keys invite")
	told := x.did("users", "kit", "vera.volunteer", "--platform", "apple", "--key-on-device", "--out", folder)
	require.Contains(t, told, "the device makes its key itself")
	signed, err := os.ReadFile(filepath.Join(folder, "vera.volunteer.mobileconfig"))
	require.NoError(t, err)
	unsigned, err := pkcs7.Parse(signed)
	require.NoError(t, err)
	var profile struct {
		PayloadContent []struct {
			PayloadType, PayloadUUID string
			PayloadContent           any
			IKEv2                    map[string]any
		}
	}
	_, err = plist.Unmarshal(unsigned.Content, &profile)
	require.NoError(t, err)
	enrols := profile.PayloadContent[1]
	require.Equal(t, "com.apple.security.scep", enrols.PayloadType)
	require.Equal(t, enrols.PayloadUUID, profile.PayloadContent[2].IKEv2["PayloadCertificateUUID"])
	asks := enrols.PayloadContent.(map[string]any)
	require.Equal(t, "https://kits.tern.example/enrol", asks["URL"])
	out, err = device(t.TempDir(), asks["Challenge"].(string)) // for it keeps a request with its challenge
	require.NoError(t, err, out)
	require.NoError(t, json.Unmarshal([]byte(x.did("--json", "users", "keys", "list", "vera.volunteer")), &keys))
	require.Equal(t, "kit for apple", keys[0].Device)

	// What strangers send is answered by a refusal or an error, and never by a certificate.
	post := func(b []byte) (int, []byte) {
		answer, err := http.Post(at+"?operation=PKIOperation", "application/x-pki-message", bytes.NewReader(b))
		require.NoError(t, err)
		defer answer.Body.Close()
		body, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		return answer.StatusCode, body
	}
	counts := invite("rory.researcher")
	ca, err := d.App.Trust.Store.Certificate(t.Context(), store.AuthorityName)
	require.NoError(t, err)
	lasts := func(of *rsa.PrivateKey, by *cert.Pair, left time.Duration) *x509.Certificate {
		about := &x509.Certificate{
			SerialNumber: big.NewInt(int64(left)), Subject: pkix.Name{CommonName: "x"}, NotBefore: time.Now().Add(-time.Hour),
			NotAfter: time.Now().Add(left),
		}
		parent, key := about, any(of)
		if by != nil {
			parent, key = by.Leaf, by.Key
		}
		der, err := x509.CreateCertificate(rand.Reader, about, parent, &of.PublicKey, key)
		require.NoError(t, err)
		leaf, err := x509.ParseCertificate(der)
		require.NoError(t, err)
		return leaf
	}
	shown := map[*rsa.PrivateKey]*x509.Certificate{}
	message := func(kind string, signer, asked *rsa.PrivateKey, challenge string) []byte {
		leaf := shown[signer]
		if leaf == nil {
			leaf = lasts(signer, nil, time.Hour)
		}
		request, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{
			//lint:ignore SA1019 there is no other way to write a challenge
			Attributes: []pkix.AttributeTypeAndValueSET{{
				Type: []int{1, 2, 840, 113549, 1, 9, 7}, Value: [][]pkix.AttributeTypeAndValue{{{Type: []int{1, 2}, Value: challenge}}},
			}},
		}, asked)
		require.NoError(t, err)
		sealed, err := pkcs7.Encrypt(request, []*x509.Certificate{to.Certificate})
		require.NoError(t, err)
		signed, err := pkcs7.NewSignedData(sealed)
		require.NoError(t, err)
		attribute := func(n int, v any) pkcs7.Attribute {
			return pkcs7.Attribute{Type: []int{2, 16, 840, 1, 113733, 1, 9, n}, Value: v}
		}
		require.NoError(t, signed.AddSigner(leaf, signer, pkcs7.SignerInfoConfig{ExtraSignedAttributes: []pkcs7.Attribute{
			attribute(2, kind), attribute(5, []byte("nonce")), attribute(7, "transaction"),
		}}))
		out, err := signed.Finish()
		require.NoError(t, err)
		return out
	}
	one, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	two, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	good := message("19", one, one, "x")
	for what, b := range map[string][]byte{
		"nothing": nil, "no message": []byte("message"), "half of one": good[:len(good)/2],
		"another key's":             message("19", one, two, counts.Challenge),
		"a renewal of a stranger's": message("17", one, one, ""), "another kind": message("22", one, one, ""), "no challenge": good,
	} {
		status, body := post(b)
		if status == http.StatusOK {
			p, err := pkcs7.Parse(body)
			require.NoError(t, err, what)
			require.NoError(t, p.Verify(), what)
			var said string
			require.NoError(t, p.UnmarshalSignedAttribute([]int{2, 16, 840, 1, 113733, 1, 9, 3}, &said), what)
			require.Equal(t, "2", said, what)
			require.Empty(t, p.Content, what)
			continue
		}
		require.Equal(t, http.StatusBadRequest, status, what)
	}
	require.NoError(t, json.Unmarshal([]byte(x.did("--json", "users", "keys", "list")), &keys))
	require.Len(t, keys, 2, "nobody got one")

	// In its last days a certificate is enough for another one, for another key of the same person's; before it is not, nor once it is
	// taken back.
	status := func(b []byte) (said string) {
		_, body := post(b)
		p, err := pkcs7.Parse(body)
		require.NoError(t, err)
		require.NoError(t, p.UnmarshalSignedAttribute([]int{2, 16, 840, 1, 113733, 1, 9, 3}, &said))
		return said
	}
	for left, want := range map[time.Duration]string{60 * 24 * time.Hour: "2", 10 * 24 * time.Hour: "0"} {
		old, err := rsa.GenerateKey(rand.Reader, 2048)
		require.NoError(t, err)
		shown[old] = lasts(old, ca, left)
		require.NoError(t, d.App.Trust.Store.NoteIssued(t.Context(), "of vera", shown[old]))
		k, err := d.App.Members.People.AddKey(t.Context(), "vera.volunteer", "tablet", shown[old].RawSubjectPublicKeyInfo, shown[old])
		require.NoError(t, err)
		require.Equal(t, want, status(message("17", old, one, "")), left)
		x.did("users", "keys", "revoke", k.Fingerprint)
		require.Equal(t, "2", status(message("17", old, two, "")), left)
	}
	require.NoError(t, json.Unmarshal([]byte(x.did("--json", "users", "keys", "list", "vera.volunteer")), &keys))
	require.Len(t, keys, 4)
}
