package remote_test

import (
	"context"
	"crypto/hmac"
	"crypto/md5"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"net"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	wire "layeh.com/radius"
	"layeh.com/radius/rfc2865"
	"layeh.com/radius/rfc2869"
	"layeh.com/radius/vendors/microsoft"

	"yellowlantern/internal/core/eap"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/eaptls"
	"yellowlantern/internal/people/remote"
	"yellowlantern/internal/people/source"
	"yellowlantern/internal/testkit/radiusserver"
)

func mainland(s *radiusserver.Server) plan.Source {
	return plan.Source{
		Name: "mainland", Kind: plan.KindRADIUS, Servers: []string{s.UDP}, Authority: s.Authority, Secret: "shared", Timeout: plan.Duration(15 * time.Second),
		Own: &plan.RADIUS{Certificate: "lantern"},
	}
}

func opened(t testing.TB, s plan.Source, secret string, client func(context.Context) (*tls.Certificate, error)) *remote.Server {
	r, err := remote.New(s, remote.Secrets{Shared: func(context.Context) (string, error) { return secret, nil }, Certificate: client}, nil)
	require.NoError(t, err)
	t.Cleanup(r.Close)
	return r
}

func shown(s *radiusserver.Server) func(context.Context) (*tls.Certificate, error) {
	return func(context.Context) (*tls.Certificate, error) {
		return &tls.Certificate{Certificate: s.Client.Chain(), PrivateKey: s.Client.Key}, nil
	}
}

func names(gs []source.Group) (out []string) {
	for _, g := range gs {
		out = append(out, g.Name)
	}
	return out
}

var from = netip.MustParseAddr("203.0.113.45")

// Somebody logs in by a password that is handed over, by UDP and over TLS, whatever their name holds; what the server says of them is
// taken.
func TestLogin(t *testing.T) {
	s := radiusserver.Start(t, "mschapv2")
	ctx := t.Context()
	for name, change := range map[string]func(*plan.Source){
		"by UDP":         func(*plan.Source) {},
		"over TLS":       func(x *plan.Source) { x.Servers, x.Secret = []string{s.TLS}, "" },
		"the second":     func(x *plan.Source) { x.Servers = []string{"radius://127.0.0.1:1", "radius+tls://localhost:1", s.UDP} },
		"from elsewhere": func(x *plan.Source) { x.From = netip.MustParseAddr("127.0.0.9") },
	} {
		x := mainland(s)
		change(&x)
		r := opened(t, x, radiusserver.Secret, shown(s))
		for range 3 { // by connections that are kept, too
			p, err := r.Login(ctx, source.Call{User: "dora", Password: radiusserver.Password, From: from}, nil)
			require.NoError(t, err, name)
			require.Equal(t, []string{"dora", "researchers", "Nest-Watchers"}, append([]string{p.Login}, names(p.Groups)...), name)
		}
		_, err := r.Login(ctx, source.Call{User: "dora", Password: "wrong"}, nil)
		require.Equal(t, source.Refused, source.KindOf(err), "%s: %v", name, err)
		require.Empty(t, r.State().Error, "a refusal is an answer")
		r.Probe(ctx)
		require.Empty(t, r.State().Error, name)
	}
	many := mainland(s)
	many.Servers, many.Timeout = []string{s.TLS}, plan.Duration(10*time.Second)
	once := opened(t, many, "", shown(s))
	var all sync.WaitGroup
	for range 40 { // this server takes sixteen connections of a client
		all.Go(func() {
			_, err := once.Login(ctx, source.Call{User: "dora", Password: radiusserver.Password}, nil)
			require.NoError(t, err)
		})
	}
	all.Wait()
	r := opened(t, mainland(s), radiusserver.Secret, nil)
	for user, password := range map[string]string{"odd(one)*": radiusserver.Password, "utf": "пароль из слов"} {
		_, err := r.Login(ctx, source.Call{User: user, Password: password}, nil)
		require.NoError(t, err, user)
	}
	for user, kind := range map[string]source.Kind{
		"nobody": source.Refused, "odd(one)": source.Refused, "a\x00b": source.Unknown, "": source.Unknown, strings.Repeat("x", 10<<10): source.Unknown, "closed": source.Refused,
	} {
		_, err := r.Login(ctx, source.Call{User: user, Password: radiusserver.Password}, nil)
		require.Equal(t, kind, source.KindOf(err), "%.20q: %v", user, err)
		if user == "closed" {
			require.ErrorContains(t, err, `The station is closed, \u001b[31mcome back`)
		}
	}
	for _, password := range []string{"", strings.Repeat("x", 129)} {
		_, err := r.Login(ctx, source.Call{User: "dora", Password: password}, nil)
		require.Equal(t, source.Refused, source.KindOf(err))
	}
	p, err := r.Login(ctx, source.Call{User: "bound", Password: radiusserver.Password}, nil)
	require.NoError(t, err)
	require.Equal(t, []netip.Addr{netip.MustParseAddr("10.99.0.77")}, p.Limits.Addresses)
	require.Equal(t, []time.Duration{time.Hour, 10 * time.Minute}, []time.Duration{p.Limits.Longest, p.Limits.Idle})
	require.Equal(t, [][]byte{{0, 0xff, 0x10}}, p.Class)
	p, err = r.Login(ctx, source.Call{User: "renamed", Password: radiusserver.Password}, nil)
	require.NoError(t, err)
	require.Equal(t, "dora", p.Login, "the server says who they are")
	x := mainland(s)
	x.RADIUS().GroupsFrom = plan.GroupsClass
	p, err = opened(t, x, radiusserver.Secret, nil).Login(ctx, source.Call{User: "dora", Password: radiusserver.Password}, nil)
	require.NoError(t, err)
	require.Equal(t, []string{"volunteers"}, names(p.Groups))
}

// What is wrong between the service and a server is told as what it is, in no more time than the plan gives.
func TestFaults(t *testing.T) {
	s, other := radiusserver.Start(t, "mschapv2"), radiusserver.Start(t, "mschapv2")
	none := func(context.Context) (*tls.Certificate, error) { return &tls.Certificate{}, nil }
	for name, x := range map[string]struct {
		change func(*plan.Source)
		secret string
		client func(context.Context) (*tls.Certificate, error)
		kind   source.Kind
		says   string
	}{
		"nobody listens":          {func(x *plan.Source) { x.Servers = []string{"radius://127.0.0.1:1"} }, radiusserver.Secret, none, source.Away, "nobody listens"},
		"another secret":          {func(*plan.Source) {}, "another one, quite", none, source.Away, "share another secret"},
		"no secret":               {func(*plan.Source) {}, "", none, source.Account, "it is empty"},
		"not its client":          {func(x *plan.Source) { x.From = netip.MustParseAddr("127.0.0.8") }, radiusserver.Secret, none, source.Away, "do not know who asks"},
		"another authority":       {func(x *plan.Source) { x.Servers, x.Authority = []string{s.TLS}, other.Authority }, "", shown(s), source.Away, "unknown authority"},
		"another name":            {func(x *plan.Source) { x.Servers = []string{strings.Replace(s.TLS, "localhost", "127.0.0.1", 1)} }, "", shown(s), source.Away, "127.0.0.1"},
		"no certificate":          {func(x *plan.Source) { x.Servers = []string{s.TLS} }, "", none, source.Away, "certificate"},
		"a stranger's one":        {func(x *plan.Source) { x.Servers = []string{s.TLS} }, "", shown(other), source.Away, "certificate"},
		"TLS where there is none": {func(x *plan.Source) { x.Servers = []string{"radius+tls://localhost:1"} }, "", shown(s), source.Away, "refused"},
	} {
		src := mainland(s)
		src.Timeout = plan.Duration(1500 * time.Millisecond)
		x.change(&src)
		r := opened(t, src, x.secret, x.client)
		begun := time.Now()
		var did []string
		_, err := r.Login(t.Context(), source.Call{
			User:     "dora",
			Password: radiusserver.Password,
		},
			func(a source.Asked) { did = append(did, a.Words) })
		require.Equal(t, x.kind, source.KindOf(err), "%s: %v", name, err)
		require.ErrorContains(t, err, x.says, name)
		require.Less(t, time.Since(begun), 15*time.Second, name)
		require.NotEmpty(t, r.State().Error, name)
		if x.kind == source.Away {
			require.NotEmpty(t, did, name)
		}
	}
	for _, bad := range []string{
		"radius.tern.example", "ldaps://r", "radius://", "radius://me:secret@r",
		"radius://r:0",
		"radius://r:99999", "radius://r/x",
	} {
		src := mainland(s)
		src.Servers = []string{bad}
		_, err := remote.New(src, remote.Secrets{}, nil)
		require.ErrorContains(t, err, "is no server", bad)
	}
}

// forger answers what is asked as somebody on the way would.
func forger(t *testing.T, answer func(request []byte) [][]byte) string {
	c, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close() })
	go func() {
		buf := make([]byte, 4096)
		for {
			n, from, err := c.ReadFrom(buf)
			if err != nil {
				return
			}
			for _, b := range answer(buf[:n]) {
				_, _ = c.WriteTo(b, from)
			}
		}
	}()
	return "radius://" + c.LocalAddr().String()
}

// through carries a login between a device and whoever judges it.
func through(t *testing.T, next func([]byte) []byte, device *eap.Peer) error {
	message := next(nil)
	for range 60 {
		answer, done, err := device.Handle(message)
		if err != nil || done {
			return err
		}
		message = next(answer)
	}
	return errors.New("no end")
}

// A device proves itself by MS-CHAPv2 to a server that it never sees, both have the same key, and a password that has expired is changed.
func TestChallenge(t *testing.T) {
	s := radiusserver.Start(t, "mschapv2")
	for name, servers := range map[string][]string{"by UDP": {s.UDP}, "over TLS": {s.TLS}} {
		src := mainland(s)
		src.Servers = servers
		r := opened(t, src, radiusserver.Secret, shown(s))
		login := func(user, password, next string) (who source.Person, kind source.Kind, err error) {
			kind = -1
			c := eap.Converse(eap.ByMSCHAPv2(rand.Reader, "gate", func(c eap.Check) (v eap.Verdict) {
				var failed error
				if who, v, failed = r.Challenge(t.Context(), from, c, nil); failed != nil {
					kind = source.KindOf(failed)
				}
				return v
			}))
			device := eap.NewPeer(rand.Reader, user, password)
			device.Next = next
			var key []byte
			err = through(t, func(m []byte) []byte {
				step := c.Next(m)
				key = step.Key
				return step.Send
			}, device)
			if err == nil {
				require.Equal(t, device.MSK(), key, "both have one key")
			}
			return who, kind, err
		}
		who, _, err := login("dora", radiusserver.Password, "")
		require.NoError(t, err, name)
		require.Equal(t, []string{"researchers", "Nest-Watchers"}, names(who.Groups))
		_, _, err = login(`TERN\dora`, radiusserver.Password, "")
		require.NoError(t, err, "a domain in front is left out")
		_, kind, err := login("dora", "wrong", "")
		require.ErrorIs(t, err, eap.ErrRefused)
		require.Equal(t, source.Refused, kind)
		_, _, err = login("expired", radiusserver.Password, "")
		require.ErrorIs(t, err, eap.ErrMustChange)
		_, _, err = login("expired", radiusserver.Password, "harrier mosaic plover")
		require.ErrorIs(t, err, eap.ErrRefused, "this server changes nobody's password")
	}
}

// Whole conversations go to and fro, by whichever method both have, and leave the same key behind.
func TestRelay(t *testing.T) {
	for _, method := range []string{"mschapv2", "ttls"} {
		s := radiusserver.Start(t, method)
		roots := x509.NewCertPool()
		require.True(t, roots.AppendCertsFromPEM([]byte(s.Authority)))
		for _, servers := range [][]string{{s.UDP}, {"radius://127.0.0.1:1", s.TLS}} {
			src := mainland(s)
			src.Servers = servers
			r := opened(t, src, radiusserver.Secret, shown(s))
			login := func(password string) (out source.Answer, key []byte, err error) {
				relay := r.Relay(login.Call{From: from, Server: "gate.tern.example"})
				device := eap.NewPeer(rand.Reader, "dora", password)
				inside := eaptls.NewPeer("localhost", roots, "dora", password)
				defer inside.Close()
				if method == "ttls" {
					device.Others = []eap.PeerMethod{inside}
				}
				var refused error
				err = through(t, func(m []byte) []byte {
					if m == nil {
						return []byte{1, 1, 0, 5, 1} // who are you?
					}
					if out, refused = carried(t, relay, m); refused != nil {
						return eap.Failure(m)
					}
					return out.Send
				}, device)
				if refused != nil {
					return out, nil, refused
				}
				if method == "ttls" {
					return out, inside.MSK(), err
				}
				return out, device.MSK(), err
			}
			out, key, err := login(radiusserver.Password)
			require.NoError(t, err, method)
			require.True(t, out.Over)
			require.Equal(t, key, out.Key, "both have one key")
			require.Equal(t, "dora", out.Person.Login)
			require.Equal(t, []string{"researchers", "Nest-Watchers"}, names(out.Person.Groups), method)
			_, _, err = login("wrong")
			require.Equal(t, source.Refused, source.KindOf(err), "%v", err)
		}
	}
}

func carried(t *testing.T, r source.Relay, m []byte) (source.Answer, error) {
	ctx, stop := context.WithTimeout(t.Context(), 5*time.Second)
	defer stop()
	return r.Next(ctx, m)
}

// What somebody on the way makes up counts for nothing, whatever it says; what the server says after it does.
func TestForged(t *testing.T) {
	s := radiusserver.Start(t, "mschapv2")
	real, err := net.ResolveUDPAddr("udp", strings.TrimPrefix(s.UDP, "radius://"))
	require.NoError(t, err)
	accept := func(request []byte, secret string, signed bool) []byte {
		p, err := wire.Parse(request, []byte(secret))
		require.NoError(t, err)
		a := p.Response(wire.CodeAccessAccept)
		if signed {
			require.NoError(t, rfc2869.MessageAuthenticator_Set(a, make([]byte, 16)))
		}
		require.NoError(t, rfc2865.FilterID_SetString(a, "wardens"))
		b, err := a.Encode()
		require.NoError(t, err)
		return b
	}
	for name, made := range map[string]func(request []byte) []byte{
		"another secret":                func(q []byte) []byte { return accept(q, "guess", false) },
		"without Message-Authenticator": func(q []byte) []byte { return accept(q, radiusserver.Secret, false) },
		"with a wrong one":              func(q []byte) []byte { return accept(q, radiusserver.Secret, true) },
		"another number":                func(q []byte) []byte { b := accept(q, radiusserver.Secret, true); b[1]++; return b },
		"an attribute that claims too much": func(q []byte) []byte {
			return append([]byte{2, q[1], 0, 24}, append(make([]byte, 16), 79, 255, 0, 0)...)
		},
		"a length that lies": func(q []byte) []byte { return append([]byte{2, q[1], 0xff, 0xff}, make([]byte, 40)...) },
		"nothing":            func([]byte) []byte { return []byte{} },
		"the request itself": func(q []byte) []byte { return append([]byte{}, q...) },
	} {
		way := forger(t, func(q []byte) [][]byte { return [][]byte{made(q)} })
		src := mainland(s)
		src.Servers, src.Timeout = []string{way}, plan.Duration(time.Second)
		_, err := opened(t, src, radiusserver.Secret, nil).Login(t.Context(), source.Call{User: "dora", Password: "wrong"}, nil)
		require.Error(t, err, name)
		require.Contains(t, []source.Kind{source.Away, source.Account}, source.KindOf(err), "%s: %v", name, err)

		way = forger(t, func(q []byte) [][]byte { // and then what the server says
			c, err := net.DialUDP("udp", nil, real)
			require.NoError(t, err)
			defer c.Close()
			_, _ = c.Write(q)
			buf := make([]byte, 4096)
			n, err := c.Read(buf)
			require.NoError(t, err)
			return [][]byte{made(q), buf[:n]}
		})
		src.Servers = []string{way}
		_, err = opened(t, src, radiusserver.Secret, nil).Login(t.Context(), source.Call{User: "dora", Password: "wrong"}, nil)
		require.Equal(t, source.Refused, source.KindOf(err), "%s: %v", name, err)
	}
}

// A password that has expired is changed in the login itself (RFC 2548 §2.3.6, §2.1.6): a server reads the new one with the old one, and
// finds the answer to be made with it.
func TestChangesPassword(t *testing.T) {
	const next = "harrier mosaic plover, and a long one that takes several attributes"
	old, changed := eap.NTHash(radiusserver.Password), ""
	way := forger(t, func(q []byte) [][]byte {
		p, err := wire.Parse(q, []byte(radiusserver.Secret))
		require.NoError(t, err)
		a := p.Response(wire.CodeAccessReject)
		require.NoError(t, rfc2869.MessageAuthenticator_Set(a, make([]byte, 16)))
		cpw := microsoft.MSCHAP2CPW_Get(p)
		if cpw == nil {
			require.NoError(t, microsoft.MSCHAPError_Set(a, []byte("\x01E=648 R=0 C=00000000000000000000000000000000 V=3")))
			return [][]byte{signed(t, a)}
		}
		require.Len(t, cpw, 68)
		require.Equal(t, byte(7), cpw[0])
		c := eap.Check{
			User: "dora", Challenge: [16]byte(microsoft.MSCHAPChallenge_Get(p)),
			Peer:     [16]byte(cpw[18:]),
			Response: [24]byte(cpw[42:]),
		}
		var change eap.Change
		copy(change.Hash[:], cpw[2:])
		parts, err := microsoft.MSCHAPNTEncPW_Gets(p)
		require.NoError(t, err)
		at := 0
		for i, part := range parts {
			require.Equal(t, []byte{6, cpw[1], 0, byte(i + 1)}, part[:4])
			at += copy(change.Password[at:], part[4:])
		}
		require.Equal(t, len(change.Password), at)
		changed, err = change.Open(old)
		require.NoError(t, err)
		v := c.Judge(eap.NTHash(changed))
		require.True(t, v.OK)
		a.Code = wire.CodeAccessAccept
		require.NoError(t, microsoft.MSCHAP2Success_Set(a, append([]byte{1}, v.Proof...)))
		require.NoError(t, microsoft.MSMPPERecvKey_Set(a, v.MSK[:16]))
		require.NoError(t, microsoft.MSMPPESendKey_Set(a, v.MSK[16:32]))
		return [][]byte{signed(t, a)}
	})
	src := plan.Source{Name: "m", Kind: plan.KindRADIUS, Servers: []string{way}}
	r := opened(t, src, radiusserver.Secret, nil)
	c := eap.Converse(eap.ByMSCHAPv2(rand.Reader, "gate", func(k eap.Check) eap.Verdict {
		_, v, err := r.Challenge(t.Context(), from, k, nil)
		require.NoError(t, err)
		return v
	}))
	device := eap.NewPeer(rand.Reader, "dora", radiusserver.Password)
	device.Next = next
	var key []byte
	require.NoError(t, through(t, func(m []byte) []byte {
		step := c.Next(m)
		key = step.Key
		return step.Send
	}, device))
	require.Equal(t, next, changed)
	require.Equal(t, device.MSK(), key)
}

// signed writes an answer with the Message-Authenticator that it has a place for.
func signed(t *testing.T, a *wire.Packet) []byte {
	b, err := a.MarshalBinary()
	require.NoError(t, err)
	mac := hmac.New(md5.New, a.Secret)
	mac.Write(b)
	require.NoError(t, rfc2869.MessageAuthenticator_Set(a, mac.Sum(nil)))
	b, err = a.Encode()
	require.NoError(t, err)
	return b
}
