package e2e

import (
	"crypto"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/authorities"
	"yellowlantern/internal/people"
	"yellowlantern/internal/probe"
)

// institute is an authority elsewhere: the openssl program, in a folder, and a page with its list.
type institute struct {
	t      *testing.T
	folder string
	lists  *httptest.Server
	away   atomic.Bool
}

func (i *institute) path(name string) string { return filepath.Join(i.folder, name) }

// openssl runs it there.
func (i *institute) openssl(args ...string) {
	i.t.Helper()
	run := exec.CommandContext(i.t.Context(), "openssl", args...)
	run.Dir = i.folder
	out, err := run.CombinedOutput()
	require.NoError(i.t, err, "%s", out)
}

func newInstitute(t *testing.T, name string) *institute {
	i := &institute{t: t, folder: t.TempDir()}
	i.lists = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if i.away.Load() {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		http.ServeFile(w, r, i.path("list.crl"))
	}))
	t.Cleanup(i.lists.Close)
	require.NoError(t, os.WriteFile(i.path("ca.cnf"), []byte(`
[ca]
default_ca = here
[here]
database = index.txt
serial = serial
crlnumber = crlnumber
crl_extensions = list
new_certs_dir = .
certificate = ca.pem
private_key = ca.key
default_md = sha256
policy = any
copy_extensions = copy
email_in_dn = no
default_days = 30
unique_subject = no
[any]
commonName = supplied
[person]
basicConstraints = CA:FALSE
keyUsage = digitalSignature
extendedKeyUsage = clientAuth
subjectKeyIdentifier = hash
authorityKeyIdentifier = keyid
[list]
authorityKeyIdentifier = keyid
[answers]
keyUsage = digitalSignature
extendedKeyUsage = OCSPSigning
[root]
basicConstraints = critical, CA:TRUE
keyUsage = critical, keyCertSign, cRLSign
subjectKeyIdentifier = hash
[req]
distinguished_name = dn
[dn]
`), 0o600))
	require.NoError(t, os.WriteFile(i.path("index.txt"), nil, 0o600))
	for _, counts := range []string{"serial", "crlnumber"} {
		require.NoError(t, os.WriteFile(i.path(counts), []byte("1000\n"), 0o600))
	}
	i.openssl("req", "-x509", "-newkey", "rsa:2048", "-nodes", "-keyout", "ca.key", "-out", "ca.pem", "-days", "400", "-subj", "/CN="+name,
		"-config", "ca.cnf", "-extensions", "root")
	i.publish()
	return i
}

// person has a certificate issued, and gives what a device proves itself with.
func (i *institute) person(file, address string) probe.Options {
	i.t.Helper()
	i.openssl("req", "-new", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-keyout", file+".key", "-out", file+".csr",
		"-subj", "/CN="+file, "-addext", "subjectAltName=email:"+address, "-config", "ca.cnf")
	i.openssl("ca", "-batch", "-notext", "-config", "ca.cnf", "-extensions", "person", "-in", file+".csr", "-out", file+".pem")
	read := func(name string) []byte {
		b, err := os.ReadFile(i.path(name))
		require.NoError(i.t, err)
		block, _ := pem.Decode(b)
		return block.Bytes
	}
	key, err := x509.ParsePKCS8PrivateKey(read(file + ".key"))
	require.NoError(i.t, err)
	return probe.Options{Key: key.(crypto.Signer), Certificate: read(file + ".pem")}
}

// publish makes the list anew.
func (i *institute) publish(args ...string) {
	i.openssl(append([]string{"ca", "-config", "ca.cnf", "-gencrl", "-out", "list.crl", "-crldays", "7"}, args...)...)
}

func (i *institute) revoke(file string) {
	i.openssl("ca", "-config", "ca.cnf", "-revoke", file+".pem", "-crl_reason", "keyCompromise")
}

// answers starts its server, and gives where it is.
func (i *institute) answers() string {
	i.t.Helper()
	i.openssl("req", "-new", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-keyout", "answers.key", "-out", "answers.csr", "-subj",
		"/CN=answers", "-config", "ca.cnf")
	i.openssl("ca", "-batch", "-notext", "-config", "ca.cnf", "-extensions", "answers", "-in", "answers.csr", "-out", "answers.pem")
	// It answers from the index as it is at each question, one process each: so a change is seen at once.
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		ask, err := os.Create(i.path("ask.der"))
		if err == nil {
			_, err = ask.ReadFrom(r.Body)
			_ = ask.Close()
		}
		if err != nil || i.away.Load() {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		i.openssl("ocsp", "-index", "index.txt", "-CA", "ca.pem", "-rsigner", "answers.pem", "-rkey", "answers.key", "-reqin", "ask.der", "-respout",
			"answer.der", "-nmin", "5")
		http.ServeFile(w, r, i.path("answer.der"))
	}))
	i.t.Cleanup(server.Close)
	return server.URL
}

// Certificates that another authority issues let in whom they name, for as long as they count: not a stranger's of the same name, not
// those of nobody here, and nobody's who was revoked, whose session ends; where it cannot be found out, the plan's word decides. The other
// authority is the openssl program.
func TestCertificatesOfOthers(t *testing.T) {
	d := island(t, nil)
	x := newTerminal(t, d)
	home := home(t, d)
	i := newInstitute(t, "Mainland Institute")
	rory, wanda := i.person("rory", "Rory.Researcher@tern.example"), i.person("wanda", "wanda.warden@tern.example")
	nobody := i.person("nobody", "nobody@tern.example")
	stranger := newInstitute(t, "Mainland Institute").person("rory", "rory.researcher@tern.example")
	said := func(args ...string) string {
		out, _, err := x.run(args...)
		require.Error(t, err, out)
		return out + err.Error()
	}
	commit := func(edits ...[]string) {
		for _, e := range edits {
			x.did(append([]string{"plan"}, e...)...)
		}
		x.did("plan", "commit", "-m", "certificates", "--accept", "all", "--because", "as agreed")
	}
	open := func(user string, o probe.Options) (*probe.Tunnel, error) {
		return probe.Open(t.Context(), home, order(t, d, user), o)
	}
	enters := func(user string, o probe.Options) {
		t.Helper()
		tn, err := open(user, o)
		require.NoError(t, err)
		tn.Close()
	}
	stays := func(user string, o probe.Options, code string) {
		t.Helper()
		before := strings.Count(x.did("journal", "--code", code), "\n")
		_, err := open(user, o)
		require.Error(t, err)
		more := func() bool { return strings.Count(x.did("journal", "--code", code), "\n") > before }
		require.Eventually(t, more, 20*time.Second, 20*time.Millisecond, code)
	}

	key := func(user string) people.Key {
		t.Helper()
		var keys []people.Key
		require.NoError(t, json.Unmarshal([]byte(x.did("--json", "users", "keys", "list", user)), &keys))
		require.Len(t, keys, 1)
		return keys[0]
	}

	x.did("authorities", "add", "mainland", i.path("ca.pem"), "--tunnel", "main", "--domain", "tern.example", "--list", i.lists.URL)
	require.Contains(t, x.did("plan", "show", "--draft", "draft"), "    certificate: |\n      -----BEGIN CERTIFICATE-----\n")
	tried := x.did("authorities", "try", "mainland", i.path("rory.pem"), "--draft", "draft")
	require.Contains(t, tried, "rory.researcher would come in")
	commit([]string{"set", "tunnels/main/login", "certificate"}, []string{"set", "authorities/mainland/revocation", "lists"})
	enters("rory.researcher", rory)
	require.Equal(t, "mainland", key("rory.researcher").Authority)
	require.Regexp(t, `logged in by passage .*, proved by certificate 1000 of CN=.*, key ([0-9A-F]{2}:){31}`,
		x.did("--json", "journal", "--kind", "login", "--user", "rory.researcher"))
	require.Contains(t, x.did("authorities", "list"), "✓ mainland")
	stays("rory.researcher", stranger, "certificate-of-stranger")
	stays("wanda.warden", nobody, "certificate-names-no-user")
	require.Contains(t, said("authorities", "try", "mainland", i.path("nobody.pem")), "no user is called nobody")

	// Revoked: the session ends, and the device does not come back.
	tn, err := open("rory.researcher", rory)
	require.NoError(t, err)
	defer tn.Close()
	d.App.Authorities.Keep(t.Context())
	require.Contains(t, x.did("sessions", "list"), "rory.researcher")
	i.revoke("rory")
	i.publish()
	x.did("authorities", "fetch", "mainland")
	d.App.Authorities.Keep(t.Context())
	require.NotContains(t, x.did("sessions", "list"), "rory.researcher")
	told := func() bool {
		return strings.Contains(x.did("journal", "--code", "certificate-gone"), "rory.researcher")
	}
	require.Eventually(t, told, 10*time.Second, 20*time.Millisecond)
	stays("rory.researcher", rory, "certificate-revoked-there")
	enters("wanda.warden", wanda)

	// Away for longer than its list lasts: shut, unless the plan says open, or somebody brings the list.
	i.away.Store(true)
	i.openssl("ca", "-config", "ca.cnf", "-gencrl", "-out", "brought.crl", "-crldays", "7")
	i.openssl("ca", "-config", "ca.cnf", "-gencrl", "-out", "list.crl", "-crlsec", "4")
	i.away.Store(false)
	x.did("authorities", "fetch", "mainland")
	i.away.Store(true)
	var known []authorities.OtherAuthority
	require.NoError(t, json.Unmarshal([]byte(x.did("--json", "authorities", "list")), &known))
	require.WithinDuration(t, time.Now(), known[0].Sources[0].Next, 10*time.Second, "the short one was fetched in time")
	time.Sleep(time.Until(known[0].Sources[0].Next) + 50*time.Millisecond)
	stays("wanda.warden", wanda, "revocation-unknown")
	require.Contains(t, said("authorities", "list"), "the server answers 503")
	require.Contains(t, said("status"), "give its list by hand")
	require.Contains(t, x.did("journal", "--code", "revocation-list-not-had"), "mainland")
	commit([]string{"set", "authorities/mainland/when-unknown", "admit"})
	enters("wanda.warden", wanda)
	commit([]string{"set", "authorities/mainland/when-unknown", "refuse"})
	require.Contains(t, said("authorities", "give-list", "mainland", i.path("list.crl")), "it was to be gone by until")
	require.Contains(t, x.did("authorities", "give-list", "mainland", i.path("brought.crl")), "given by hand")
	enters("wanda.warden", wanda)
	stays("rory.researcher", rory, "certificate-revoked-there")
	i.away.Store(false)

	// By its server, whatever lists say.
	commit([]string{"set", "authorities/mainland/revocation", "ocsp"}, []string{"set", "authorities/mainland/ocsp", i.answers()})
	vera := i.person("vera", "vera.volunteer@tern.example")
	enters("vera.volunteer", vera)
	stays("rory.researcher", rory, "certificate-revoked-there")
	i.revoke("wanda")
	stays("wanda.warden", wanda, "certificate-revoked-there")

	// What an administrator takes back here stays out whatever the authority says, and an authority that goes takes its sessions along.
	mine := key("vera.volunteer").Fingerprint
	tn, err = open("vera.volunteer", vera)
	require.NoError(t, err)
	defer tn.Close()
	commit([]string{"remove", "tunnels/main/authorities"}, []string{"remove", "authorities/mainland"})
	d.App.Authorities.Keep(t.Context())
	require.NotContains(t, x.did("sessions", "list"), "vera.volunteer")
	stays("vera.volunteer", vera, "key-unknown")
	commit([]string{"restore", "2"})
	enters("vera.volunteer", vera)
	x.did("users", "keys", "revoke", mine)
	stays("vera.volunteer", vera, "key-revoked")
}
