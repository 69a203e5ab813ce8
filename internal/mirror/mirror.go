// Package mirror tells a gateway, from elsewhere, which address it is seen at, and knocks at its ports, so that what a router in front, a
// provider or a wrong plan keeps out is found by evidence. A mirror knocks only at the address that asks it, a few times, and only for who
// has its token, which is good for one asking. It answers STUN (RFC 8489) as well.
package mirror

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"math/big"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"yellowlantern/internal/core/fold"
	"yellowlantern/internal/core/seen"
	"yellowlantern/internal/doors"
	"yellowlantern/internal/guard"
	"yellowlantern/internal/tunnel/ikev2"
)

const (
	knocks    = 3
	knockWait = 800 * time.Millisecond
	mostPorts = 8
	mostBody  = 1 << 14
	mostOpen  = 256 // connections
	mostEach  = 16  // of one source
	askTime   = 20 * time.Second
)

// Question is what a gateway asks.
type Question struct {
	Token string      `json:"token"`
	Ports []seen.Port `json:"ports"`
}

// Reflection is what a mirror tells.
type Reflection struct {
	Seen    netip.Addr     `json:"seen"`
	Knocked []seen.Knocked `json:"knocked" nullable:"false"`
}

// Server is a mirror.
type Server struct {
	Log *slog.Logger
	// Token is told every token that is good for one asking.
	Token func(string)

	finger string // of the certificate, in tokens
	mu     sync.Mutex
	token  string
	asked  chan struct{} // one asking at a time
}

// Serve serves until the context ends: HTTP over TLS, and STUN over UDP, at one address.
func (s *Server) Serve(ctx context.Context, address string) error {
	own, err := certificate()
	if err != nil {
		return err
	}
	sum := sha256.Sum256(own.Certificate[0])
	s.finger, s.asked = hex.EncodeToString(sum[:]), make(chan struct{}, 1)
	ln, err := net.Listen("tcp", address)
	if err != nil {
		return fmt.Errorf("cannot listen on %s: %w", address, err)
	}
	at := ln.Addr().(*net.TCPAddr)
	udp, err := net.ListenUDP("udp", &net.UDPAddr{IP: at.IP, Port: at.Port})
	if err != nil {
		_ = ln.Close()
		return fmt.Errorf("cannot listen on UDP %s: %w", address, err)
	}
	guard.Go("mirror.stun", func() { guard.Keep("mirror.stun", func() { stun(udp) }) })
	mux := http.NewServeMux()
	mux.HandleFunc("POST /look", s.look)
	server := &http.Server{
		Handler: guard.HTTP("mirror.look", mux), ReadHeaderTimeout: 5 * time.Second, ReadTimeout: 10 * time.Second,
		TLSConfig: &tls.Config{MinVersion: tls.VersionTLS13, Certificates: []tls.Certificate{own}, NextProtos: []string{"http/1.1"}},
		ErrorLog:  slog.NewLogLogger(s.Log.Handler(), slog.LevelDebug),
	}
	stop := context.AfterFunc(ctx, func() { _ = server.Close(); _ = udp.Close() })
	defer stop()
	s.renew()
	if err := server.ServeTLS(doors.Bounded(ln, mostOpen, mostEach), "", ""); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

// renew makes the next token: a secret, and what the mirror is known by.
func (s *Server) renew() {
	s.mu.Lock()
	s.token = rand.Text() + "." + s.finger
	token := s.token
	s.mu.Unlock()
	s.Token(token)
}

// knows tells whether a token is the one that is valid now. It has 130 random bits: nobody guesses it.
func (s *Server) knows(token string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.token != "" && subtle.ConstantTimeCompare([]byte(token), []byte(s.token)) == 1
}

// take takes the token, which is good for nobody else from then on.
func (s *Server) take(token string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.token == "" || subtle.ConstantTimeCompare([]byte(token), []byte(s.token)) != 1 {
		return false
	}
	s.token = ""
	return true
}

func (s *Server) look(w http.ResponseWriter, r *http.Request) {
	from, err := netip.ParseAddrPort(r.RemoteAddr)
	var q Question
	if err != nil || json.NewDecoder(io.LimitReader(r.Body, mostBody)).Decode(&q) != nil || len(q.Ports) > mostPorts {
		http.Error(w, "this is no question for a mirror", http.StatusBadRequest)
		return
	}
	if !s.knows(q.Token) { // before anybody is kept waiting for it
		http.Error(w, "the token is not valid", http.StatusForbidden)
		return
	}
	select {
	case s.asked <- struct{}{}:
		defer func() { <-s.asked }()
	default:
		http.Error(w, "somebody else is asking", http.StatusTooManyRequests)
		return
	}
	if !s.take(q.Token) {
		http.Error(w, "the token is not valid", http.StatusForbidden)
		return
	}
	defer s.renew()
	at := fold.Addr(from.Addr())
	s.Log.Info("asked", "from", from)
	out := Reflection{Seen: at, Knocked: make([]seen.Knocked, len(q.Ports))}
	var all guard.Group
	for n, p := range q.Ports {
		all.Go("mirror.look", func() { out.Knocked[n] = seen.Knocked{Port: p, Result: knock(r.Context(), at, p)} })
	}
	all.Wait()
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(out)
}

// knock knocks at a port a few times.
func knock(ctx context.Context, at netip.Addr, p seen.Port) string {
	tcp := p.Proto == "tcp"
	message, answered, err := ikev2.Knock(p.Marked, tcp)
	if err != nil || p.Proto != "udp" && !tcp {
		return seen.Silent
	}
	result := seen.Silent
	for range knocks {
		d := net.Dialer{Timeout: knockWait}
		c, err := d.DialContext(ctx, p.Proto, netip.AddrPortFrom(at, p.Port).String())
		if err != nil {
			if result = seen.Silent; isRefused(err) {
				return seen.Closed
			}
			continue
		}
		got := one(c, message, answered)
		_ = c.Close()
		if got == seen.Answers || got == seen.Closed {
			return got
		}
		if result = seen.Silent; tcp {
			result = seen.Open
		}
	}
	return result
}

func one(c net.Conn, message []byte, answered func([]byte) bool) string {
	_ = c.SetDeadline(time.Now().Add(knockWait))
	if _, err := c.Write(message); err != nil && isRefused(err) {
		return seen.Closed
	}
	b := make([]byte, 1<<14)
	for {
		n, err := c.Read(b)
		switch {
		case err != nil && isRefused(err):
			return seen.Closed
		case err != nil:
			return seen.Silent
		case answered(b[:n]):
			return seen.Answers
		}
	}
}

func certificate() (c tls.Certificate, err error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return c, err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return c, err
	}
	t := &x509.Certificate{
		SerialNumber: serial, Subject: pkix.Name{CommonName: "mirror"}, NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().Add(366 * 24 * time.Hour), KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	der, err := x509.CreateCertificate(rand.Reader, t, t, key.Public(), key)
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, err
}

// Ask asks the mirror at an address, from an address of this machine if it has it. The token says which certificate the mirror shows.
func Ask(ctx context.Context, address, token string, from []netip.Addr, ports []seen.Port) (r Reflection, err error) {
	_, finger, ok := strings.Cut(token, ".")
	if !ok || len(finger) != 2*sha256.Size {
		return r, errors.New("this is no token of a mirror: yl mirror prints one")
	}
	ctx, stop := context.WithTimeout(ctx, askTime)
	defer stop()
	c := &http.Client{Transport: &http.Transport{DialContext: dialFrom(from), TLSClientConfig: &tls.Config{
		MinVersion: tls.VersionTLS13, InsecureSkipVerify: true, // it is known by its token, not by a name
		VerifyConnection: func(s tls.ConnectionState) error {
			sum := sha256.Sum256(s.PeerCertificates[0].Raw)
			if subtle.ConstantTimeCompare([]byte(hex.EncodeToString(sum[:])), []byte(finger)) != 1 {
				return errors.New("the mirror is not the one that the token is of")
			}
			return nil
		},
	}}, CheckRedirect: func(*http.Request, []*http.Request) error {
		return errors.New("it is no mirror: it sends whoever asks elsewhere")
	}}
	defer c.CloseIdleConnections()
	body, err := json.Marshal(Question{token, slices.Clone(ports)})
	if err != nil {
		return r, err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, "https://"+address+"/look", strings.NewReader(string(body)))
	if err != nil {
		return r, fmt.Errorf("%q is no mirror's address: write 203.0.113.80:8743", address)
	}
	resp, err := c.Do(req)
	if err != nil {
		return r, fmt.Errorf("the mirror at %s is not reached: %w", address, err)
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(io.LimitReader(resp.Body, mostBody))
	if err != nil {
		return r, err
	}
	switch resp.StatusCode { // what the other side writes is shown to nobody
	case http.StatusOK:
	case http.StatusForbidden:
		return r, errors.New("the token is not valid, or was used: the mirror shows the next one")
	case http.StatusTooManyRequests:
		return r, errors.New("somebody else is asking the mirror: try again in a moment")
	default:
		return r, fmt.Errorf("the mirror at %s answers with status %d: it is no mirror, or another version", address, resp.StatusCode)
	}
	if json.Unmarshal(b, &r) != nil {
		return Reflection{}, fmt.Errorf("the mirror at %s gives no answer of a mirror", address)
	}
	return r, nil
}

// Elsewhere tells why an address is none of a mirror elsewhere: it is this host's own, or no address of one host.
func Elsewhere(ctx context.Context, address string) error {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return fmt.Errorf("%q is no mirror's address: write 203.0.113.80:8743", address)
	}
	found, err := net.DefaultResolver.LookupNetIP(ctx, "ip", host)
	if err != nil {
		return fmt.Errorf("the mirror's name %s leads nowhere", host)
	}
	own, err := net.InterfaceAddrs()
	if err != nil {
		return err
	}
	for _, a := range fold.Addrs(found) {
		here := slices.ContainsFunc(own, func(x net.Addr) bool {
			p, err := netip.ParsePrefix(x.String())
			return err == nil && fold.Addr(p.Addr()) == a
		})
		if here || a.IsLoopback() || a.IsUnspecified() || a.IsMulticast() || a.IsLinkLocalUnicast() {
			return fmt.Errorf("%s is this host's own address, or none of another host: a mirror is elsewhere", a)
		}
	}
	return nil
}

// dialFrom dials from the first of some addresses that this machine has in the family of the mirror, or else from wherever it dials from.
func dialFrom(from []netip.Addr) func(context.Context, string, string) (net.Conn, error) {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		to, _ := netip.ParseAddrPort(address)
		for _, a := range from {
			if to.Addr().Is4() != a.Is4() {
				continue
			}
			d := net.Dialer{LocalAddr: &net.TCPAddr{IP: a.AsSlice()}}
			if c, err := d.DialContext(ctx, network, address); !errors.Is(err, syscall.EADDRNOTAVAIL) {
				return c, err
			}
		}
		return (&net.Dialer{}).DialContext(ctx, network, address)
	}
}
