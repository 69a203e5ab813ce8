package e2e

import (
	"context"
	"io"
	"net"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/client"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/tour"
	"yellowlantern/internal/underlay"
)

func from(t *testing.T, d *tour.Demo, vantage string) underlay.Underlay {
	t.Helper()
	for _, v := range d.Lab.Vantages() {
		if v.Name == vantage {
			u, err := underlay.Vantage(t.Context(), v.Link)
			require.NoError(t, err)
			t.Cleanup(u.Close)
			return u
		}
	}
	t.Fatalf("there is no vantage %q", vantage)
	return nil
}

// From every kind of place people get in and reach what they must, where that place allows it; where it does not, the report says why.
func TestVantages(t *testing.T) {
	d := island(t, nil)
	run := func(vantage, user string) *probe.Report {
		r, err := probe.Run(t.Context(), from(t, d, vantage), order(t, d, user), probe.Options{Password: d.Passwords[user]})
		require.NoError(t, err)
		require.True(t, r.Connected, "%s from %s: %s", user, vantage, r.Login)
		return r
	}
	check := func(r *probe.Report, name string) probe.Check {
		i := slices.IndexFunc(r.Checks, func(c probe.Check) bool { return c.Name == name })
		require.GreaterOrEqual(t, i, 0, "%s: %+v", name, r.Checks)
		return r.Checks[i]
	}
	for _, c := range []struct{ vantage, user, over string }{
		{"home", "wanda.warden", "UDP"}, {"hotel", "rory.researcher", "TCP"}, {"mobile", "rory.researcher", "UDP"}, {"ipv6-only", "wanda.warden", "UDP"}, {"twin", "vera.volunteer", "UDP"},
	} {
		t.Run(c.vantage, func(t *testing.T) {
			t.Parallel()
			r := run(c.vantage, c.user)
			require.True(t, r.OK, "%+v", r)
			require.Equal(t, c.over, r.Given.Over)
			require.Equal(t, 1320, r.Largest)
			require.False(t, r.Inside)
			if c.user == "wanda.warden" {
				require.Contains(t, check(r, "address on the internet").Words, "the internet sees the gateway: 192.0.2.10")
			}
			for _, x := range r.Results {
				if x.Service == "tcp/443" && x.Want {
					require.Contains(t, x.Seen.Words, "TLS for ", "%+v", x)
				}
			}
		})
	}
	t.Run("a home network hides the archive", func(t *testing.T) {
		t.Parallel()
		r := run("twin", "rory.researcher")
		require.False(t, r.OK)
		require.Zero(t, r.Differs, "computed for that place: %+v", r.Results)
		require.True(t, slices.ContainsFunc(r.Causes, func(c string) bool {
			return strings.Contains(c, "10.20.30.0/24") && strings.Contains(c, "passages/research/routes")
		}), "%v", r.Causes)
		for _, x := range r.Results {
			require.Equal(t, x.Network == "archive" && x.Want && x.Dst.Is4(), x.Home != "", "%+v", x)
		}
	})
}

// A tunnel that lets larger packets through than the way carries is found by its size, with the number that mends it.
func TestLargestPacket(t *testing.T) {
	d := island(t, nil)
	recommit(t, d, "    mtu: 1320 ", "    mtu: 1400 ")
	r, err := probe.Run(t.Context(), from(t, d, "mobile"), order(t, d, "rory.researcher"),
		probe.Options{Password: d.Passwords["rory.researcher"]})
	require.NoError(t, err)
	require.False(t, r.OK)
	// 1400 less IP 20, UDP 8, ESP 8 and 8, two octets and filling of the trailer, and 16 of proof.
	require.Equal(t, 1338, r.Largest)
	require.True(t, slices.ContainsFunc(r.Causes, func(c string) bool { return strings.Contains(c, "set tunnels/main/mtu to 1338") }), "%v",
		r.Causes)
}

// A session over TCP shows as such, survives commits, and ends with the port that it comes by.
func TestOverTCP(t *testing.T) {
	d := island(t, nil)
	tn, err := probe.Open(t.Context(), from(t, d, "hotel"), order(t, d, "rory.researcher"),
		probe.Options{Password: d.Passwords["rory.researcher"]})
	require.NoError(t, err)
	t.Cleanup(tn.Close)
	require.NoError(t, ping(t, tn, "10.20.30.5"))
	ss, err := client.Get[[]gateway.Session](t.Context(), d.Client, "/sessions")
	require.NoError(t, err)
	require.Len(t, ss, 1)
	require.True(t, ss[0].TCP)
	require.True(t, strings.HasPrefix(ss[0].From, "203.0.113.60:"), ss[0].From)
	recommit(t, d, "note: watch the nest cameras", "note: watch the nests")
	require.NoError(t, ping(t, tn, "10.20.30.5"))
	recommit(t, d, "    tcp-port: 443 ", "    tcp-port: 8443 ")
	require.Error(t, ping(t, tn, "10.20.30.5"), "that port is shut")
	again, err := probe.Open(t.Context(), from(t, d, "hotel"), order(t, d, "wanda.warden"),
		probe.Options{Password: d.Passwords["wanda.warden"]})
	require.NoError(t, err)
	t.Cleanup(again.Close)
	require.NoError(t, ping(t, again, "10.20.30.5"))
}

// Boundary packets are tried beside the expectations. Where the gateway runs something else than was computed, they show it, with both
// sides' evidence, also where no expectation looks.
func TestBoundaries(t *testing.T) {
	d := island(t, nil)
	o := order(t, d, "both.birdwatcher")
	run := func() *probe.Report {
		r, err := probe.Run(t.Context(), home(t, d), o, probe.Options{Password: d.Passwords[o.User]})
		require.NoError(t, err)
		return r
	}
	edges := func(r *probe.Report) (all, through, bad int) {
		for _, x := range r.Results {
			if x.Edge {
				all++
				if x.Computed {
					through++
				}
				if !x.OK {
					bad++
				}
			}
		}
		return
	}
	sound := run()
	require.True(t, sound.OK, "%+v", sound.Causes)
	all, through, _ := edges(sound)
	require.Greater(t, all, 30)
	require.Greater(t, through, 5)
	require.Greater(t, all-through, 5)

	// What is computed is now of a plan that no longer runs.
	recommit(t, d, "to: [records, nestcams], services: [web, ping]}\n  - {name: cameras",
		"to: [records, nestcams], services: [web, ping, tcp/444]}\n  - {name: cameras",
		"{name: cameras, action: permit, groups: [volunteers], to: [nestcams], services: [web]}", "{name: cameras, action: permit, groups: [volunteers], to: [nestcams], services: [tcp/80]}",
		"  - {name: names-for-all, action: permit, to: [names], services: [names, ping]}", "  - {name: names-for-all, action: permit, to: [names], services: [names, ping]}\n  - {name: shut, action: refuse, groups: [researchers], to: [records], services: [ping]}",
		"must: reach, to: [records, nestcams], services: [web, ping], by-name: true}", "must: reach, to: [records, nestcams], services: [web], by-name: true}")
	changed := run()
	require.False(t, changed.OK)
	_, _, bad := edges(changed)
	require.NotZero(t, bad)
	require.True(t, slices.ContainsFunc(changed.Causes, func(c string) bool {
		return strings.Contains(c, "differ at a boundary: records") && strings.Contains(c, "computed to be let through") &&
			strings.Contains(c, "prohibited (said by 10.20.0.1)")
	}), "%v", changed.Causes)
}

// A translation on the way that forgets after three seconds does not end a session: what the person sends makes a new one, and the gateway
// follows. What is opened from inside while it is forgotten is lost.
func TestTranslationForgets(t *testing.T) {
	d := island(t, nil)
	tn, err := probe.Open(t.Context(), from(t, d, "mobile"), order(t, d, "rory.researcher"),
		probe.Options{Password: d.Passwords["rory.researcher"]})
	require.NoError(t, err)
	t.Cleanup(tn.Close)
	require.NoError(t, ping(t, tn, "10.20.30.5"))
	fromInside := func() error {
		ctx, cancel := context.WithTimeout(t.Context(), 700*time.Millisecond)
		defer cancel()
		_, err := d.Lab.Ping(ctx, "office", tn.Address4())
		return err
	}
	require.NoError(t, fromInside())
	time.Sleep(3500 * time.Millisecond)
	require.Error(t, fromInside(), "the way to the device is forgotten")
	require.NoError(t, ping(t, tn, "10.20.30.5"), "by a new port")
	require.NoError(t, fromInside(), "the gateway follows")
	require.NoError(t, tn.Ended())
}

// Whoever speaks anything but IKE and ESP over TCP is shut out, and holds up nobody.
func TestHostileTCP(t *testing.T) {
	d := island(t, nil)
	u := from(t, d, "hotel")
	dial := func() net.Conn {
		c, err := u.DialTCP(t.Context(), mustAddrPort("192.0.2.10:443"))
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.Close() })
		return c
	}
	for name, says := range map[string]string{
		"another protocol": "GET / HTTP/1.1\r\n\r\n", "a length of nothing": "IKETCP\x00\x02",
		"a length that does not count itself": "IKETCP\x00\x00",
	} {
		c := dial()
		_, err := c.Write([]byte(says))
		require.NoError(t, err)
		_ = c.SetReadDeadline(time.Now().Add(3 * time.Second))
		_, err = c.Read(make([]byte, 1))
		require.ErrorIs(t, err, io.EOF, name)
	}
	stays := dial() // well-formed nonsense is dropped and counted, message by message
	for _, message := range []string{
		"IKETCP", "\x00\x06abcd", "\x00\x06\x00\x00\x00\x00", "\x00\x16\x00\x00\x00\x00nonsense, not IKE",
		"\x00\x03\xff",
	} {
		_, err := stays.Write([]byte(message))
		require.NoError(t, err)
	}
	require.Eventually(t, func() bool {
		s, err := client.Get[gateway.Status](t.Context(), d.Client, "/status")
		return err == nil && s.Dropped["too short"]+s.Dropped["ESP of no session"]+s.Dropped["malformed"] >= 2
	}, 20*time.Second, 50*time.Millisecond)
	for range 40 { // many who say nothing
		_ = dial()
	}
	tn, err := probe.Open(t.Context(), from(t, d, "hotel"), order(t, d, "rory.researcher"),
		probe.Options{Password: d.Passwords["rory.researcher"]})
	require.NoError(t, err)
	t.Cleanup(tn.Close)
	require.NoError(t, ping(t, tn, "10.20.30.5"))
}
