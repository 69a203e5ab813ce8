// Package radiusserver runs FreeRADIUS on loopback for tests, with people of Tern Island.
package radiusserver

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
	Secret   = "mosaic-ferry-lantern-plover"
	Password = "gannet lantern mosaic"
)

// Server is a running one.
type Server struct {
	UDP, TLS, Accounting string // where it is, as a plan says it
	Authority            string // of its certificate, and of clients', PEM
	Client               *cert.Pair
	Dir                  string
	cmd                  *exec.Cmd
	out                  *bytes.Buffer
	over                 chan struct{} // closed once it ended
	t                    testing.TB
}

const conf = `prefix = DIR
logdir = DIR
db_dir = DIR
run_dir = DIR
libdir = /usr/lib/freeradius
pidfile = DIR/pid
max_request_time = 10
max_requests = 65536
cleanup_delay = 1
correct_escapes = true
security {
	reject_delay = 0
	status_server = yes
	allow_vulnerable_openssl = yes
}
log {
	destination = stdout
}
thread pool {
	start_servers = 4
	max_servers = 16
	min_spare_servers = 2
	max_spare_servers = 8
}
client localhost {
	ipaddr = 127.0.0.1
	secret = SECRET
	require_message_authenticator = yes
	shortname = lantern
}
client lantern {
	ipaddr = 127.0.0.9
	secret = SECRET
	require_message_authenticator = yes
	shortname = source
}
modules {
	pap {
	}
	mschap {
		use_mppe = yes
		require_encryption = yes
	}
	files {
		usersfile = DIR/users
	}
	detail {
		filename = DIR/accounting
		header = "%t"
		permissions = 0600
		locking = no
		log_packet_header = no
	}
	eap {
		default_eap_type = METHOD
		timer_expire = 60
		ignore_unknown_eap_types = no
		max_sessions = 1000
		tls-config ours {
			private_key_file = DIR/server.key
			certificate_file = DIR/server.pem
			ca_file = DIR/ca.pem
			cipher_list = "DEFAULT"
			tls_min_version = "1.2"
			tls_max_version = "1.3"
		}
		ttls {
			tls = ours
			default_eap_type = mschapv2
			copy_request_to_tunnel = no
			use_tunneled_reply = yes
			virtual_server = ours
		}
		mschapv2 {
		}
		gtc {
		}
	}
}
server ours {
	listen {
		type = auth
		ipaddr = 127.0.0.1
		port = AUTH
	}
	listen {
		type = acct
		ipaddr = 127.0.0.1
		port = ACCT
	}
	listen {
		type = auth+acct
		ipaddr = 127.0.0.1
		port = RADSEC
		proto = tcp
		clients = overtls
		limit {
			max_connections = 32
			lifetime = 0
			idle_timeout = 300
		}
		tls {
			private_key_file = DIR/server.key
			certificate_file = DIR/server.pem
			ca_file = DIR/ca.pem
			require_client_cert = yes
			tls_min_version = "1.2"
			tls_max_version = "1.3"
			cipher_list = "DEFAULT"
		}
	}
	authorize {
		mschap
		eap {
			ok = return
		}
		files
		pap
	}
	authenticate {
		Auth-Type PAP {
			pap
		}
		Auth-Type MS-CHAP {
			mschap
		}
		eap
	}
	preacct {
	}
	accounting {
		detail
	}
	post-auth {
		update reply {
			Message-Authenticator := 0x00
		}
		Post-Auth-Type REJECT {
			update reply {
				Message-Authenticator := 0x00
			}
		}
	}
}
clients overtls {
	client tls {
		ipaddr = 127.0.0.1
		proto = tls
		secret = radsec
	}
}
`

const people = `dora Cleartext-Password := "PASSWORD"
	Filter-Id := "researchers",
	Filter-Id += "Nest-Watchers",
	Class := "volunteers"
odd(one)* Cleartext-Password := "PASSWORD"
	Filter-Id := "researchers"
Wanda.Warden Cleartext-Password := "PASSWORD"
	Filter-Id := "researchers"
utf Cleartext-Password := "пароль из слов"
	Filter-Id := "researchers"
bound Cleartext-Password := "PASSWORD"
	Filter-Id := "researchers",
	Framed-IP-Address := 10.99.0.77,
	Session-Timeout := 3600,
	Idle-Timeout := 600,
	Class := 0x00ff10
renamed Cleartext-Password := "PASSWORD"
	User-Name := "dora",
	Filter-Id := "researchers"
expired Cleartext-Password := "PASSWORD", SMB-Account-Ctrl-Text := "[Ue]"
	Filter-Id := "researchers"
closed Auth-Type := Reject
	Reply-Message := "The station is closed, \033[31mcome back"
`

// Start starts one whose EAP begins with a method, such as mschapv2 or ttls; the test ends it.
func Start(t testing.TB, method string) *Server {
	path, err := exec.LookPath("freeradius")
	if err != nil {
		path = "/usr/sbin/freeradius"
	}
	if _, err := os.Stat(path); err != nil {
		if os.Getenv("CI") != "" {
			t.Fatal("freeradius is missing: make apt-test installs it")
		}
		t.Skip("freeradius is missing: make apt-test installs it")
	}
	s := &Server{Dir: t.TempDir(), t: t}
	ca, err := cert.NewAuthority(rand.Reader, time.Now(), "Tern Island logins")
	require.NoError(t, err)
	s.Authority = string(ca.PEM())
	pair, err := ca.NewGatewayWith(rand.Reader, time.Now(), "rsa", "localhost")
	require.NoError(t, err)
	s.Client, err = ca.NewGateway(rand.Reader, time.Now(), "lantern.tern.example")
	require.NoError(t, err)
	key, err := pair.KeyDER()
	require.NoError(t, err)
	s.file("server.pem", string(pair.PEM()))
	s.file("server.key", string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key})))
	s.file("ca.pem", s.Authority)
	s.file("users", strings.ReplaceAll(people, "PASSWORD", Password))
	t.Cleanup(func() {
		s.Stop()
		if t.Failed() {
			t.Log(s.out.String())
		}
	})
	for range 5 { // a port that was free may be somebody else's by now
		auth, acct, tls := port(t, "udp"), port(t, "udp"), port(t, "tcp")
		s.UDP, s.Accounting = fmt.Sprintf("radius://127.0.0.1:%d", auth), fmt.Sprintf("radius://127.0.0.1:%d", acct)
		s.TLS = fmt.Sprintf("radius+tls://localhost:%d", tls)
		s.file("radiusd.conf", strings.NewReplacer("DIR", s.Dir, "SECRET", Secret, "AUTH", fmt.Sprint(auth), "ACCT", fmt.Sprint(acct),
			"RADSEC", fmt.Sprint(tls), "METHOD", method).Replace(conf))
		if s.run() {
			return s
		}
	}
	require.Fail(t, "freeradius does not start", s.out.String())
	return nil
}

// Run starts it again once it was stopped.
func (s *Server) Run() { require.True(s.t, s.run(), "freeradius does not start again: %s", s.out) }

// run starts it, and tells whether it listens.
func (s *Server) run() bool {
	s.out, s.over = &bytes.Buffer{}, make(chan struct{})
	s.cmd = exec.Command("freeradius", "-f", "-P", "-l", "stdout", "-d", s.Dir, "-n", "radiusd", "-D", "/usr/share/freeradius")
	s.cmd.Stdout, s.cmd.Stderr = s.out, s.out
	require.NoError(s.t, s.cmd.Start())
	go func(cmd *exec.Cmd, over chan struct{}) {
		defer close(over)
		_ = cmd.Wait()
	}(s.cmd, s.over)
	for range 1200 {
		select {
		case <-s.over:
			return false
		case <-time.After(50 * time.Millisecond):
		}
		if c, err := net.Dial("tcp", strings.TrimPrefix(s.TLS, "radius+tls://")); err == nil {
			_ = c.Close()
			return true
		}
	}
	return false
}

// Stop ends it, and returns once it is over.
func (s *Server) Stop() {
	if s.cmd != nil {
		_ = s.cmd.Process.Kill()
		<-s.over
	}
}

// Process is its number.
func (s *Server) Process() int { return s.cmd.Process.Pid }

// Told is what it was told of sessions.
func (s *Server) Told() string {
	b, _ := os.ReadFile(filepath.Join(s.Dir, "accounting"))
	return string(b)
}

func (s *Server) file(name, content string) {
	require.NoError(s.t, os.WriteFile(filepath.Join(s.Dir, name), []byte(content), 0o600))
}

func port(t testing.TB, network string) int {
	if network == "udp" {
		c, err := net.ListenPacket("udp", "127.0.0.1:0")
		require.NoError(t, err)
		defer c.Close()
		return c.LocalAddr().(*net.UDPAddr).Port
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}
