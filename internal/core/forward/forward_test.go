package forward

import (
	"encoding/binary"
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/packet"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/core/site"
	"yellowlantern/internal/testkit/island"
)

var (
	noon    = time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)
	warden  = netip.MustParseAddr("10.99.0.5")
	office  = netip.MustParseAddr("10.20.0.20")
	mirror  = netip.MustParseAddr("198.51.100.80")
	outside = netip.MustParseAddr("192.0.2.10")
	router  = netip.MustParseAddr("203.0.113.200")
)

// attach lets packets of a session pass.
func attach(e *Engine, s *Session) {
	if !e.Sessions.Add(s) || !e.Attach(s, nil) {
		panic("not attached")
	}
}

func engine(t testing.TB) (*Engine, *Session) {
	e := New(island.Model(t), &session.Table{})
	s := &Session{ID: 1, User: "wanda", Groups: []string{"wardens"}, Addresses: []netip.Addr{warden}, MTU: 1400}
	attach(e, s)
	return e, s
}

// tcp writes a TCP packet with flags.
func tcp(src, dst netip.Addr, sport, dport uint16, flags byte, size int) []byte {
	b := make([]byte, max(size, 40))
	b[0], b[6], b[8], b[9] = 0x45, 0x40, 64, netset.TCP
	binary.BigEndian.PutUint16(b[2:], uint16(len(b)))
	copy(b[12:], src.AsSlice())
	copy(b[16:], dst.AsSlice())
	binary.BigEndian.PutUint16(b[20:], sport)
	binary.BigEndian.PutUint16(b[22:], dport)
	b[32], b[33] = 0x50, flags
	binary.BigEndian.PutUint16(b[10:], packet.Checksum(b[:20], 0))
	return b
}

func parse(t *testing.T, b []byte) packet.Info {
	i, err := packet.Parse(b)
	require.NoError(t, err)
	return i
}

// A router on the internet reports on a translated packet: the report reaches the person about the packet as they sent it.
func TestICMPErrorIsTranslatedBack(t *testing.T) {
	e, s := engine(t)
	r := e.FromTunnel(s, tcp(warden, mirror, 40000, 80, 2, 60), noon)
	require.Equal(t, "internet", r.Inside.Network)
	require.Equal(t, outside, parse(t, r.Packet).Src)

	report := packet.Error(slices.Clone(r.Packet), parse(t, r.Packet), router, packet.TooBig, 1280)
	back := e.FromInside(report, true, noon)
	require.Same(t, s, back.Session)
	i := parse(t, back.Packet)
	require.Equal(t, warden, i.Dst)
	require.Equal(t, router, i.Src)
	in, _, err := packet.Quoted(back.Packet, i)
	require.NoError(t, err)
	require.Equal(t, []any{warden, mirror, uint16(40000), uint16(80)}, []any{in.Src, in.Dst, in.SrcPort, in.DstPort})
	require.Zero(t, packet.Checksum(back.Packet[:20], 0))
	require.Zero(t, packet.Checksum(back.Packet[20:], 0), "the report's own checksum")
	require.EqualValues(t, 1280, binary.BigEndian.Uint16(back.Packet[26:]))

	// A report about a flow that does not exist goes nowhere.
	stray := packet.Error(tcp(outside, mirror, 41000, 80, 2, 60), parse(t, tcp(outside, mirror, 41000, 80, 2, 60)), router, packet.TooBig,
		1280)
	require.Equal(t, site.State, e.FromInside(stray, true, noon).Station)
	// One that the person makes up themselves neither.
	forged := packet.Error(tcp(office, warden, 80, 41000, 2, 60), parse(t, tcp(office, warden, 80, 41000, 2, 60)), warden, packet.NoRoute,
		0)
	require.Equal(t, site.Rules, e.FromTunnel(s, forged, noon).Station)
}

// A report goes to who sent what it quotes: with a flow that is there nobody sends one to anybody else, past the rules.
func TestReportsGoToTheSender(t *testing.T) {
	for _, byKernel := range []bool{false, true} {
		e, s := engine(t)
		e.ByKernel = byKernel
		require.NotNil(t, e.FromTunnel(s, tcp(warden, office, 40000, 80, 2, 60), noon).Inside)
		answer := e.FromInside(tcp(office, warden, 80, 40000, 18, 60), false, noon)
		require.Same(t, s, answer.Session)
		report := packet.Error(slices.Clone(answer.Packet), parse(t, answer.Packet), warden, packet.NoRoute, 0)
		require.NotNil(t, e.FromTunnel(s, slices.Clone(report), noon).Inside)
		i := parse(t, report)
		packet.SetDst(report, &i, office.Next(), i.Ident)
		r := e.FromTunnel(s, report, noon)
		require.Nil(t, r.Inside, "by the kernel: %v", byKernel)
		require.Equal(t, site.Rules, r.Station)

		asked := tcp(warden, office, 40000, 80, 16, 60)
		from := packet.Error(slices.Clone(asked), parse(t, asked), office, packet.NoRoute, 0)
		require.Same(t, s, e.FromInside(slices.Clone(from), false, noon).Session)
		i = parse(t, from)
		packet.SetDst(from, &i, warden.Next(), i.Ident)
		require.Nil(t, e.FromInside(from, false, noon).Session, "from inside as well")
	}
}

func TestPersonsReportAboutAnAnswer(t *testing.T) {
	e, s := engine(t)
	e.FromTunnel(s, tcp(warden, mirror, 40000, 80, 2, 60), noon)
	answer := e.FromInside(tcp(mirror, outside, 80, 40000, 18, 60), true, noon)
	require.Same(t, s, answer.Session)
	report := packet.Error(answer.Packet, parse(t, answer.Packet), warden, packet.NoRoute, 0)
	r := e.FromTunnel(s, report, noon)
	require.NotNil(t, r.Inside)
	i := parse(t, r.Packet)
	require.Equal(t, outside, i.Src, "the inside learns nothing of the pool")
	in, _, err := packet.Quoted(r.Packet, i)
	require.NoError(t, err)
	require.Equal(t, outside, in.Dst)
}

func TestTooLargeForTheTunnel(t *testing.T) {
	e, s := engine(t)
	e.FromTunnel(s, tcp(warden, office, 40000, 80, 2, 60), noon)
	r := e.FromInside(tcp(office, warden, 80, 40000, 16, 1450), false, noon)
	require.Equal(t, site.Size, r.Station)
	i := parse(t, r.Answer)
	require.Equal(t, office, i.Dst)
	require.Equal(t, [2]uint8{3, 4}, [2]uint8{i.Kind, i.Code})
	require.EqualValues(t, 1400, binary.BigEndian.Uint16(r.Answer[26:]))
	require.EqualValues(t, 1, s.Counters.Lost[site.Size])
}

func TestFlowsEnd(t *testing.T) {
	e, s := engine(t)
	opened := func() int { e.FromTunnel(s, tcp(warden, office, 40000, 80, 2, 60), noon); return e.Flows() }
	back := func(at time.Time) string {
		return e.FromInside(tcp(office, warden, 80, 40000, 16, 60), false, at).Station
	}
	require.Equal(t, 1, opened())
	e.Tick(noon.Add(119 * time.Minute))
	require.Empty(t, back(noon.Add(119*time.Minute)))
	e.Tick(noon.Add(5 * time.Hour))
	require.Equal(t, site.Rules, back(noon.Add(5*time.Hour)), "forgotten after two hours of silence")

	opened()
	e.FromTunnel(s, tcp(warden, office, 40000, 80, packet.FIN, 60), noon)
	e.Tick(noon.Add(time.Minute))
	require.Equal(t, 1, e.Flows(), "half closed is open")
	e.FromInside(tcp(office, warden, 80, 40000, packet.FIN, 60), false, noon)
	e.Tick(noon.Add(time.Minute))
	require.Zero(t, e.Flows(), "closed on both sides")
	opened()
	e.FromInside(tcp(office, warden, 80, 40000, packet.RST, 60), false, noon)
	e.Tick(noon.Add(time.Minute))
	require.Zero(t, e.Flows(), "reset")
	opened()
	e.Detach(s, reason.Of(reason.TrialOver, nil))
	require.Zero(t, e.Flows(), "its session ended")
}

// One person cannot take the room that flows of others need.
func TestFlowsOfOnePersonAreBounded(t *testing.T) {
	e, s := engine(t)
	other := &Session{
		ID: 2, User: "rory", Groups: []string{"wardens"}, Addresses: []netip.Addr{netip.MustParseAddr("10.99.0.6")},
		MTU: 1400,
	}
	attach(e, other)
	for port := range maxPerSession + 100 {
		e.FromTunnel(s, tcp(warden, office, uint16(port), 80, 2, 60), noon)
	}
	require.Equal(t, maxPerSession, e.Flows())
	require.EqualValues(t, 100, s.Counters.Lost[site.State])
	require.NotNil(t, e.FromTunnel(other, tcp(other.Addresses[0], office, 1, 80, 2, 60), noon).Inside)
	e.Tick(noon.Add(5 * time.Hour))
	require.Zero(t, e.Flows()+len(flowsOf(s))+len(flowsOf(other)))
}

// A commit judges every flow again at its next packet: what is no longer let in ends, what still is goes on.
func TestCommitJudgesFlowsAgain(t *testing.T) {
	e, s := engine(t)
	records := netip.MustParseAddr("10.20.30.5")
	e.FromTunnel(s, tcp(warden, office, 40000, 80, 2, 60), noon)
	e.FromTunnel(s, tcp(warden, records, 40001, 80, 2, 60), noon)
	e.Commit(island.Model(t, "groups: [wardens], to: [station, archive]", "groups: [wardens], to: [archive]"))
	require.Equal(t, site.Rules, e.FromInside(tcp(office, warden, 80, 40000, 16, 60), false, noon).Station)
	require.Equal(t, site.Rules, e.FromTunnel(s, tcp(warden, office, 40000, 80, 16, 60), noon).Station)
	require.Empty(t, e.FromInside(tcp(records, warden, 80, 40001, 16, 60), false, noon).Station)
	require.EqualValues(t, 2, e.Rules()["wardens-inside"].Flows)
}

func TestAnswersAreLimited(t *testing.T) {
	e, s := engine(t)
	answered := 0
	for range answersMost + 50 {
		if r := e.FromTunnel(s, tcp(warden, netip.MustParseAddr("10.20.40.10"), 40000, 80, 2, 60), noon); r.Answer != nil {
			answered++
			require.Equal(t, "hands-off-the-turbine", r.Logged.Name)
		}
	}
	require.Equal(t, answersMost, answered)
	require.NotNil(t, e.FromTunnel(s, tcp(warden, netip.MustParseAddr("10.20.40.10"), 40000, 80, 2, 60), noon.Add(time.Second)).Answer)
	require.EqualValues(t, answersMost+51, s.Counters.Lost[site.Rules])
}

func FuzzForward(f *testing.F) {
	f.Add(tcp(warden, office, 40000, 80, 2, 60), tcp(office, warden, 80, 40000, 18, 60))
	f.Add(packet.EchoRequest(warden, office, []byte{0, 1, 0, 1}),
		packet.EchoRequest(netip.MustParseAddr("fd00:99::5"), netip.MustParseAddr("fd00:20::20"), []byte{0, 1, 0, 1}))
	m := island.Model(f)
	f.Fuzz(func(t *testing.T, a, b []byte) {
		e := New(m, &session.Table{})
		s := &Session{
			ID: 1, User: "wanda", Groups: []string{"wardens"}, Addresses: []netip.Addr{warden, netip.MustParseAddr("fd00:99::5")},
			MTU: 1400,
		}
		attach(e, s)
		for _, x := range [][]byte{a, b, a} {
			if r := e.FromTunnel(s, slices.Clone(x), noon); r.Packet != nil {
				i, err := packet.Parse(r.Packet)
				require.NoError(t, err)
				require.Equal(t, len(r.Packet), i.Size)
			}
			e.FromInside(slices.Clone(x), true, noon)
		}
	})
}

// A flow from inside with the ends of a translated flow of the person's is lost, and takes nothing away from that: each flow ends by
// itself.
func TestInwardFlowLeavesOthersAlone(t *testing.T) {
	m := island.Model(t, "action: exempt, from: [staff, guests, station, archive, turbine]", "action: translate, from: [staff]",
		"action: translate, from: [staff, station, archive]", "action: translate, from: [staff]",
		"{name: help-desk, action: permit, groups: [researchers], from: [office], services: [remote-help, ping]}", "{name: help-desk, action: permit, from: [office], services: [tcp]}")
	e := New(m, &session.Table{})
	s := &Session{ID: 1, User: "wanda", Groups: []string{"wardens"}, Addresses: []netip.Addr{warden}, MTU: 1400}
	attach(e, s)
	r := e.FromTunnel(s, tcp(warden, office, 40000, 80, 2, 60), noon)
	require.Equal(t, netip.MustParseAddr("10.20.0.1"), parse(t, r.Packet).Src, "translated")
	require.Equal(t, site.State, e.FromInside(tcp(office, warden, 80, 40000, 2, 60), false, noon).Station)
	require.Same(t, s, e.FromInside(tcp(office, warden, 81, 40000, 2, 60), false, noon).Session, "other ends are another flow")
	require.Equal(t, 2, e.Flows())
	require.Same(t, s, e.FromInside(tcp(office, netip.MustParseAddr("10.20.0.1"), 80, 40000, 18, 60), false, noon).Session,
		"the person's own goes on")
	e.Tick(noon.Add(5 * time.Hour))
	require.Zero(t, e.Flows()+len(flowsOf(s)))
}
