// Package directoryserver runs OpenLDAP's server on loopback for tests, with people of Tern Island.
package directoryserver

import (
	"bytes"
	"crypto/rand"
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

	"yellowlantern/internal/core/cert"
)

// What it holds.
const (
	Base          = "dc=tern,dc=example"
	People        = "ou=people," + Base
	Groups        = "ou=groups," + Base
	Account       = "cn=lantern," + Base
	AccountSecret = "mosaic-ferry-lantern"
	admin         = "cn=admin," + Base
	adminSecret   = "only-for-this-test"
)

// Server is a running one.
type Server struct {
	LDAPS, LDAP string // where it is
	Authority   string // of its certificate, PEM
	cmd         *exec.Cmd
	dir         string
	t           testing.TB
}

const conf = `include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/nis.schema
include /etc/ldap/schema/inetorgperson.schema
pidfile DIR/pid
modulepath /usr/lib/ldap
moduleload back_mdb
moduleload memberof
moduleload refint
moduleload ppolicy
TLSCertificateFile DIR/server.pem
TLSCertificateKeyFile DIR/server.key
sizelimit 100000
database mdb
suffix "dc=tern,dc=example"
rootdn "cn=admin,dc=tern,dc=example"
rootpw only-for-this-test
directory DIR/db
maxsize 1073741824
dbnosync
index objectClass,uid,member,memberOf eq
access to attrs=userPassword by dn.exact="cn=lantern,dc=tern,dc=example" =xw by self =xw by anonymous auth by * none
access to * by dn.exact="cn=lantern,dc=tern,dc=example" read by self read by users search by anonymous auth by * none
overlay memberof
memberof-group-oc groupOfNames
memberof-member-ad member
overlay refint
overlay ppolicy
ppolicy_default "cn=policy,dc=tern,dc=example"
`

const start = `dn: dc=tern,dc=example
objectClass: dcObject
objectClass: organization
dc: tern
o: Tern Island Observatory

dn: ou=people,dc=tern,dc=example
objectClass: organizationalUnit
ou: people

dn: ou=groups,dc=tern,dc=example
objectClass: organizationalUnit
ou: groups

dn: cn=policy,dc=tern,dc=example
objectClass: device
objectClass: pwdPolicy
cn: policy
pwdAttribute: userPassword
pwdLockout: TRUE
pwdMaxFailure: 100

dn: cn=made for them,dc=tern,dc=example
objectClass: device
objectClass: pwdPolicy
cn: made for them
pwdAttribute: userPassword
pwdMustChange: TRUE
pwdCheckQuality: 2
pwdMinLength: 12

dn: cn=short lived,dc=tern,dc=example
objectClass: device
objectClass: pwdPolicy
cn: short lived
pwdAttribute: userPassword
pwdMaxAge: 2

dn: cn=lantern,dc=tern,dc=example
objectClass: simpleSecurityObject
objectClass: organizationalRole
cn: lantern
userPassword: mosaic-ferry-lantern
`

// Start starts one; the test ends it.
func Start(t testing.TB) *Server { return StartAt(t, time.Now()) }

// StartAt starts one whose certificate was made at a moment, for a year or so.
func StartAt(t testing.TB, made time.Time) *Server {
	path, err := exec.LookPath("slapd")
	if err != nil {
		path = "/usr/sbin/slapd"
	}
	if _, err := os.Stat(path); err != nil {
		if os.Getenv("CI") != "" {
			t.Fatal("slapd is missing: make apt-test installs it")
		}
		t.Skip("slapd is missing: make apt-test installs it")
	}
	s := &Server{dir: t.TempDir(), t: t}
	ca, err := cert.NewAuthority(rand.Reader, made, "Tern Island directory")
	require.NoError(t, err)
	pair, err := ca.NewGatewayWith(rand.Reader, made, "rsa", "localhost")
	require.NoError(t, err)
	key, err := pair.KeyDER()
	require.NoError(t, err)
	s.Authority = string(ca.PEM())
	s.write("server.pem", pair.PEM())
	s.write("server.key", pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key}))
	s.write("slapd.conf", []byte(strings.ReplaceAll(conf, "DIR", s.dir)))
	require.NoError(t, os.Mkdir(filepath.Join(s.dir, "db"), 0o700))
	s.LDAPS, s.LDAP = fmt.Sprintf("ldaps://localhost:%d", free(t)), fmt.Sprintf("ldap://localhost:%d", free(t))
	s.Run()
	t.Cleanup(s.Stop)
	s.Add(start)
	return s
}

func free(t testing.TB) int {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}

func (s *Server) write(name string, b []byte) {
	require.NoError(s.t, os.WriteFile(filepath.Join(s.dir, name), b, 0o600))
}

// Run starts it, or starts it again.
func (s *Server) Run() {
	at := strings.ReplaceAll(s.LDAPS+"/ "+s.LDAP+"/", "localhost", "127.0.0.1")
	s.cmd = exec.Command("slapd", "-f", filepath.Join(s.dir, "slapd.conf"), "-d", "0", "-h", at)
	s.cmd.Path = "/usr/sbin/slapd"
	var said bytes.Buffer
	s.cmd.Stderr = &said
	require.NoError(s.t, s.cmd.Start())
	for range 400 { // on this thread, which may be in another network namespace than the others
		c, err := net.Dial("tcp", strings.TrimPrefix(strings.ReplaceAll(s.LDAP, "localhost", "127.0.0.1"), "ldap://"))
		if err == nil {
			_ = c.Close()
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	require.Fail(s.t, "slapd does not answer", said.String())
}

// Stop ends it.
func (s *Server) Stop() {
	if s.cmd != nil && s.cmd.Process != nil {
		_ = s.cmd.Process.Kill()
		_ = s.cmd.Wait()
		s.cmd = nil
	}
}

// Process is its number.
func (s *Server) Process() int { return s.cmd.Process.Pid }

func (s *Server) tool(name, input string, args ...string) {
	cmd := exec.Command(name, append([]string{
		"-x", "-H", strings.ReplaceAll(s.LDAP, "localhost", "127.0.0.1"), "-D", admin, "-w",
		adminSecret,
	}, args...)...)
	cmd.Stdin = strings.NewReader(input)
	out, err := cmd.CombinedOutput()
	require.NoError(s.t, err, "%s: %s", name, out)
}

// Add adds entries (LDIF, RFC 2849) through the running server, so that its overlays see them.
func (s *Server) Add(ldif string) { s.tool("ldapadd", ldif) }

// Change changes entries.
func (s *Server) Change(ldif string) { s.tool("ldapmodify", ldif) }

// Person is an entry of somebody.
func Person(rdn, uid, name, password string) string {
	return fmt.Sprintf("dn: %s,%s\nobjectClass: inetOrgPerson\nobjectClass: shadowAccount\nuid: %s\ncn: %s\nsn: %s\nmail: %s@tern.example\nuserPassword: %s\n\n",
		rdn, People, uid, name, name, strings.ReplaceAll(uid, "(", ""), password)
}

// Group is an entry of a group, whose members are distinguished names.
func Group(name string, members ...string) string {
	return fmt.Sprintf("dn: cn=%s,%s\nobjectClass: groupOfNames\ncn: %s\nmember: %s\n\n", name, Groups, name,
		strings.Join(members, "\nmember: "))
}
