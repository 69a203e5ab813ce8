package ike

import (
	"bytes"
	"crypto"
	"crypto/ecdh"
	"crypto/ecdsa"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/binary"
	"encoding/hex"
	"math/big"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/algorithm"
	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/eap"
	"yellowlantern/internal/core/esp"
	conversation "yellowlantern/internal/core/login"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/reason"
)

const (
	dial     = "gate.tern.example"
	user     = "rory.researcher"
	password = "tide 4 tern"
)

var (
	start   = time.Date(2026, 5, 1, 0, 0, 0, 0, time.UTC)
	device  = Peer{Addr: netip.MustParseAddrPort("203.0.113.45:40500")}
	ca      = must(cert.NewAuthority(rand.Reader, start, "Tern Island"))
	gateway = must(ca.NewGateway(rand.Reader, start, dial))
	routes  = netset.OfPrefixes(netip.MustParsePrefix("10.20.0.0/24"), netip.MustParsePrefix("fd00:20::/64"))
	given   = Configuration{
		Addresses: []netip.Addr{netip.MustParseAddr("10.99.0.5"), netip.MustParseAddr("fd00:99::5")},
		DNS:       []netip.Addr{netip.MustParseAddr("10.20.0.53")}, Domains: []string{"tern.example"}, Routes: routes,
	}
)

func ecdsaVerify(c *x509.Certificate, digest, sig []byte) bool {
	return ecdsa.VerifyASN1(c.PublicKey.(*ecdsa.PublicKey), digest, sig)
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// world is a caller and a gateway, with whoever answers the gateway's requests, and everything that was said.
type world struct {
	t      testing.TB
	now    time.Time
	l      *Listener
	i      *Initiator
	kept   string // the password that the store keeps
	grant  Grant
	events []Output
	wire   [][]byte
	lose   func(n int, fromDevice bool) bool
	from   Peer
	asked  []AskLease
	shown  Shown
	owner  conversation.Outcome                         // whose key it is
	back   func(remembered []byte) conversation.Outcome // who came back
	order  func([]Output) []Output                      // in which what one side sends at once comes; nil: as it was sent
	shares func(AskShared) conversation.Shared
	first  func([]payload) []payload // of the device's first message; nil: it stays
	alter  func([]payload) []payload // of the device's first sealed message, before it is sealed; nil: it stays
}

// altered is a sealed message of the device with other payloads in it.
func (w *world) altered(b []byte) []byte {
	m := must(parseMessage(b))
	if w.first != nil && m.exchange == ikeSAInit {
		m.payloads = w.first(m.payloads)
		return m.marshal()
	}
	if w.alter == nil || m.exchange != ikeAuth {
		return b
	}
	inner := must(w.i.keys.open(m, true, true))
	first, chain := marshalPayloads(w.alter(inner.payloads))
	w.alter = nil
	return w.i.keys.sealChain(m.header, first, chain, true, 1<<32)
}

func newWorld(t testing.TB, change func(*Settings, *Caller)) *world {
	w := &world{
		t: t, now: start, from: device, kept: password, grant: Grant{Configuration: given}, lose: func(int, bool) bool { return false },
	}
	s := DefaultSettings()
	s.Name, s.Chain, s.Key, s.Rand, s.LogKeys = dial, [][]byte{gateway.DER}, gateway.Key, rand.Reader, true
	roots := x509.NewCertPool()
	roots.AddCert(ca.Leaf)
	c := Caller{
		Name: dial, User: user, Password: password, Roots: roots, Algorithms: xThenP, Rand: rand.Reader,
		Local: netip.MustParseAddrPort("192.168.77.20:500"), Remote: netip.MustParseAddrPort("192.0.2.10:500"), Now: func() time.Time { return w.now }, LogKeys: true,
	}
	if change != nil {
		change(&s, &c)
	}
	var err error
	w.l, err = NewListener(s)
	require.NoError(t, err)
	w.i, err = NewInitiator(c)
	require.NoError(t, err)
	return w
}

// run carries outputs to and fro until nothing is left to do.
func (w *world) run(outs []Output, fromDevice bool) {
	if w.order != nil {
		outs = w.order(outs)
	}
	for _, o := range outs {
		switch o := o.(type) {
		case Send:
			w.wire = append(w.wire, o.Data)
			if w.lose(len(w.wire), fromDevice) {
				continue
			}
			if fromDevice {
				w.run(w.l.Handle(w.now, w.from, w.altered(o.Data)), false)
			} else {
				w.run(w.i.Handle(w.now, o.Data), true)
			}
		case Work:
			w.run(w.l.Finish(w.now, o.Do()), false)
		case AskLogin:
			talk := o.Talk
			if talk == nil {
				talk = eap.Converse(eap.ByMSCHAPv2(rand.Reader, o.Server,
					func(c eap.Check) eap.Verdict { return c.Judge(eap.NTHash(w.kept)) }))
			}
			w.run(w.l.Told(w.now, o.ID, talk, talk.Next(o.Message)), false)
		case AskLease:
			w.asked = append(w.asked, o)
			w.run(w.l.Granted(w.now, o.ID, w.grant), false)
		case AskKey:
			w.shown = o.Shown
			w.run(w.l.Owner(w.now, o.ID, w.owner), false)
		case AskShared:
			w.run(w.l.Shared(o.ID, w.shares(o)), false)
		case AskBack:
			w.run(w.l.Back(w.now, o.ID, w.back(o.Remember)), false)
		default:
			w.events = append(w.events, o)
		}
	}
}

func (w *world) login() { w.run(w.i.Start(w.now), true) }

func find[T Output](w *world) (T, bool) {
	for _, o := range w.events {
		if v, ok := o.(T); ok {
			return v, true
		}
	}
	var none T
	return none, false
}

func (w *world) failure() error {
	f, _ := find[Failed](w)
	return f.Err
}

// policy takes algorithms of any kind by their words.
func policy(words ...string) Policy {
	var set algorithm.Set
	for _, w := range words {
		for _, k := range algorithm.Kinds {
			if _, ok := algorithm.Named(k, w); ok {
				*set.Kind(k) = append(*set.Kind(k), w)
			}
		}
	}
	return must(PolicyOf(set))
}

var (
	onlyX   = policy("AES-256-GCM-16", "PRF-HMAC-SHA2-256", "X25519")
	onlyP   = policy("AES-256-GCM-16", "PRF-HMAC-SHA2-256", "P-256")
	xThenP  = policy("AES-256-GCM-16", "PRF-HMAC-SHA2-256", "X25519", "P-256")
	pThenX  = policy("AES-256-GCM-16", "PRF-HMAC-SHA2-256", "P-256", "X25519")
	nothing Policy
	suiteP  = Suite{encr: esp.AES256GCM, prf: prfHMACSHA256, group: groupP256}
)

// Every algorithm logs in and carries a renewal; where both sides have several, the gateway's order decides.
func TestLoginByEveryAlgorithm(t *testing.T) {
	type tried struct{ gateway, device, agreed []string }
	var cases []tried
	same := func(words ...string) { cases = append(cases, tried{words, words, words}) }
	for _, a := range algorithm.All {
		switch a.Kind {
		case algorithm.Encryption:
			if a.Own {
				same(a.Name, "PRF-HMAC-SHA2-256", "X25519")
				continue
			}
			for _, i := range algorithm.OfLevel(algorithm.Legacy).Integrity {
				same(a.Name, i, "PRF-HMAC-SHA2-256", "X25519")
			}
		case algorithm.PRF:
			same("AES-128-GCM-16", a.Name, "P-256")
		case algorithm.Group:
			same("AES-256-GCM-16", "PRF-HMAC-SHA2-384", a.Name)
		case algorithm.Additional:
			same("AES-256-GCM-16", "PRF-HMAC-SHA2-512", "X25519", a.Name)
			same("AES-256-CBC", "HMAC-SHA2-256-128", "PRF-HMAC-SHA2-256", "MODP-2048", a.Name)
		}
	}
	all := func(level string) (out []string) {
		set := algorithm.OfLevel(level)
		for _, k := range algorithm.Kinds {
			out = append(out, *set.Kind(k)...)
		}
		return out
	}
	cases = append(cases,
		tried{
			all(algorithm.Broad),
			[]string{"AES-128-CBC", "HMAC-SHA2-512-256", "PRF-HMAC-SHA2-512", "MODP-2048", "AES-256-CBC", "HMAC-SHA2-256-128"},
			[]string{"AES-256-CBC", "HMAC-SHA2-256-128", "PRF-HMAC-SHA2-512", "MODP-2048"},
		},
		tried{
			[]string{"AES-256-CBC", "HMAC-SHA2-384-192", "PRF-HMAC-SHA2-512", "P-384", "AES-256-GCM-16", "PRF-HMAC-SHA2-256", "X25519"},
			all(algorithm.Broad),
			[]string{"AES-256-CBC", "HMAC-SHA2-384-192", "PRF-HMAC-SHA2-512", "P-384"},
		},
		tried{
			all(algorithm.Strict), all(algorithm.Broad),
			[]string{"AES-256-GCM-16", "PRF-HMAC-SHA2-256", "X25519", "ML-KEM-768"},
		},
		tried{
			[]string{"AES-256-GCM-16", "PRF-HMAC-SHA2-256", "X25519", "ML-KEM-1024"},
			all(algorithm.Broad),
			[]string{"AES-256-GCM-16", "PRF-HMAC-SHA2-256", "X25519", "ML-KEM-1024"},
		},
		tried{
			all(algorithm.Legacy),
			[]string{"3DES-CBC", "HMAC-SHA1-96", "PRF-HMAC-SHA1", "MODP-1024"},
			[]string{"3DES-CBC", "HMAC-SHA1-96", "PRF-HMAC-SHA1", "MODP-1024"},
		},
	)
	require.Greater(t, len(cases), 25)
	for _, c := range cases {
		w := newWorld(t, func(s *Settings, d *Caller) { s.Algorithms, d.Algorithms = policy(c.gateway...), policy(c.device...) })
		w.login()
		up, ok := find[Up](w)
		require.True(t, ok, "%v: %v", c.agreed, w.failure())
		require.Equal(t, strings.Join(c.agreed, ", "), up.Suite)
		require.Len(t, up.Child.InKey, up.Child.Algorithm.KeyLen())
		est, ok := find[Established](w)
		require.True(t, ok)
		require.Equal(t, user, up.User)
		require.True(t, up.NAT, "the device is behind a translation")
		require.True(t, est.Behind)
		require.Equal(t, given.Addresses, est.Addresses)
		require.Equal(t, given.DNS, est.DNS)
		require.Equal(t, given.Domains, est.Domains)
		require.True(t, est.Routes.Equal(routes), "selectors are narrowed to the passage")
		require.Equal(t, up.Child.InKey, est.Child.OutKey)
		require.Equal(t, up.Child.OutKey, est.Child.InKey)
		require.Equal(t, up.Child.In, est.Child.Out)
		require.Equal(t, 1, w.l.Sessions())
		require.Zero(t, w.l.HalfOpen())
		before := w.l.sessions[up.ID].cur
		w.now = w.now.Add(time.Minute)
		w.i.b.renewIKE(w.now)
		w.run(w.i.take(), true)
		require.NotSame(t, before, w.l.sessions[up.ID].cur, "%v", c.agreed)
		require.Equal(t, up.Suite, w.l.sessions[up.ID].cur.suite.String())

		w.run(w.i.End(w.now), true)
		down, ok := find[Down](w)
		require.True(t, ok)
		require.Equal(t, "the device ended the session", down.Reason.Words())
		require.Zero(t, w.l.Sessions())
		require.Empty(t, w.l.children)
	}
	strict := newWorld(t, func(s *Settings, d *Caller) {
		s.Algorithms, d.Algorithms = Level(algorithm.Strict), policy("AES-256-CBC", "HMAC-SHA2-256-128", "PRF-HMAC-SHA2-256", "MODP-2048")
	})
	strict.login()
	require.ErrorContains(t, strict.failure(), "NO_PROPOSAL_CHOSEN")
	note, _ := find[Note](strict)
	require.Equal(t, "AES-256-CBC, HMAC-SHA2-256-128, PRF-HMAC-SHA2-256, MODP-2048", note.Reason.With[reason.Offered])
}

// The primes are those of RFC 3526 and RFC 7296: safe ones, and RFC 3526's own digits at their ends; halves that would give the secret away
// are refused (RFC 6989).
func TestMODP(t *testing.T) {
	require.Len(t, modps, 6)
	for number, ends := range map[uint16][2]string{
		groupMODP1024: {"ffffffffffffffffc90fdaa22168c234", "49286651ece65381ffffffffffffffff"},
		groupMODP2048: {"ffffffffffffffffc90fdaa22168c234", "15728e5a8aacaa68ffffffffffffffff"},
		groupMODP3072: {"ffffffffffffffffc90fdaa22168c234", "4b82d120a93ad2caffffffffffffffff"},
		groupMODP4096: {"ffffffffffffffffc90fdaa22168c234", "4df435c934063199ffffffffffffffff"},
		groupMODP6144: {"ffffffffffffffffc90fdaa22168c234", "6dcc4024ffffffffffffffff"},
		groupMODP8192: {"ffffffffffffffffc90fdaa22168c234", "60c980dd98edd3dfffffffffffffffff"},
	} {
		m := modps[number]
		digits := m.prime.Text(16)
		require.Len(t, digits, 2*m.size)
		require.True(t, strings.HasPrefix(digits, ends[0]) && strings.HasSuffix(digits, ends[1]), "%d: %s", number,
			digits[len(digits)-32:])
		if m.size <= 256 {
			require.True(t, m.prime.ProbablyPrime(4))
			require.True(t, new(big.Int).Rsh(m.prime, 1).ProbablyPrime(4), "a safe prime")
		}
		a, b := must(newDH(number, rand.Reader)), must(newDH(number, rand.Reader))
		require.Equal(t, must(a.shared(b.public())), must(b.shared(a.public())))
		require.Len(t, a.public(), m.size)
		for _, bad := range []*big.Int{new(big.Int), one, new(big.Int).Sub(m.prime, one), m.prime, new(big.Int).Add(m.prime, two)} {
			_, err := a.shared(bad.FillBytes(make([]byte, m.size)))
			require.ErrorIs(t, err, errPublic)
		}
		_, err := a.shared(b.public()[1:])
		require.ErrorIs(t, err, errPublic)
	}
}

// Every refusal gives the caller the protocol's own error and the administrator a plain sentence.
func TestRefusals(t *testing.T) {
	cases := map[string]struct {
		change  func(*Settings, *Caller)
		kept    string
		grant   *Grant
		caller  string
		journal string
	}{
		"wrong password":     {kept: "other", caller: "user or password is wrong", journal: "wrong password"},
		"no algorithm":       {change: func(s *Settings, c *Caller) { s.Algorithms, c.Algorithms = onlyP, onlyX }, caller: "NO_PROPOSAL_CHOSEN", journal: "no set of algorithms"},
		"wrong name dialled": {change: func(s *Settings, c *Caller) { c.Name = "vpn.tern.example" }, caller: "AUTHENTICATION_FAILED", journal: "correct the name"},
		"unknown authority":  {change: func(s *Settings, c *Caller) { c.Roots = x509.NewCertPool() }, caller: "certificate is not accepted", journal: "does not accept the gateway's certificate"},
		"no passage":         {grant: &Grant{Refusal: reason.Of(reason.NoPassage, reason.With{reason.Groups: "rory"})}, caller: "AUTHENTICATION_FAILED", journal: "no passage admits a group of this user (rory)"},
		"pool exhausted":     {grant: &Grant{Refusal: reason.Of(reason.PoolExhausted, reason.With{reason.Pool: "staff"}), Exhausted: true}, caller: "INTERNAL_ADDRESS_FAILURE", journal: "pool staff has no free address"},
		"nothing in common":  {grant: &Grant{Configuration: Configuration{Addresses: given.Addresses}}, caller: "TS_UNACCEPTABLE", journal: "traffic selectors"},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t, c.change)
			if c.kept != "" {
				w.kept = c.kept
			}
			if c.grant != nil {
				w.grant = *c.grant
			}
			w.login()
			require.ErrorContains(t, w.failure(), c.caller)
			note, ok := find[Note](w)
			require.True(t, ok)
			require.Contains(t, note.Reason.Words(), c.journal)
			w.now = w.now.Add(time.Minute)
			w.run(w.l.Tick(w.now), false)
			require.Empty(t, w.l.sas, "nothing is left behind")
			require.Empty(t, w.l.logins)
			require.Empty(t, w.l.opening)
			require.Zero(t, w.l.HalfOpen())
		})
	}
}

// Any single datagram may be lost: the login succeeds all the same, by retransmission and from the reply kept.
func TestEveryDatagramMayBeLost(t *testing.T) {
	for lost := 1; lost <= 12; lost++ {
		w := newWorld(t, nil)
		w.lose = func(n int, _ bool) bool { return n == lost }
		w.login()
		for range 8 {
			w.now = w.now.Add(600 * time.Millisecond)
			w.run(w.i.Tick(w.now), true)
		}
		_, ok := find[Established](w)
		require.True(t, ok, "datagram %d lost: %v", lost, w.events)
		require.Equal(t, 1, w.l.Sessions())
	}
	w := newWorld(t, nil)
	w.lose = func(int, bool) bool { return true }
	w.login()
	for range 40 {
		w.now = w.now.Add(time.Second)
		w.run(w.i.Tick(w.now), true)
	}
	require.ErrorIs(t, w.failure(), ErrNoAnswer)
}

func TestCookieAndHalfOpenLimit(t *testing.T) {
	w := newWorld(t, func(s *Settings, _ *Caller) { s.CookieAbove, s.MaxHalfOpen = 0, 1 })
	w.login()
	require.NoError(t, w.failure())
	require.EqualValues(t, 1, w.l.Counters.Cookies)
	require.Equal(t, 1, w.l.Sessions())
	i := must(NewInitiator(w.i.c)) // a caller who owns the address and then falls silent
	answer := w.l.Handle(w.now, device, i.Start(w.now)[0].(Send).Data)
	second := i.Handle(w.now, answer[0].(Send).Data)[0].(Send).Data
	for _, other := range []Peer{{Addr: netip.AddrPortFrom(device.Addr.Addr(), 7)}, elsewhere} {
		again := w.l.Handle(w.now, other, second)[0].(Send).Data
		requireNotify(t, must(parseMessage(again)), nCookie)
	}
	later := w.now.Add(3 * cookieLife / 2) // a cookie holds for a while after its secret was replaced, and no longer
	requireNotify(t, must(parseMessage(w.l.Handle(later, elsewhere, second)[0].(Send).Data)), nCookie)
	w.l.Handle(later, device, second)
	require.Equal(t, 1, w.l.HalfOpen())
	require.Empty(t, w.l.Handle(later, device, must(NewInitiator(w.i.c)).Start(w.now)[0].(Send).Data))
	require.EqualValues(t, 1, w.l.Counters.Overload)
	w.now = later.Add(4 * cookieLife)
	w.run(w.l.Tick(w.now), false)
	require.Zero(t, w.l.HalfOpen(), "what is not finished in time is forgotten")
	requireNotify(t, must(parseMessage(w.l.Handle(w.now, device, second)[0].(Send).Data)), nCookie)
}

// A thousand half-open logins a second from one place, cookies answered and all, cost others nothing: not even a cookie.
func TestACrowdFromOnePlace(t *testing.T) {
	for _, place := range []string{"198.51.100.66", "2001:db8:66::"} {
		w := newWorld(t, nil)
		base := netip.MustParseAddr(place)
		for n := range 2000 {
			addr := base
			if base.Is6() { // any address of the /64
				b := base.As16()
				binary.BigEndian.PutUint32(b[12:], uint32(n))
				addr = netip.AddrFrom16(b)
			}
			from := Peer{Addr: netip.AddrPortFrom(addr, uint16(1000+n))}
			i := must(NewInitiator(w.i.c))
			outs := w.l.Handle(w.now, from, i.Start(w.now)[0].(Send).Data)
			for k := 0; k < 2 && len(outs) > 0; k++ {
				sent, ok := outs[len(outs)-1].(Send)
				if !ok {
					break
				}
				next := i.Handle(w.now, sent.Data)
				if len(next) == 0 || i.phase != phInit {
					break
				}
				outs = w.l.Handle(w.now, from, next[len(next)-1].(Send).Data)
			}
		}
		require.Equal(t, DefaultSettings().MaxShare, w.l.HalfOpen())
		asked := w.l.Counters.Cookies
		w.login()
		require.NoError(t, w.failure())
		require.Equal(t, 1, w.l.Sessions())
		require.Equal(t, asked, w.l.Counters.Cookies, "nor is anybody else asked for a cookie")
	}
}

func TestLivenessAndMoving(t *testing.T) {
	w := newWorld(t, nil)
	w.login()
	w.now = w.now.Add(31 * time.Second)
	w.run(w.l.Tick(w.now), false)
	require.Equal(t, 1, w.l.Sessions(), "a peer that answers stays")
	require.True(t, w.l.sas[w.i.spiR].win.idle())

	elsewhere := Peer{Addr: netip.MustParseAddrPort("203.0.113.45:50001"), NATT: true}
	alive := w.i.Alive(w.now)[0].(Send).Data
	w.run(w.l.Handle(w.now, elsewhere, alive), false)
	moved, ok := find[Moved](w)
	require.True(t, ok, "a translation that forgot is followed")
	require.Equal(t, elsewhere, moved.Peer)

	w.lose = func(int, bool) bool { return true }
	before := len(w.wire)
	for range 200 {
		w.now = w.now.Add(time.Second)
		w.run(w.l.Tick(w.now), false)
	}
	require.Equal(t, 1, w.l.Sessions(), "a device may be out of reach for some minutes")
	require.Greater(t, len(w.wire)-before, 9)
	for range 120 {
		w.now = w.now.Add(time.Second)
		w.run(w.l.Tick(w.now), false)
	}
	down, ok := find[Down](w)
	require.True(t, ok)
	require.Equal(t, "the device no longer answers", down.Reason.Words())
}

func TestGatewayEndsSession(t *testing.T) {
	w := newWorld(t, nil)
	w.login()
	w.run(w.l.End(w.now, ID(w.i.spiR), reason.Of(reason.EndedBy, reason.With{reason.Administrator: "ada"})), false)
	require.ErrorIs(t, w.failure(), ErrEnded)
	require.Zero(t, w.l.Sessions())
}

// A device renews its Child SA, with and without a fresh key exchange, and then deletes the older one.
func TestRenewal(t *testing.T) {
	for _, pfs := range []bool{false, true} {
		w := newWorld(t, nil)
		w.login()
		up, _ := find[Up](w)
		ni := bytes.Repeat([]byte{9}, 32)
		p := espProposals(onlyX, []byte{1, 2, 3, 4}, dhNone)[0]
		ps := []payload{w.rekey(), {}, {kind: plNonce, body: ni}}
		half := must(newDH(groupX25519, rand.Reader))
		if pfs {
			p.transforms = append(p.transforms, transform{kind: tDH, id: groupX25519})
			ps = append(ps, keyExchange{groupX25519, half.public()}.payload())
		}
		ps[1] = saPayload(p)
		ps = append(ps, selectors(plTSi, netset.Everywhere), selectors(plTSr, netset.Everywhere))
		w.ask(createChildSA, ps...)
		renewed, ok := find[Renewed](w)
		require.True(t, ok)
		require.Equal(t, uint32(0x01020304), renewed.Child.Out)
		require.NotEqual(t, up.Child.InKey, renewed.Child.InKey)
		require.True(t, renewed.Child.Local.Equal(routes))

		w.ask(informational, deletion{protoESP, []uint32{up.Child.Out}}.payload())
		dropped, ok := find[Dropped](w)
		require.True(t, ok)
		require.Equal(t, up.Child.In, dropped.In)
		require.Equal(t, 1, w.l.Sessions())
	}
}

// rekey names the device's Child SA as the one to be renewed.
func (w *world) rekey() payload {
	up, _ := find[Up](w)
	return notify{protocol: protoESP, spi: binary.BigEndian.AppendUint32(nil, up.Child.Out), kind: nRekeySA}.payload()
}

// renewIKE renews the IKE SA as a device does.
func (w *world) renewIKE(t *testing.T) {
	own, ni := []byte{9, 8, 7, 6, 5, 4, 3, 2}, bytes.Repeat([]byte{5}, 32)
	half := must(newDH(groupP256, rand.Reader))
	old := w.i.b.cur
	answer, _ := w.ask(createChildSA, saPayload(ikeProposals(onlyP, own)...), payload{kind: plNonce, body: ni},
		keyExchange{groupP256, half.public()}.payload())
	saBody, ok := answer.find(plSA)
	require.True(t, ok, "%+v", answer.payloads)
	chosen := must(parseSA(saBody))
	nr, _ := answer.find(plNonce)
	keBody, _ := answer.find(plKE)
	shared := must(half.shared(must(parseKE(keBody)).data))
	spiI, spiR := binary.BigEndian.Uint64(own), binary.BigEndian.Uint64(chosen[0].spi)
	// The device deletes the older SA; the session stands, and asks and answers under the new one.
	w.ask(informational, deletion{protocol: protoIKE}.payload())
	w.i.b.forget(old)
	w.i.b.cur = old.successor(w.now, suiteP, shared, ni, nr, nil, spiI, spiR, true)
	// Derived once more from RFC 7296 §2.18 alone.
	mac := hmac.New(sha256.New, old.keys.d)
	mac.Write(bytes.Join([][]byte{shared, ni, nr}, nil))
	require.Equal(t, deriveKeys(suiteP, mac.Sum(nil), ni, nr, spiI, spiR).ei, w.i.b.cur.keys.ei)
}

// A device renews the IKE SA: the session and its traffic go on under new keys, the older SA is gone.
func TestRenewalOfTheIKESA(t *testing.T) {
	w := newWorld(t, func(s *Settings, _ *Caller) { s.Algorithms = pThenX })
	w.login()
	up, _ := find[Up](w)
	oldSPI := w.i.spiR
	w.now = w.now.Add(time.Hour)
	w.renewIKE(t)
	require.Equal(t, 1, w.l.Sessions())
	_, ended := find[Down](w)
	require.False(t, ended)
	w.run(w.i.Alive(w.now), true)
	require.False(t, w.i.Waiting(), "the gateway answers under the new keys")
	half := must(newDH(groupP256, rand.Reader))
	w.ask(createChildSA, saPayload(ikeProposals(onlyP, []byte{1, 2, 3, 4, 5, 6, 7, 8})...),
		payload{kind: plNonce, body: make([]byte, 32)}, keyExchange{groupP256, half.public()}.payload())
	require.Len(t, w.l.sas, 2, "not so soon again")
	w.now = w.now.Add(leastRenewal)
	w.renewIKE(t) // and again
	w.now = w.now.Add(2 * time.Minute)
	w.run(w.l.Tick(w.now), false)
	require.Nil(t, w.l.sas[oldSPI], "the older SA is forgotten")
	require.Len(t, w.l.sas, 1)
	w.run(w.l.End(w.now, up.ID, reason.Of(reason.EndedBy, reason.With{reason.Administrator: "ada"})), false)
	require.ErrorIs(t, w.failure(), ErrEnded, "the session keeps its name")
	require.Empty(t, w.l.sas)
}

// What one session is granted is its own: the tunnel, which others have too, stays as it is.
func TestPatienceIsTheSessions(t *testing.T) {
	w := newWorld(t, func(s *Settings, _ *Caller) { s.Patience = time.Minute })
	w.grant.Patience = 45 * time.Minute
	w.login()
	require.Equal(t, 1, w.l.Sessions())
	for _, b := range w.l.sessions {
		require.Equal(t, 45*time.Minute, b.patience)
	}
	require.Equal(t, time.Minute, w.l.tunnels[0].Patience)
}

// Keys that are used for as long as they may be end the session, unless the device renews them in time.
func TestLifetimes(t *testing.T) {
	for name, change := range map[string]func(*Settings){
		"IKE": func(s *Settings) { s.IKELife = time.Hour },
		"ESP": func(s *Settings) { s.ESPLife = time.Hour },
	} {
		w := newWorld(t, func(s *Settings, _ *Caller) { change(s); s.Liveness = 24 * time.Hour })
		w.login()
		w.i.b.tunnel.Algorithms = nothing // a device that renews nothing that it is asked to
		w.now = w.now.Add(59 * time.Minute)
		w.run(w.l.Tick(w.now), false)
		require.Equal(t, 1, w.l.Sessions(), name)
		if name == "IKE" {
			w.i.b.tunnel.Algorithms = w.i.c.Algorithms
			w.now = w.now.Add(-time.Second)
			w.renewIKE(t)
			w.i.b.tunnel.Algorithms = nothing
			w.now = w.now.Add(30 * time.Minute)
			w.run(w.l.Tick(w.now), false)
			require.Equal(t, 1, w.l.Sessions(), "it was renewed")
		}
		w.now = w.now.Add(time.Hour)
		w.run(w.l.Tick(w.now), false)
		down, ok := find[Down](w)
		require.True(t, ok, name)
		require.Contains(t, down.Reason.Words(), "did not renew them")
		require.ErrorIs(t, w.failure(), ErrEnded, "the device is told")
	}
}

// A gateway with several tunnels tells them apart by the name that is asked for.
func TestTunnelByName(t *testing.T) {
	second := must(ca.NewGateway(rand.Reader, start, "field.tern.example"))
	build := func(ask string, words ...string) *world {
		w := newWorld(t, func(s *Settings, c *Caller) {
			s.ID, s.Algorithms = "main", onlyX
			s.More = []Tunnel{{
				ID: "field", Name: "field.tern.example", Credential: Credential{Chain: [][]byte{second.DER}, Key: second.Key},
				Algorithms: policy("ChaCha20-Poly1305", "PRF-HMAC-SHA2-512", "P-384"), Liveness: time.Minute,
			}}
			c.Name, c.Algorithms = ask, policy(words...)
		})
		w.login()
		return w
	}
	up, ok := find[Up](build(dial, "AES-256-GCM-16", "PRF-HMAC-SHA2-256", "X25519"))
	require.True(t, ok)
	require.Equal(t, "main", up.Tunnel)
	up, ok = find[Up](build("field.tern.example", "ChaCha20-Poly1305", "PRF-HMAC-SHA2-512", "P-384"))
	require.True(t, ok)
	require.Equal(t, "field", up.Tunnel)
	// A device that can do both reaches either, whichever was agreed on first; the IKE SA is renewed with what the tunnel has.
	w := build("field.tern.example", "AES-256-GCM-16", "ChaCha20-Poly1305", "PRF-HMAC-SHA2-256", "PRF-HMAC-SHA2-512", "X25519", "P-384")
	up, ok = find[Up](w)
	require.True(t, ok, "%v", w.events)
	require.Equal(t, "field", up.Tunnel)
	require.Equal(t, esp.Algorithm{Encryption: esp.EncrChaCha20Poly1305, ESN: true}, up.Child.Algorithm)
	w.now = w.now.Add(time.Second)
	w.run(w.l.Tick(w.now), false)
	require.Equal(t, "ChaCha20-Poly1305, PRF-HMAC-SHA2-512, P-384", w.l.sessions[up.ID].cur.suite.String())
	require.NoError(t, w.failure())
	w = build("field.tern.example", "AES-256-GCM-16", "PRF-HMAC-SHA2-256", "X25519")
	note, _ := find[Note](w)
	require.Contains(t, note.Reason.Words(), "agreed on algorithms that only another tunnel has")
	require.ErrorContains(t, w.failure(), "NO_PROPOSAL_CHOSEN")
	note, _ = find[Note](build("elsewhere.example", "AES-256-GCM-16", "PRF-HMAC-SHA2-256", "X25519"))
	require.Contains(t, note.Reason.Words(), `this gateway is "gate.tern.example" or "field.tern.example"`)
}

// However often a device renews its Child SA without deleting the older ones, few are kept.
func TestChildrenAreBounded(t *testing.T) {
	w := newWorld(t, nil)
	w.login()
	for i := range 10 {
		w.ask(createChildSA, w.rekey(),
			saPayload(espProposals(onlyX, []byte{1, 2, 3, byte(i)}, dhNone)[0]),
			payload{kind: plNonce, body: bytes.Repeat([]byte{byte(i + 1)}, 32)}, selectors(plTSi, netset.Everywhere),
			selectors(plTSr, netset.Everywhere))
	}
	require.Len(t, w.l.children, mostChildren)
	require.Equal(t, 1, w.l.Sessions())
}

// A tunnel with PFS refuses a renewal without a key exchange, and says so.
func TestPFS(t *testing.T) {
	w := newWorld(t, func(s *Settings, _ *Caller) { s.PFS = true })
	w.login()
	w.ask(createChildSA, w.rekey(),
		saPayload(espProposals(onlyX, []byte{1, 2, 3, 4}, dhNone)[0]),
		payload{kind: plNonce, body: bytes.Repeat([]byte{9}, 32)}, selectors(plTSi, netset.Everywhere), selectors(plTSr, netset.Everywhere))
	_, renewed := find[Renewed](w)
	require.False(t, renewed)
	note, _ := find[Note](w)
	require.Contains(t, note.Reason.Words(), "without a key exchange of its own")
}

// What no packet analyser can judge is derived here a second time from the RFC alone, with nothing of the package but
// the octets on the wire and the device's private value: key schedule (RFC 7296 §2.13, §2.14, §2.17), and the octets under both AUTH
// payloads (§2.15, §2.16).
func TestSecondDerivation(t *testing.T) {
	w := newWorld(t, func(_ *Settings, c *Caller) { c.Algorithms = onlyX })
	w.login()
	mac := func(key []byte, parts ...[]byte) []byte {
		h := hmac.New(sha256.New, key)
		h.Write(bytes.Join(parts, nil))
		return h.Sum(nil)
	}
	expand := func(key, seed []byte, n int) []byte {
		t1 := mac(key, seed, []byte{1})
		out := t1
		for i := byte(2); len(out) < n; i++ {
			t1 = mac(key, t1, seed, []byte{i})
			out = append(out, t1...)
		}
		return out[:n]
	}
	first, second := w.wire[0], w.wire[1]
	body := func(msg []byte, kind byte) []byte { // walks the chain by hand
		next, at := msg[16], 28
		for next != 0 {
			n := int(binary.BigEndian.Uint16(msg[at+2:]))
			if next == kind {
				return msg[at+4 : at+n]
			}
			next, at = msg[at], at+n
		}
		return nil
	}
	ni, nr := body(first, 40), body(second, 40)
	spis := second[:16]
	shared := must(w.i.half.key.ECDH(must(w.i.half.key.Curve().NewPublicKey(body(second, 34)[4:]))))
	seed := mac(bytes.Join([][]byte{ni, nr}, nil), shared)
	k := expand(seed, bytes.Join([][]byte{ni, nr, spis}, nil), 32+36+36+32+32)
	require.Equal(t, w.i.keys.d, k[:32])
	require.Equal(t, w.i.keys.ei, k[32:68])
	require.Equal(t, w.i.keys.er, k[68:104])
	skPi, skPr := k[104:136], k[136:168]
	est, _ := find[Established](w)
	childKeys := expand(k[:32], bytes.Join([][]byte{ni, nr}, nil), 72)
	require.Equal(t, childKeys[:36], est.Child.OutKey)
	require.Equal(t, childKeys[36:], est.Child.InKey)

	idi := append([]byte{3, 0, 0, 0}, user...) // ID_RFC822_ADDR
	idr := append([]byte{2, 0, 0, 0}, dial...) // ID_FQDN
	octetsI := bytes.Join([][]byte{first, nr, mac(skPi, idi)}, nil)
	octetsR := bytes.Join([][]byte{second, ni, mac(skPr, idr)}, nil)
	msk := w.i.eap.MSK()
	pad := []byte("Key Pad for IKEv2")
	last := w.wire[len(w.wire)-2:] // AUTH from the device, AUTH from the gateway
	for n, want := range [][]byte{mac(mac(msk, pad), octetsI), mac(mac(msk, pad), octetsR)} {
		m := must(parseMessage(last[n]))
		in := must(w.i.keys.open(m, n == 0, true))
		auth, ok := in.find(plAuth)
		require.True(t, ok)
		require.Equal(t, append([]byte{2, 0, 0, 0}, want...), auth)
	}
	m := must(w.i.keys.open(must(parseMessage(w.wire[3])), false, true))
	auth, _ := m.find(plAuth)
	digest := sha256.Sum256(octetsR)
	require.Equal(t, byte(14), auth[0])
	require.Equal(t, "\x0c0\x0a\x06\x08\x2a\x86\x48\xce\x3d\x04\x03\x02", string(auth[4:17]), "RFC 7427 appendix A.3.2")
	require.True(t, ecdsaVerify(gateway.Leaf, digest[:], auth[17:]))
}

// Vectors of the RFCs for what the key schedule is made of: RFC 4868 §2.7.2.1 (PRF-1), RFC 5903 §8.1.
func TestRFCVectors(t *testing.T) {
	hexed := func(s string) []byte { return must(hex.DecodeString(strings.ReplaceAll(s, " ", ""))) }
	require.Equal(t, hexed("b0344c61d8db38535ca8afceaf0bf12b881dc200c9833da726e9376c2e32cff7"),
		prfHMACSHA256.sum(bytes.Repeat([]byte{0x0b}, 20), []byte("Hi There")))
	require.Equal(t, hexed("afd03944d84895626b0825f4ab46907f15f9dadbe4101ec682aa034c7cebc59cfaea9ea9076ede7f4af152e8b2fa9cb6"),
		prfHMACSHA384.sum(bytes.Repeat([]byte{0x0b}, 20), []byte("Hi There")))
	require.Equal(t, hexed("87aa7cdea5ef619d4ff0b4241a1d6cb02379f4e2ce4ec2787ad0b30545e17cdedaa833b7d6b8a702038b274eaea3f4e4be9d914eeb61f1702e696c203a126854"), prfHMACSHA512.sum(bytes.Repeat([]byte{0x0b}, 20), []byte("Hi There")))
	p256 := func(private []byte) dh { return dh{group: groupP256, key: must(ecdh.P256().NewPrivateKey(private))} }
	i := p256(hexed("C88F01F5 10D9AC3F 70A292DA A2316DE5 44E9AAB8 AFE84049 C62A9C57 862D1433"))
	r := p256(hexed("C6EF9C5D 78AE012A 011164AC B397CE20 88685D8F 06BF9BE0 B283AB46 476BEE53"))
	require.Equal(t, hexed("DAD0B653 94221CF9 B051E1FE CA5787D0 98DFE637 FC90B9EF 945D0C37 72581180 5271A046 1CDB8252 D61F1C45 6FA3E59A B1F45B33 ACCF5F58 389E0577 B8990BB3"), i.public())
	shared := hexed("D6840F6B 42F6EDAF D13116E0 E1256520 2FEF8E9E CE7DCE03 812464D0 4B9442DE")
	require.Equal(t, shared, must(i.shared(r.public())))
	require.Equal(t, shared, must(r.shared(i.public())))
	_, err := i.shared(make([]byte, 64))
	require.Error(t, err, "not on the curve")
	x := must(newDH(groupX25519, rand.Reader))
	_, err = x.shared(make([]byte, 32))
	require.Error(t, err, "the all-zero result is refused (RFC 8031 §5)")
}

// A device that does not know RFC 7427 gets the older signature of RFC 4754; a signature over anything else is refused.
func TestSignatures(t *testing.T) {
	octets := []byte("what AUTH covers")
	for _, newer := range []bool{true, false} {
		p := must(sign(rand.Reader, gateway.Key, octets, map[bool]hashes{true: ourHashes}[newer]))
		method, data, err := parseAuth(p.body)
		require.NoError(t, err)
		require.Equal(t, map[bool]uint8{true: 14, false: 9}[newer], method)
		require.NoError(t, verify(gateway.Leaf.PublicKey, method, data, octets))
		require.Error(t, verify(gateway.Leaf.PublicKey, method, data, octets[1:]))
		require.Error(t, verify(ca.Leaf.PublicKey, method, data, octets))
		require.Error(t, verify(gateway.Leaf.PublicKey, method, data[:len(data)-1], octets))
	}
	require.ErrorContains(t, verify(gateway.Leaf.PublicKey, authSharedKey, octets, octets), "method 2")
}

// Hostile datagrams at every moment of a login: nothing crashes, nobody gets in, the login goes on.
func TestHostileDatagrams(t *testing.T) {
	w := newWorld(t, nil)
	var seen [][]byte
	w.lose = func(n int, _ bool) bool {
		d := bytes.Clone(w.wire[n-1])
		seen = append(seen, d)
		for _, old := range seen {
			for cut := 0; cut < len(old); cut += 7 {
				w.l.Handle(w.now, device, old[:cut])
				w.i.Handle(w.now, old[:cut])
			}
			for at := 0; at < len(old); at += 5 {
				changed := bytes.Clone(old)
				changed[at] ^= 0x41
				if n > 2 { // a changed first message is simply another caller
					for _, o := range w.l.Handle(w.now, device, changed) {
						_, up := o.(Up)
						require.False(t, up)
					}
				}
			}
		}
		return false
	}
	w.login()
	require.NoError(t, w.failure())
	_, ok := find[Established](w)
	require.True(t, ok)
	require.NotZero(t, w.l.Counters.Malformed)
	require.NotZero(t, w.l.Counters.Undecryptable)
}

func FuzzParsers(f *testing.F) {
	w := newWorld(f, nil)
	w.login()
	for _, d := range w.wire {
		f.Add(d)
	}
	f.Add(saPayload(ikeProposals(onlyX, nil)...).body)
	f.Add(requestCfg(1).body)
	f.Add(selectors(plTSi, netset.Everywhere).body)
	f.Fuzz(func(t *testing.T, b []byte) {
		_, _ = parseMessage(b)
		if p, err := parseSA(b); err == nil {
			_ = describe(p)
			again, err := parseSA(saPayload(p...).body)
			require.NoError(t, err)
			require.Equal(t, describe(p), describe(again))
		}
		_, _ = parseKE(b)
		_, _ = parseID(b)
		_, _, _ = parseAuth(b)
		_, _ = parseNotify(b)
		_, _ = parseDelete(b)
		if s, err := parseSelectors(b); err == nil && len(s) <= maxSelectors {
			again, err := parseSelectors(selectors(plTSi, s).body)
			require.NoError(t, err)
			require.True(t, s.Equal(again))
		}
		if _, attrs, err := parseCfg(b); err == nil {
			_, _ = readReply(attrs)
		}
		for _, p := range []payloadType{plSA, plSK, plEAP} {
			_, _ = parsePayloads(p, b)
		}
		_ = verify(gateway.Leaf.PublicKey, authSignature, b, nil)
		w := newWorld(t, nil)
		w.l.Handle(start, device, b)
		w.i.Handle(start, b)
	})
}

// rsaGateway is a gateway's certificate for an RSA key.
func rsaGateway(key crypto.Signer) []byte {
	t := &x509.Certificate{
		SerialNumber: big.NewInt(9), DNSNames: []string{dial}, NotBefore: start.Add(-time.Hour), NotAfter: start.Add(time.Hour),
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	return must(x509.CreateCertificate(rand.Reader, t, ca.Leaf, key.Public(), ca.Key))
}
