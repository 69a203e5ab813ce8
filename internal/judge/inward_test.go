package judge

import (
	"net/netip"
	"slices"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yellowlantern/internal/core/forward"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/packet"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/core/site"
)

// randomInward draws a packet from somewhere, mostly inside, towards a leased address, or, now and then, towards one that is not.
func randomInward(t *rapid.T, n naive, leased, places []netip.Addr) probePacket {
	inside := slices.DeleteFunc(slices.Clone(places), func(a netip.Addr) bool { return n.home(a) == nil || n.own(a) || n.inSomePool(a) })
	if len(inside) > 0 && likely(t, "inside") {
		places = inside
	}
	var homes []netip.Addr // which devices would look for at home
	for _, s := range n.p.Passages {
		for _, h := range s.HomeNetworks {
			homes = append(homes, h.Masked().Addr().Next())
		}
	}
	if len(homes) > 0 && rapid.Bool().Draw(t, "at home") {
		places = homes
	}
	k := randomPacket(t, leased, places)
	k.src, k.dst = k.dst, k.src
	k.hops = 64
	return k
}

// compareInward holds journey, reach and forwarding of what is opened from inside to the page. It gives the stations that were seen.
func compareInward(t *rapid.T, judge naive, m *site.Model, c *site.Class, r reach.Reach, leased []netip.Addr, k probePacket, now moment,
	at time.Time,
) map[string]int {
	p := site.Packet{Src: k.src, Dst: k.dst, Service: service(k)}
	outside := rapid.Bool().Draw(t, "by the outside link")
	want := judge.inward(c.Groups, leased, k, now, outside)
	always, ever := judge.inward(c.Groups, leased, k, moment{always: true}, outside),
		judge.inward(c.Groups, leased, k, moment{ever: true}, outside)
	for _, x := range []struct {
		want ruling
		when site.When
	}{{want, site.At(at)}, {always, site.When{}}, {ever, site.Ever}} {
		j := m.TravelInward(c, p, netset.OfAddrs(leased...), x.when)
		lost := ""
		if s := j.LostAt(); s != nil {
			lost = s.Station
		}
		require.Equal(t, x.want.lostAt, lost, "journey from inside of %+v: %+v", k, j.Steps)
		require.Equal(t, x.want.enforced, j.Enforced, "journey from inside of %+v", k)
		require.Equal(t, x.want.full, j.Arrives, "journey from inside of %+v", k)
	}
	if slices.Contains(leased, k.dst) {
		holds := func(parts []reach.Part) bool {
			return slices.ContainsFunc(parts, func(p reach.Part) bool {
				return p.Src.Contains(k.dst) &&
					p.Traffic.Contains(k.src, service(k))
			})
		}
		require.Equal(t, ever.enforced, holds(r.InEnforced), "enforced reach from inside of %+v", k)
		require.Equal(t, always.full, holds(r.InFull), "full reach from inside of %+v", k)
	}
	if c.Passage != nil {
		forwardInward(t, judge, m, c.Groups, leased, k, want, outside, at)
	}
	return map[string]int{want.lostAt: 1, "carried: " + want.carried: 1}
}

// wrongLink sends a packet once more by the other kind of link, and gives the station that loses it.
func wrongLink(e *forward.Engine, judge naive, b []byte, k probePacket, outside bool, at time.Time) string {
	if judge.comes(k.src, !outside) {
		return site.Origin // it may come by both
	}
	return e.FromInside(slices.Clone(b), !outside, at).Station
}

func forwardInward(t *rapid.T, naive naive, m *site.Model, groups []string, leased []netip.Addr, k probePacket, want ruling, outside bool,
	at time.Time,
) {
	e := forward.New(m, &session.Table{})
	s := holding(groups, leased)
	attach(e, s)
	b := octets(k)
	i, err := packet.Parse(b)
	require.NoError(t, err)
	if i.EchoRequest() && m.OwnAddresses().Contains(k.dst) {
		return // the gateway answers by itself
	}
	got := inParts(k, b, func(b []byte) forward.Result { return e.FromInside(b, outside, at) })
	if !slices.Contains(leased, k.dst) { // whom it would have been for is not known, so nothing else is looked at
		require.Equal(t, site.State, got.Station)
		return
	}
	require.Equal(t, want.carried, got.Station, "forwarding from inside of %+v: %+v", k, want)
	if want.carried != "" {
		require.Nil(t, got.Session)
		return
	}
	require.Same(t, s, got.Session)
	comesWhole(t, got, 1400)
	i, err = packet.Parse(got.Packet)
	require.NoError(t, err)
	require.Equal(t, []netip.Addr{want.src, k.dst}, []netip.Addr{i.Src, i.Dst})
	if sum := map[uint8]int{6: 16, 17: 6, 1: 2, 58: 2}[i.Proto]; sum > 0 {
		require.Zero(t, transportSum(got.Packet, i.Transport, int(i.Proto)), "transport checksum of what was translated")
	}
	require.Equal(t, site.Origin, wrongLink(e, naive, b, k, outside, at), "what belongs to a flow comes by the right link too")
	back := inParts(k, answerTo(got.Packet), func(b []byte) forward.Result { return e.FromTunnel(s, b, at) })
	require.NotNil(t, back.Inside, "the answer is lost: %+v", back)
	require.Equal(t, want.out, back.Inside.Network)
	require.Equal(t, want.hop, back.Inside.NextHop)
	i, err = packet.Parse(back.Packet)
	require.NoError(t, err)
	require.Equal(t, []netip.Addr{k.dst, k.src}, []netip.Addr{i.Src, i.Dst})
	if i.Proto == 6 || i.Proto == 17 {
		require.EqualValues(t, 40000, i.DstPort, "the port that it was asked from")
	}
	if i.Proto == 1 && i.Kind == 0 {
		require.EqualValues(t, 777, i.Ident, "the identifier that it was asked under")
	}
	// Under the same identifier the person may answer, not ask: their own question is judged by itself.
	if i.Proto == netset.ICMP && k.kind == 8 && want.src == k.src {
		ask := k
		ask.src, ask.dst = k.dst, k.src
		_, v := m.Judge(m.Class(groups), site.Packet{Src: ask.src, Dst: ask.dst, Service: service(ask)}, site.At(at))
		if !v.OK {
			require.Equal(t, site.Rules, e.FromTunnel(s, octets(ask), at).Station)
		}
	}
}
