// Package mailserver is a mail server for tests (RFC 5321, over TLS from the first octet): it takes every message, and shows what came.
package mailserver

import (
	"bufio"
	"crypto/rand"
	"crypto/tls"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/cert"
)

// Server is one.
type Server struct {
	Address   string
	Authority string // PEM
	listener  net.Listener
	mu        sync.Mutex
	messages  []string
}

// Start starts one on loopback, until the test ends.
func Start(t testing.TB) *Server {
	ca, err := cert.NewAuthority(rand.Reader, time.Now(), "Skua Point")
	require.NoError(t, err)
	shown, err := ca.NewGateway(rand.Reader, time.Now(), "127.0.0.1")
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s := &Server{Address: l.Addr().String(), Authority: string(ca.PEM()), listener: tls.NewListener(l, &tls.Config{
		Certificates: []tls.Certificate{{Certificate: shown.Chain(), PrivateKey: shown.Key}},
	})}
	t.Cleanup(s.Stop)
	go s.serve()
	return s
}

// Stop ends it.
func (s *Server) Stop() { _ = s.listener.Close() }

// Messages are what came, heads included.
func (s *Server) Messages() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]string{}, s.messages...)
}

func (s *Server) serve() {
	for {
		c, err := s.listener.Accept()
		if err != nil {
			return
		}
		go s.talk(c)
	}
}

func (s *Server) talk(c net.Conn) {
	defer c.Close()
	r := bufio.NewReader(c)
	say := func(line string) { _, _ = c.Write([]byte(line + "\r\n")) }
	say("220 skua.example")
	for {
		line, err := r.ReadString('\n')
		if err != nil {
			return
		}
		switch word := strings.ToUpper(strings.Fields(line + " x")[0]); word {
		case "EHLO":
			say("250-skua.example\r\n250 AUTH PLAIN")
		case "AUTH":
			say("235 ok")
		case "DATA":
			say("354 go on")
			var text strings.Builder
			for {
				line, err := r.ReadString('\n')
				if err != nil {
					return
				}
				if line == ".\r\n" {
					break
				}
				text.WriteString(line)
			}
			s.mu.Lock()
			s.messages = append(s.messages, text.String())
			s.mu.Unlock()
			say("250 taken")
		case "QUIT":
			say("221 bye")
			return
		default:
			say("250 ok")
		}
	}
}
