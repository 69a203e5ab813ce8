package e2e

import (
	"bufio"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"net"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/instance"
)

// collected is a collector for tests: it reads what RFC 5425 says, and nothing else.
type collected struct {
	sync.Mutex
	messages []string
	wrong    error
	conns    []net.Conn
}

func (c *collected) serve(l net.Listener) {
	for {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		c.Lock()
		c.conns = append(c.conns, conn)
		c.Unlock()
		go func() {
			r := bufio.NewReader(conn)
			for {
				length, err := r.ReadString(' ')
				if err != nil {
					return
				}
				n, err := strconv.Atoi(strings.TrimSuffix(length, " "))
				b := make([]byte, max(n, 0))
				if err == nil {
					_, err = io.ReadFull(r, b)
				}
				c.Lock()
				if err != nil && c.wrong == nil && err != io.ErrUnexpectedEOF {
					c.wrong = fmt.Errorf("a frame of %q octets: %w", length, err)
				}
				if err == nil {
					c.messages = append(c.messages, string(b))
				}
				c.Unlock()
				if err != nil {
					return
				}
			}
		}()
	}
}

// numbers are the lines that came, in their order, without those that came twice.
func (c *collected) numbers() (out []int) {
	c.Lock()
	defer c.Unlock()
	for _, m := range c.messages {
		n, _ := strconv.Atoi(regexp.MustCompile(`line@32473 id="(\d+)"`).FindStringSubmatch(m)[1])
		if len(out) == 0 || n > out[len(out)-1] {
			out = append(out, n)
		}
	}
	return out
}

// Every line of the journal comes to a collector, in order, also those from while it was away; it must show a certificate of the authority
// that was named.
func TestSyslog(t *testing.T) {
	t.Parallel()
	ca, err := cert.NewAuthority(rand.Reader, time.Now(), "Skua Point")
	require.NoError(t, err)
	shown, err := ca.NewGateway(rand.Reader, time.Now(), "127.0.0.1")
	require.NoError(t, err)
	roots := x509.NewCertPool()
	require.True(t, roots.AppendCertsFromPEM(ca.PEM()))
	conf := &tls.Config{Certificates: []tls.Certificate{{Certificate: shown.Chain(), PrivateKey: shown.Key}}}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	at := l.Addr().String()
	require.NoError(t, l.Close())
	d := island(t, func(o *instance.Options) { o.Collector = &instance.Collector{Address: at, Roots: roots} })
	x := newTerminal(t, d)
	require.Eventually(t, func() bool {
		out, _, _ := x.run("status")
		return strings.Contains(squeezed(out), "lines of the journal wait to be sent on to "+at)
	}, 10*time.Second, 50*time.Millisecond)
	var c collected
	open := func() net.Listener {
		l, err := net.Listen("tcp", at)
		require.NoError(t, err)
		t.Cleanup(func() { _ = l.Close() })
		go c.serve(tls.NewListener(l, conf))
		return l
	}
	l = open()
	all := func(text string) {
		t.Helper()
		require.Eventually(t, func() bool {
			c.Lock()
			defer c.Unlock()
			return len(c.messages) > 0 && strings.Contains(c.messages[len(c.messages)-1], text)
		}, 70*time.Second, 20*time.Millisecond, text)
	}
	require.NoError(t, l.Close())
	x.did("users", "second-factor", "link", "rory.researcher")
	l = open()
	all("(rory.researcher)")
	c.Lock()
	for _, conn := range c.conns {
		_ = conn.Close()
	}
	c.Unlock()
	require.NoError(t, l.Close())
	x.did("users", "second-factor", "link", "vera.volunteer")
	open()
	all("(vera.volunteer)")
	x.did("users", "change", "rory.researcher", "--full-name", `Rory "Quill" ] R\\`)
	all("(rory.researcher)")
	numbers := c.numbers()
	for i, n := range numbers {
		require.Equal(t, i+1, n, "every line, in order: %v", numbers)
	}
	require.NoError(t, c.wrong)
	header := regexp.MustCompile(`^<1(08|09|10)>1 \d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\.\d{3}Z [!-~]+ yellow-lantern \d+ [a-z]+ ` +
		`\[line@32473( [a-z]+="([^"\\\]]|\\["\\\]])*")+\] \x{feff}.+$`)
	c.Lock()
	defer c.Unlock()
	for _, m := range c.messages {
		require.Regexp(t, header, m)
	}
	require.Contains(t, squeezed(x.did("status")), "every line of the journal is sent on to "+at)
}
