package mirror

import (
	"context"
	"crypto/sha256"
	"crypto/tls"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/seen"
	"yellowlantern/internal/guard"
	"yellowlantern/internal/testkit/rough"
)

// A mirror tells the address that it is asked from and what answers there, for its token alone and once; whoever asks knows by the token
// that it is that mirror.
func TestMirror(t *testing.T) {
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	at := free.Addr().String()
	require.NoError(t, free.Close())
	tokens := make(chan string, 9)
	s := &Server{Log: slog.New(slog.DiscardHandler), Token: func(token string) { tokens <- token }}
	ctx, stop := context.WithCancel(t.Context())
	over := make(chan error, 1)
	go func() { over <- s.Serve(ctx, at) }()
	token := <-tokens

	udp := func(answer func([]byte) []byte) seen.Port {
		c, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.Close() })
		go func() {
			b := make([]byte, 2000)
			for {
				n, from, err := c.ReadFromUDPAddrPort(b)
				if err != nil {
					return
				}
				if a := answer(b[:n]); a != nil {
					_, _ = c.WriteToUDPAddrPort(a, from)
				}
			}
		}()
		return seen.Port{Proto: "udp", Port: uint16(c.LocalAddr().(*net.UDPAddr).Port)}
	}
	speaks := udp(func(b []byte) []byte { return append(b[:8:8], make([]byte, 20)...) })
	marked := udp(func(b []byte) []byte { return append(b[:12:12], make([]byte, 20)...) })
	marked.Marked = true
	silent := udp(func([]byte) []byte { return nil })
	babble := udp(func([]byte) []byte { return []byte("something else") })
	tcp, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer tcp.Close()
	open := seen.Port{Proto: "tcp", Port: uint16(tcp.Addr().(*net.TCPAddr).Port)}
	shut := seen.Port{Proto: "tcp", Port: 1}
	ports := []seen.Port{speaks, marked, silent, babble, open, shut}

	_, finger, _ := strings.Cut(token, ".")
	_, err = Ask(t.Context(), at, "GUESSED."+finger, nil, ports)
	require.ErrorContains(t, err, "the token is not valid")
	_, err = Ask(t.Context(), at, strings.Replace(token, finger, strings.Repeat("0", 64), 1), nil, ports)
	require.ErrorContains(t, err, "not the one that the token is of")
	_, err = Ask(t.Context(), at, "no token", nil, ports)
	require.ErrorContains(t, err, "yl mirror prints one")

	r, err := Ask(t.Context(), at, token, []netip.Addr{netip.MustParseAddr("192.0.2.10")}, ports)
	require.NoError(t, err)
	require.Equal(t, "127.0.0.1", r.Seen.String())
	var results []string
	for n, k := range r.Knocked {
		require.Equal(t, ports[n], k.Port)
		results = append(results, k.Result)
	}
	require.Equal(t, []string{seen.Answers, seen.Answers, seen.Silent, seen.Silent, seen.Open, seen.Closed}, results)
	_, err = Ask(t.Context(), at, token, nil, ports)
	require.ErrorContains(t, err, "was used")
	require.NotEqual(t, token, <-tokens)
	stop()
	require.NoError(t, <-over)
}

// The answer to a STUN binding holds where it came from, as the standard writes it; what is none is not answered.
func TestSTUN(t *testing.T) {
	request := binary.BigEndian.AppendUint32([]byte{0, 1, 0, 0}, stunCookie)
	request = append(request, []byte("twelve octet")...)
	for _, from := range []string{"192.0.2.1:32853", "[2001:db8:1234:5678:11:2233:4455:6677]:32853"} {
		at := netip.MustParseAddrPort(from)
		b := bound(request, at)
		require.Equal(t, []byte{1, 1}, b[:2])
		require.Equal(t, len(b)-stunHeader, int(binary.BigEndian.Uint16(b[2:])))
		require.Equal(t, request[4:20], b[4:20])
		require.Equal(t, []byte{0, 0x20}, b[20:22])
		require.EqualValues(t, 32853, binary.BigEndian.Uint16(b[26:])^0x2112)
		addr := b[28:]
		for i := range addr {
			addr[i] ^= request[4+i]
		}
		got, ok := netip.AddrFromSlice(addr)
		require.True(t, ok)
		require.Equal(t, at.Addr(), got)
	}
	for _, bad := range [][]byte{nil, request[:19], append([]byte{1}, request[1:]...), append(request[:20:20], 0, 0, 0, 0)} {
		require.Nil(t, bound(bad, netip.AddrPort{}), fmt.Sprint(bad))
	}
}

// Rough callers keep nobody from asking.
func TestRoughCallers(t *testing.T) {
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	at := free.Addr().String()
	require.NoError(t, free.Close())
	tokens := make(chan string, 9)
	s := &Server{Log: slog.New(slog.DiscardHandler), Token: func(token string) { tokens <- token }}
	go func() { _ = s.Serve(t.Context(), at) }()
	token := <-tokens
	valid := []byte("POST /look HTTP/1.1\r\nHost: mirror\r\nContent-Length: 40\r\n\r\n{\"token\": \"x\", \"ports\": [], \"names\":[]}")
	rough.Callers(func() (net.Conn, error) { return net.Dial("tcp", at) }, valid, 200)
	rough.Callers(func() (net.Conn, error) { return tls.Dial("tcp", at, &tls.Config{InsecureSkipVerify: true}) }, valid[:len(valid)-1], 200)
	require.Empty(t, guard.Panics())
	require.Eventually(t, func() bool {
		_, err = Ask(t.Context(), at, token, nil, nil)
		return err == nil
	}, 15*time.Second, 100*time.Millisecond, "%v", err)
}

// Whoever is asked in place of a mirror learns nothing, leads nowhere, and has nothing shown; this host's own addresses are not asked.
func TestNoMirror(t *testing.T) {
	reached := 0
	inner := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { reached++ }))
	defer inner.Close()
	for what, answer := range map[string]http.HandlerFunc{
		"sends whoever asks elsewhere": func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, inner.URL, http.StatusTemporaryRedirect)
		},
		"status 500": func(w http.ResponseWriter, _ *http.Request) {
			http.Error(w, "a secret of the inside", http.StatusInternalServerError)
		},
		"no answer of a mirror": func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("a secret of the inside")) },
	} {
		other := httptest.NewTLSServer(answer)
		sum := sha256.Sum256(other.Certificate().Raw)
		_, err := Ask(t.Context(), other.Listener.Addr().String(), "x."+hex.EncodeToString(sum[:]), nil, nil)
		require.ErrorContains(t, err, what)
		require.NotContains(t, err.Error(), "secret")
		other.Close()
	}
	require.Zero(t, reached)
	for _, own := range []string{
		"127.0.0.1:8743", "[::1]:8743", "0.0.0.0:1", "[::ffff:127.0.0.1]:1", "localhost:8743", "169.254.1.1:1", "224.0.0.1:1",
	} {
		require.Error(t, Elsewhere(t.Context(), own), own)
	}
	require.NoError(t, Elsewhere(t.Context(), "203.0.113.80:8743"))
}
