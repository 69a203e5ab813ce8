package probe

import (
	"errors"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/dial"
	"yellowlantern/internal/underlay"
)

var (
	silent = saw(reason.NoAnswer, nil)
	served = saw(reason.Connected, nil).served()
	closed = saw(reason.PortClosed, nil).reached()
)

func trial(place, dst, network, service string, want, computed bool, seen Seen) Result {
	return Result{Trial: reach.Trial{
		Want: want, Computed: computed, Dst: netip.MustParseAddr(dst), Place: place, Network: network,
		Service: service,
	}, Seen: seen}
}

// What was seen, beside what was expected and computed, leads to the likeliest station.
func TestLikeliestStation(t *testing.T) {
	other := func(seen Seen) Result { return trial("nestcams", "10.20.30.7", "archive", "tcp/80", true, true, seen) }
	for _, c := range []struct {
		name    string
		results []Result
		likely  string
		differs int
	}{
		{"as expected", []Result{trial("records", "10.20.30.5", "archive", "tcp/80", true, true, served)}, "", 0},
		{"kept out", []Result{trial("office", "10.20.0.20", "station", "tcp/80", false, false, silent)}, "", 0},
		{"the plan lets it through", []Result{trial("office", "10.20.0.20", "station", "tcp/80", false, true, served)}, "station rules", 0},
		{"a closed port is reached too", []Result{trial("office", "10.20.0.20", "station", "tcp/80", false, true, closed)}, "station rules", 0},
		{"forwarding lets through what the plan does not", []Result{trial("office", "10.20.0.20", "station", "tcp/80", false, false, served)}, "forwarding is at fault", 1},
		{"the plan does not let it through", []Result{trial("records", "10.20.30.5", "archive", "udp/53", true, false, silent)}, "--to 10.20.30.5 --service udp/53", 0},
		{"does not listen", []Result{trial("records", "10.20.30.5", "archive", "tcp/80", true, true, closed)}, "does not listen on tcp/80", 1},
		{"a network is meant, and its host answers", []Result{func() Result {
			r := trial("names", "10.20.0.53", "station", "tcp/80", true, true, closed)
			r.AnyAnswer = true
			return r
		}()}, "", 0},
		{"a filter on the host", []Result{trial("records", "10.20.30.5", "archive", "tcp/80", true, true, silent), trial("records", "10.20.30.5", "archive", "icmp/echo", true, true, served)}, "answers other services", 1},
		{"the host is down", []Result{trial("records", "10.20.30.5", "archive", "tcp/80", true, true, silent), other(served)}, "station host: others on network archive answer", 1},
		{"no way back", []Result{trial("records", "10.20.30.5", "archive", "tcp/80", true, true, silent), other(silent)}, "station return: nothing on network archive", 2},
		{"the other family answers", []Result{trial("records", "10.20.30.5", "archive", "tcp/80", true, true, silent), trial("records", "fd00:20:30::5", "archive", "tcp/80", true, true, served)}, "station return", 1},
		{"a router gives it up", []Result{trial("records", "10.20.30.5", "archive", "tcp/80", true, true, saw(reason.RouterSaid, reason.With{reason.Said: "no route", reason.By: "10.20.0.2"}))}, "station onward", 1},
		{"the internet does not answer", []Result{trial("198.51.100.80", "198.51.100.80", "", "tcp/80", true, true, silent)}, "station translation", 1},
		{"the name does not resolve", []Result{trial("records", "10.20.30.5", "archive", "tcp/80", true, true, saw(reason.NameUnresolved, reason.With{reason.Name: "x"}))}, "station names", 1},
		{"it answers at home too", []Result{func() Result {
			r := trial("records", "192.168.77.5", "archive", "tcp/80", true, true, served)
			r.Before = &served
			return r
		}()}, "says nothing about the tunnel", 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := &Report{User: "rory", Connected: true, Results: c.results}
			r.judge()
			require.Equal(t, c.likely == "" && c.differs == 0, r.OK)
			require.Equal(t, c.differs, r.Differs)
			require.Contains(t, r.Results[0].Likely, c.likely)
			require.Equal(t, c.likely == "", r.Results[0].OK)
		})
	}
}

// A login that fails says at which station before the rules; somebody whom no passage admits is not expected to get in.
func TestLoginCauses(t *testing.T) {
	results := []Result{
		trial("records", "10.20.30.5", "archive", "tcp/80", true, true, Seen{}),
		trial("office", "10.20.0.20", "station", "tcp/80", false, false, Seen{}),
	}
	for _, c := range []struct {
		err  error
		says string
	}{
		{&dial.Fault{Code: reason.FaultSilent500, Err: errors.New("x")}, "nothing answers where the plan says the gateway is"},
		{&dial.Fault{Code: reason.FaultSilent4500, Err: errors.New("x")}, "the site loses it on the way"},
		{&dial.Fault{Code: reason.FaultCertificate, Err: errors.New("expired")}, "tunnels/…/certificate"},
		{&dial.Fault{Code: reason.FaultRefused, Err: errors.New("NO_PROPOSAL_CHOSEN")}, "NO_PROPOSAL_CHOSEN; the journal says why"},
		{errors.New("something else"), "station login: something else"},
	} {
		r := &Report{Results: append([]Result{}, results...)}
		r.notConnected(Order{Admitted: true}, c.err)
		require.False(t, r.OK)
		require.Equal(t, 1, r.Missed, "the login")
		require.Zero(t, r.Tried())
		for _, x := range r.Results {
			require.True(t, x.Untried && !x.OK, "nothing is as expected that was not tried: %+v", x)
		}
		require.Len(t, r.Causes, 1)
		require.Contains(t, r.Causes[0], c.says)
	}
	r := &Report{Results: append([]Result{}, results[1:]...)}
	r.notConnected(Order{}, &dial.Fault{Code: reason.FaultRefused, Err: errors.New("AUTHENTICATION_FAILED")})
	require.True(t, r.OK)
	require.Empty(t, r.Causes)
}

// elsewhere is an underlay of which only the device's own address matters.
type elsewhere struct {
	underlay.Underlay
	own  netip.Addr
	name string
}

func (e elsewhere) Address(netip.Addr) netip.Addr { return e.own }
func (e elsewhere) Name() string                  { return e.name }

// A trial from the gateway's own machine or network is marked as none from outside; one from a vantage with the same addresses is not.
func TestFromInside(t *testing.T) {
	o := Order{Inside: []netip.Prefix{netip.MustParsePrefix("10.20.0.0/24"), netip.MustParsePrefix("192.0.2.10/32")}}
	for own, want := range map[string]bool{"10.20.0.77": true, "192.0.2.10": true, "203.0.113.45": false} {
		require.Equal(t, want, fromInside(elsewhere{own: netip.MustParseAddr(own), name: underlay.Host().Name()}, o), own)
		require.False(t, fromInside(elsewhere{own: netip.MustParseAddr(own), name: "twin"}, o), own)
	}
}
