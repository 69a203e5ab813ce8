package judge

import (
	"encoding/binary"
	"flag"
	"net/netip"
	"os"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yellowlantern/internal/core/forward"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/packet"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/core/site"
)

// moments are about the edges of the random plans' hours; the first is a Monday.
var moments = func() (out []time.Time) {
	monday := time.Date(2026, 6, 1, 0, 0, 0, 0, time.UTC)
	for _, hours := range []time.Duration{0, 5, 6, 8, 12, 18, 22, 4*24 + 22, 5*24 + 5, 5*24 + 6, 6*24 + 21, 6*24 + 23} {
		out = append(out, monday.Add(hours*time.Hour), monday.Add(hours*time.Hour+59*time.Minute))
	}
	return out
}()

// mark stands in the last octets of every packet, so that it is known again.
var mark uint32

// octets writes a packet as it travels.
func octets(k probePacket) []byte {
	head, addrLen := 20, 4
	if k.dst.Is6() {
		head, addrLen = 40, 16
	}
	b := make([]byte, max(k.size, head+24))
	if head == 20 {
		b[0], b[8], b[9] = 0x45, byte(k.hops), byte(k.proto)
		binary.BigEndian.PutUint16(b[2:], uint16(len(b)))
		if k.keep {
			b[6] = 0x40
		}
		copy(b[12:], k.src.AsSlice())
		copy(b[12+addrLen:], k.dst.AsSlice())
		binary.BigEndian.PutUint16(b[10:], packet.Checksum(b[:20], 0))
	} else {
		b[0], b[6], b[7] = 0x60, byte(k.proto), byte(k.hops)
		binary.BigEndian.PutUint16(b[4:], uint16(len(b)-40))
		copy(b[8:], k.src.AsSlice())
		copy(b[24:], k.dst.AsSlice())
	}
	t := b[head:]
	switch k.proto {
	case 6, 17:
		binary.BigEndian.PutUint16(t, 40000)
		binary.BigEndian.PutUint16(t[2:], uint16(k.port))
		if t[12] = 0x50; k.proto == 6 { // a SYN that announces segments of 1460 octets
			t[12], t[13] = 0x60, k.flags
			copy(t[20:], []byte{2, 4, 0x05, 0xb4})
		}
		if k.proto == 17 {
			binary.BigEndian.PutUint16(t[4:], uint16(len(t)))
		}
	case 1, 58:
		t[0], t[1] = byte(k.kind), byte(k.code)
		binary.BigEndian.PutUint16(t[4:], 777)
	}
	binary.BigEndian.PutUint32(b[len(b)-4:], mark)
	at := map[int]int{6: 16, 17: 6, 1: 2, 58: 2}[k.proto]
	if at > 0 {
		binary.BigEndian.PutUint16(t[at:], transportSum(b, head, k.proto))
	}
	return b
}

// transportSum is the transport checksum, worked out from nothing; 0 where it is right already.
func transportSum(b []byte, head, proto int) uint16 {
	var sum uint32
	if proto != 1 {
		addrs := b[12:20]
		if head == 40 {
			addrs = b[8:40]
		}
		sum = uint32(^packet.Checksum(addrs, 0)) + uint32(len(b)-head) + uint32(proto)
	}
	return packet.Checksum(b[head:], sum)
}

// answerTo turns a packet that left the gateway into the answer that a host would give.
func answerTo(b []byte) []byte {
	i, err := packet.Parse(b)
	if err != nil {
		panic(err)
	}
	k := probePacket{src: i.Dst, dst: i.Src, proto: int(i.Proto), size: len(b), hops: 64, keep: i.Src.Is4() && i.DontFragment}
	switch {
	case i.EchoRequest():
		out := packet.EchoReply(b, i)
		if k.keep {
			out[6] = 0x40
			copy(out[10:], []byte{0, 0})
			binary.BigEndian.PutUint16(out[10:], packet.Checksum(out[:20], 0))
		}
		return out
	case i.Proto == 1:
		k.kind = 14
	}
	k.flags = 0x12 // a SYN is answered by another, with its own segment size
	out := octets(k)
	if i.Proto == 6 || i.Proto == 17 {
		binary.BigEndian.PutUint16(out[i.Transport:], i.DstPort)
		binary.BigEndian.PutUint16(out[i.Transport+2:], i.SrcPort)
	}
	if i.Proto == 1 {
		binary.BigEndian.PutUint16(out[i.Transport+4:], i.Ident)
	}
	if at := map[uint8]int{6: 16, 17: 6, 1: 2}[i.Proto]; at > 0 {
		head := 20
		if i.Src.Is6() {
			head = 40
		}
		copy(out[head+at:], []byte{0, 0})
		binary.BigEndian.PutUint16(out[head+at:], transportSum(out, head, int(i.Proto)))
	}
	return out
}

// TestMain draws more plans than the library's default, unless told how many.
func TestMain(m *testing.M) {
	flag.Parse()
	if f := flag.Lookup("rapid.checks"); f.Value.String() == f.DefValue {
		_ = f.Value.Set("3000")
	}
	os.Exit(m.Run())
}

// Forwarding, computed reach and journeys agree with the page on random plans and packets, and the packets get to every station.
func TestJudge(t *testing.T) {
	seen := map[string]int{}
	everywhere := func() bool {
		return !slices.ContainsFunc(allStations, func(station string) bool { return seen[station] == 0 })
	}
	for range 5 { // some are rare
		rapid.Check(t, judgeRandomly(seen))
		if t.Failed() || everywhere() {
			break
		}
	}
	t.Logf("stations: %v", seen)
	for _, station := range allStations {
		require.True(t, t.Failed() || seen[station] > 0, "no packet got to %q: %v", station, seen)
	}
}

// allStations are where some packet must have got to, and where some must have been lost.
var allStations = []string{
	"admission", "device", "source", "rules", "route", "translation", "onward", "return", "arrives", "self", "odd",
	"inward: admission", "inward: approach", "inward: origin", "inward: translation", "inward: state", "inward: rules", "inward: selectors",
	"inward: device", "inward: onward", "inward: ", "inward: carried: ", "inward: carried: translation", "inward: carried: origin",
	"inward: carried: state", "inward: carried: rules", "inward: carried: selectors", "inward: carried: size", "carried: ", "carried: source",
	"carried: selectors", "carried: rules", "carried: route", "carried: translation", "carried: size",
	"own-services", "held: own-services", "held: source", "held: held",
}

func judgeRandomly(seen map[string]int) func(*rapid.T) {
	return func(t *rapid.T) {
		p := randomPlan(t)
		groups := append(some(t, []string{"a", "b", "c"}, 2, "my groups"), pick(t, []string{"a", "b", "c"}, "my group"))
		slices.Sort(groups)
		groups = slices.Compact(groups)
		judge := naive{p, &p.Gateways[0]}
		m, err := site.Compile(p, "gw")
		require.NoError(t, err)
		class := m.Class(groups)
		r := reach.NewComputer(m).Of(class)
		var leased []netip.Addr
		if class.Passage != nil {
			require.Equal(t, judge.passage(groups).Name, class.Passage.Name)
			leased = lease(t, class.Passage.Pool)
		} else {
			require.Nil(t, judge.passage(groups))
		}
		dsts := edges(p)
		compareRoutes(t, judge, class, dsts)
		at := moments[rapid.IntRange(0, len(moments)-1).Draw(t, "moment")]
		now := moment{day: int(at.Weekday()+6) % 7, minute: at.Hour()*60 + at.Minute()}
		for range 30 {
			k := randomPacket(t, leased, dsts)
			want := judge.judge(groups, leased, k, now)
			compareJourney(t, m, class, leased, k, want, site.At(at))
			always, ever := judge.judge(groups, leased, k, moment{always: true}), judge.judge(groups, leased, k, moment{ever: true})
			compareJourney(t, m, class, leased, k, always, site.When{})
			compareJourney(t, m, class, leased, k, ever, site.Ever)
			if k.size > 1500 && !k.fragment || k.hops <= 1 { // of these computed reach does not speak
				seen["odd"]++
			} else if slices.Contains(leased, k.src) || class.Passage == nil {
				compareReach(t, r, k, always.full, ever.enforced)
			}
			if class.Passage != nil {
				compareForwarding(t, judge, m, groups, leased, k, want, at)
				seen["held: "+compareHeld(t, judge, m, class, leased, k, at)]++
			}
			for station, n := range compareInward(t, judge, m, class, r, leased, randomInward(t, judge, leased, dsts), now, at) {
				seen["inward: "+station] += n
			}
			name := want.lostAt
			switch {
			case name == "" && want.self:
				name = "self"
			case name == "":
				name = "arrives"
			}
			seen[name]++
			seen["carried: "+want.carried]++
		}
	}
}

// compareRoutes holds what a device is told to send through the tunnel to the page. Packets alone seldom show a mistake in it: what is
// for the gateway's own services is answered before anybody looks at routes.
func compareRoutes(t *rapid.T, judge naive, c *site.Class, dsts []netip.Addr) {
	if c.Passage == nil {
		return
	}
	if judge.g.CodePage != nil {
		dsts = append(slices.Clip(dsts), judge.g.CodePage.Addresses...)
	}
	for _, a := range dsts {
		require.Equal(t, judge.routed(c.Passage.Passage, a), c.Passage.Routes.Contains(a), "routes of passage %s: %s", c.Passage.Name, a)
	}
}

func addresses(set netset.Addrs, v4 bool) (out []netip.Addr) {
	for _, s := range set {
		for a := s.From; a.Is4() == v4 && len(out) < 16; a = a.Next() {
			out = append(out, a)
			if a == s.To {
				break
			}
		}
	}
	return out
}

func service(k probePacket) netset.Point {
	if k.proto == 1 || k.proto == 58 {
		return netset.ICMPPoint(uint8(k.proto), uint8(k.kind), uint8(k.code))
	}
	return netset.PortPoint(uint8(k.proto), uint16(k.port))
}

func compareReach(t *rapid.T, r reach.Reach, k probePacket, full, enforced bool) {
	holds := func(parts []reach.Part) bool {
		return slices.ContainsFunc(parts, func(p reach.Part) bool { return p.Src.Contains(k.src) && p.Traffic.Contains(k.dst, service(k)) })
	}
	require.Equal(t, enforced, holds(r.Enforced), "enforced reach of %+v", k)
	require.Equal(t, full, holds(r.Full), "full reach of %+v", k)
}

func compareJourney(t *rapid.T, m *site.Model, c *site.Class, leased []netip.Addr, k probePacket, want ruling, when site.When) {
	j := m.Travel(c, site.Packet{Src: k.src, Dst: k.dst, Service: service(k)}, netset.OfAddrs(leased...), when)
	at := ""
	if lost := j.LostAt(); lost != nil {
		at = lost.Station
	} else if j.Answered {
		at = site.OwnServices
	}
	require.Equal(t, want.lostAt, at, "journey of %+v", k)
	require.Equal(t, want.enforced, j.Enforced, "journey of %+v", k)
	require.Equal(t, want.full, j.Arrives, "journey of %+v", k)
}

// lease draws what a session is leased: an address of each family, several of one, or a whole prefix of IPv6, of which it is every address.
func lease(t *rapid.T, pool netset.Addrs) (leased []netip.Addr) {
	for _, v4 := range []bool{true, false} {
		all := addresses(pool, v4)
		if len(all) == 0 {
			continue
		}
		first := pick(t, all, "leased")
		leased = append(leased, first)
		switch rapid.IntRange(0, 3).Draw(t, "several") {
		case 0:
			if second := pick(t, all, "leased too"); second != first {
				leased = append(leased, second)
			}
		case 1:
			if v4 {
				continue
			}
			if whole := netset.OfPrefixes(netip.PrefixFrom(first, 126).Masked()); pool.Covers(whole) {
				leased = append(leased[:len(leased)-1], addresses(whole, false)...)
			}
		}
	}
	return leased
}

// holding is a session that has been leased that: what is a whole prefix of four as such.
func holding(groups []string, leased []netip.Addr) *forward.Session {
	s := &forward.Session{ID: 1, User: "u", Groups: groups, Addresses: leased, MTU: 1400}
	six := slices.IndexFunc(leased, netip.Addr.Is6)
	if six >= 0 && len(leased)-six == 4 {
		s.Addresses, s.Prefixes = leased[:six+1], []netip.Prefix{netip.PrefixFrom(leased[six], 126)}
	}
	return s
}

// attach lets packets of a session pass.
func attach(e *forward.Engine, s *forward.Session) {
	if !e.Sessions.Add(s) || !e.Attach(s, nil) {
		panic("not attached")
	}
}

func compareForwarding(t *rapid.T, judge naive, m *site.Model, groups []string, leased []netip.Addr, k probePacket, want ruling,
	at time.Time,
) {
	e := forward.New(m, &session.Table{})
	s := holding(groups, leased)
	s.ClampMSS = true
	attach(e, s)
	b := octets(k)
	got := inParts(k, b, func(b []byte) forward.Result { return e.FromTunnel(s, b, at) })
	if got.Page {
		require.True(t, want.carried == site.OwnServices && got.Inside == nil && judge.page(k.dst), "forwarding of %+v: %+v", k, want)
		return
	}
	require.Equal(t, want.carried, got.Station, "forwarding of %+v: %+v", k, want)
	switch {
	case want.carried != "":
		require.Nil(t, got.Packet)
		if want.carried == "source" {
			require.Nil(t, got.Answer, "a sender who is not who it says is not answered")
		}
		return
	case want.self && (k.proto == 1 && k.kind == 8 || k.proto == 58):
		require.Same(t, s, got.Session)
		return
	case want.self:
		require.True(t, got.Inside.Self, "for the machine itself")
		return
	}
	require.NotNil(t, got.Inside)
	require.Equal(t, want.out, got.Inside.Network)
	require.Equal(t, want.hop, got.Inside.NextHop)
	i, err := packet.Parse(got.Packet)
	require.NoError(t, err)
	require.Equal(t, want.src, i.Src)
	require.EqualValues(t, k.hops-1, i.HopLimit)
	require.Equal(t, len(b), len(got.Packet))
	comesWhole(t, got, 1500)
	if k.dst.Is4() {
		require.Zero(t, packet.Checksum(got.Packet[:20], 0), "IPv4 header checksum")
	}
	if k.proto == 6 || k.proto == 17 || k.proto == 1 || k.proto == 58 {
		require.Zero(t, transportSum(got.Packet, i.Transport, k.proto), "transport checksum after translation")
	}
	// The answer finds its way to the session with everything undone; a stranger's does not.
	require.Equal(t, site.Origin, wrongLink(e, judge, answerTo(got.Packet), probePacket{src: k.dst}, want.out == "internet", at))
	back := inParts(k, answerTo(got.Packet), func(b []byte) forward.Result { return e.FromInside(b, want.out == "internet", at) })
	if k.tooLarge(1400) {
		require.Equal(t, site.Size, back.Station)
		return
	}
	require.Same(t, s, back.Session)
	comesWhole(t, back, 1400)
	bi, err := packet.Parse(back.Packet)
	require.NoError(t, err)
	require.Equal(t, k.src, bi.Dst)
	require.Equal(t, k.dst, bi.Src)
	if k.proto == 6 {
		most := map[bool]uint16{true: 1400 - 40, false: 1400 - 60}[k.dst.Is4()]
		require.Equal(t, most, binary.BigEndian.Uint16(got.Packet[i.Transport+22:]), "segment size there")
		require.Equal(t, most, binary.BigEndian.Uint16(back.Packet[bi.Transport+22:]), "segment size back")
	}
	if k.proto == 6 || k.proto == 17 {
		require.EqualValues(t, 40000, bi.DstPort)
		require.Zero(t, transportSum(back.Packet, bi.Transport, k.proto))
	}
	compareReports(t, e, s, judge, k, back.Packet, at)
	if want.src != k.src {
		compareSecondFlow(t, e, m, groups, leased, k, i, at)
	}
	e.Tick(at.Add(3 * time.Hour))
	require.Zero(t, e.Flows(), "forgotten")
}

// compareReports has the person report on the answer (ICMP): that comes to who sent it, and to nobody else, for it would be a way past the
// rules.
func compareReports(t *rapid.T, e *forward.Engine, s *session.Session, judge naive, k probePacket, answer []byte, at time.Time) {
	i, err := packet.Parse(answer)
	if err != nil || i.Fragment || k.proto != 6 && k.proto != 17 {
		return
	}
	report := packet.Error(slices.Clone(answer), i, k.src, packet.NoRoute, 0)
	told := e.FromTunnel(s, slices.Clone(report), at)
	require.NotNil(t, told.Inside, "a report on an answer of %+v", k)
	other := k.dst.Next()
	if judge.page(other) { // which answers by itself
		other = other.Next()
	}
	ri, err := packet.Parse(report)
	require.NoError(t, err)
	packet.SetDst(report, &ri, other, ri.Ident)
	told = e.FromTunnel(s, report, at)
	require.Nil(t, told.Inside, "a report on an answer of %s, sent to %s", k.dst, other)
	require.Contains(t, []string{site.Rules, site.Selectors}, told.Station)
}

// compareSecondFlow sends the same packet from another person who is translated to the same address: it must get a port of
// its own, and its answer must come to that person.
func compareSecondFlow(t *rapid.T, e *forward.Engine, m *site.Model, groups []string, leased []netip.Addr, k probePacket, first packet.Info,
	at time.Time,
) {
	if k.proto != 6 && k.proto != 17 && k.proto != 1 && k.proto != 58 {
		return
	}
	other := k
	for other.src = k.src.Next(); ; other.src = other.src.Next() {
		if other.src.Is4() != k.src.Is4() || other.src.As16()[15] == k.src.As16()[15]+8 {
			return // no neighbour in the pool is treated alike
		}
		if slices.Contains(leased, other.src) {
			continue
		}
		p := site.Packet{Src: other.src, Dst: k.dst, Service: service(k)}
		out, _ := m.Route(p)
		if src, v := m.Translate(p, out); v.OK && src == first.Src {
			break
		}
	}
	s := &forward.Session{ID: 2, User: "v", Groups: groups, Addresses: []netip.Addr{other.src}, MTU: 1400}
	attach(e, s)
	got := inParts(other, octets(other), func(b []byte) forward.Result { return e.FromTunnel(s, b, at) })
	require.NotNil(t, got.Inside, "%+v", got)
	i, err := packet.Parse(got.Packet)
	require.NoError(t, err)
	require.Equal(t, first.Src, i.Src)
	require.False(t, i.SrcPort == first.SrcPort && i.Ident == first.Ident, "two flows share a port")
	require.Zero(t, transportSum(got.Packet, i.Transport, k.proto), "transport checksum after the port changed")
	back := inParts(other, answerTo(got.Packet), func(b []byte) forward.Result {
		return e.FromInside(b, got.Inside.Network == "internet", at)
	})
	require.Same(t, s, back.Session)
	bi, err := packet.Parse(back.Packet)
	require.NoError(t, err)
	require.Equal(t, other.src, bi.Dst)
	require.Zero(t, transportSum(back.Packet, bi.Transport, k.proto))
	e.Detach(s, reason.Of(reason.TrialOver, nil))
}
