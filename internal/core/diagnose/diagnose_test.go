package diagnose

import (
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/site"
	"yellowlantern/internal/testkit/island"
)

var now = time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)

// evidence is of a researcher about whom nothing is known but the plan.
func evidence(t *testing.T, complaint string, change ...string) Evidence {
	m := island.Model(t, change...)
	return Evidence{
		Now: now, Complaint: complaint, User: "rory.researcher", Known: true, Model: m, Class: m.Class([]string{"researchers"}),
		Free: 5,
	}
}

func to(e *Evidence, dst, service string) {
	set, err := netset.ParseServices(service)
	if err != nil {
		panic(err)
	}
	e.Packet = &site.Packet{Src: netip.MustParseAddr("10.99.0.1"), Dst: netip.MustParseAddr(dst), Service: set[0].From}
}

func ago(d time.Duration) time.Time { return now.Add(-d) }

// Each piece of evidence leads to its cause, and a cause that needs no decision brings an edit that the plan takes.
func TestCauses(t *testing.T) {
	for name, c := range map[string]struct {
		code     string
		evidence func(t *testing.T) Evidence
		mends    bool
	}{
		"the last refusal says most": {"outside-hours", func(t *testing.T) Evidence {
			e := evidence(t, CannotConnect)
			e.Journal = []Line{{
				At: ago(time.Minute), Kind: "refused",
				Why: reason.Of(reason.OutsideHours, reason.With{reason.Passage: "research"}),
			}, {At: ago(time.Hour), Kind: "refused", Why: reason.Of(reason.WrongPassword, nil)}}
			return e
		}, false},
		"what was mended meanwhile says nothing": {"nothing-found", func(t *testing.T) Evidence {
			e := evidence(t, CannotConnect)
			for _, why := range []reason.Reason{
				reason.Of(reason.NoPassage, reason.With{reason.Groups: "nobody"}), reason.Of(reason.SwitchedOff, nil),
				reason.Of(reason.OtherTunnel, reason.With{reason.Passage: "research", reason.Tunnel: "main"}),
				reason.Of(reason.PassageFull, reason.With{reason.Passage: "gone"}),
				reason.Of(reason.PoolExhausted, reason.With{reason.Pool: "staff"}),
				reason.Of(reason.TooManySessions, reason.With{reason.Passage: "research"}),
			} {
				e.Journal = append(e.Journal, Line{At: ago(time.Minute), Kind: "refused", User: e.User, Why: why})
			}
			return e
		}, false},
		"what is older than a day says nothing": {"nothing-found", func(t *testing.T) Evidence {
			e := evidence(t, CannotConnect)
			e.Journal = []Line{{At: ago(48 * time.Hour), Kind: "refused", Why: reason.Of(reason.WrongPassword, nil)}}
			return e
		}, false},
		"a claimed name before the password": {"certificate-not-accepted", func(t *testing.T) Evidence {
			e := evidence(t, CannotConnect)
			e.Others = []Line{{
				At: ago(time.Minute), Kind: "refused",
				Why: reason.Of(reason.SilentAtCertificate, reason.With{reason.Claimed: "rory.researcher"}),
			}}
			return e
		}, false},
		"somebody else's trouble": {"nothing-found", func(t *testing.T) Evidence {
			e := evidence(t, CannotConnect)
			e.Others = []Line{{At: ago(time.Minute), Kind: "refused", User: "mallory", Why: reason.Of(reason.UnknownUser, nil)}}
			return e
		}, false},
		"an anonymous refusal, and nothing else": {"no-common-algorithm", func(t *testing.T) Evidence {
			e := evidence(t, CannotConnect)
			e.Others = []Line{{
				At: ago(time.Minute), Kind: "refused", Why: reason.Of(reason.NoCommonAlgorithm, reason.With{reason.Offered: "x", reason.Wanted: "y"}),
			}}
			return e
		}, false},
		"a device that offers what the tunnel lacks": {"no-common-algorithm", func(t *testing.T) Evidence {
			e := evidence(t, CannotConnect)
			e.Others = []Line{{
				At: ago(time.Minute), Kind: "refused", Why: reason.Of(reason.NoCommonAlgorithm, reason.With{
					reason.Offered: "AES-256-CBC, HMAC-SHA2-256-128, PRF-HMAC-SHA2-256, MODP-1024; or " +
						"AES-256-CBC, HMAC-SHA2-256-128, PRF-HMAC-SHA2-256, MODP-2048",
					reason.Wanted: "what the tunnel has",
				}),
			}}
			return e
		}, true},
		"from inside nothing is known of the way in": {"nobody-arrives", func(t *testing.T) Evidence {
			e := evidence(t, CannotConnect)
			e.Began = ago(24 * time.Hour)
			e.Trials = []Trial{
				{Vantage: "this-network", Inside: true, At: now, Connected: true},
				{Vantage: "this-network", Inside: true, At: now, Fault: reason.FaultSilent500},
			}
			return e
		}, false},
		"the pool is empty": {"pool-exhausted", func(t *testing.T) Evidence {
			e := evidence(t, CannotConnect)
			e.Free = 0
			return e
		}, false},
		"a rule is missing": {"no-rule", func(t *testing.T) Evidence {
			e := evidence(t, ReachesSome)
			to(&e, "10.20.0.20", "tcp/80")
			return e
		}, true},
		"route and rule are missing": {"not-routed", func(t *testing.T) Evidence {
			e := evidence(t, ReachesSome)
			to(&e, "198.51.100.80", "tcp/80")
			return e
		}, true},
		"a refusal wants a decision": {"refused-by-rule", func(t *testing.T) Evidence {
			e := evidence(t, ReachesSome, "{split: [station, archive]}", "{split: [station, archive, turbine]}",
				"{name: only-the-contractor,", "{name: only-the-contractor, off: true,")
			to(&e, "10.20.40.10", "tcp/502")
			return e
		}, false},
		"what must not be reached is not mended": {"not-meant", func(t *testing.T) Evidence {
			e := evidence(t, ReachesSome)
			to(&e, "10.20.40.10", "tcp/502")
			return e
		}, false},
		"nothing else is not mended either": {"not-meant", func(t *testing.T) Evidence {
			e := evidence(t, ReachesSome)
			e.Class = e.Model.Class([]string{"turbine-contractor"})
			to(&e, "10.20.30.5", "tcp/80")
			e.Packet.Src = netip.MustParseAddr("10.99.1.1")
			return e
		}, false},
		"a home network": {"home-network", func(t *testing.T) Evidence {
			e := evidence(t, ReachesSome, "{split: [station, archive]}", "{split: [station, archive]}\n    home-networks: [10.20.30.0/24]")
			to(&e, "10.20.30.5", "tcp/80")
			return e
		}, false},
		"no way back": {"no-way-back", func(t *testing.T) Evidence {
			e := evidence(t, ReachesSome, "prefixes: [10.20.30.0/24, \"fd00:20:30::/64\"]\n    router: ridge",
				"prefixes: [10.20.30.0/24, \"fd00:20:30::/64\"]")
			to(&e, "10.20.30.5", "tcp/80")
			return e
		}, false},
		"the gateway has no route": {"gateway-has-no-route", func(t *testing.T) Evidence {
			e := evidence(t, ReachesSome, "      - {to: 10.20.30.0/24, via: 10.20.0.2}\n", "", "    internet: true\n", "")
			to(&e, "10.20.30.5", "tcp/80")
			return e
		}, false},
		"no rule at all": {"no-rule-at-all", func(t *testing.T) Evidence {
			e := evidence(t, ReachesNothing, "rules:\n",
				"rules:\n  - {name: shut, action: refuse, groups: [researchers], to: [any], services: [any]}\n")
			return e
		}, false},
		"the name server is not routed": {"name-server-not-routed", func(t *testing.T) Evidence {
			return evidence(t, NamesFail, "{split: [station, archive]}", "{split: [archive]}")
		}, true},
		"the name server is not permitted": {"name-server-not-permitted", func(t *testing.T) Evidence {
			return evidence(t, NamesFail, "to: [names], services: [names, ping]}\n  - {name: wardens-i",
				"to: [names], services: [ping]}\n  - {name: wardens-i")
		}, true},
		"public name servers": {"public-name-servers", func(t *testing.T) Evidence {
			return evidence(t, NamesFail, "    dns: {servers: [10.20.0.53], search: [tern.example]}\n    routes: {split: [station",
				"    dns: {servers: [9.9.9.9]}\n    routes: {split: [station")
		}, false},
		"no name server": {"no-name-server", func(t *testing.T) Evidence {
			return evidence(t, NamesFail, "    dns: {servers: [10.20.0.53], search: [tern.example]}\n    routes: {split: [station",
				"    routes: {split: [station")
		}, false},
		"a filter on the host": {"host-filters", func(t *testing.T) Evidence {
			e := evidence(t, ReachesSome)
			to(&e, "10.20.30.5", "tcp/443")
			dst := netip.MustParseAddr("10.20.30.5")
			e.Trials = []Trial{{Vantage: "home", At: now, Connected: true, Results: []Result{
				{Place: "records", Network: "archive", Dst: dst, Service: "tcp/80", Want: true, Reached: true, Served: true},
				{Place: "records", Network: "archive", Dst: dst, Service: "tcp/443", Want: true, Saw: reason.Of(reason.NoAnswer, nil)},
			}}}
			return e
		}, false},
		"a page that hangs": {"hangs-after-connecting", func(t *testing.T) Evidence {
			e := evidence(t, ReachesSome)
			to(&e, "10.20.30.5", "tcp/443")
			e.Trials = []Trial{{
				Vantage: "home", At: now, Connected: true,
				Results: []Result{{Place: "records", Network: "archive", Dst: e.Packet.Dst, Service: "tcp/443", Want: true, Reached: true, Saw: reason.Of(reason.Hangs, nil)}},
			}}
			return e
		}, false},
		"only this device": {"only-this-device", func(t *testing.T) Evidence {
			e := evidence(t, ReachesSome)
			to(&e, "10.20.30.5", "tcp/80")
			e.Sessions = []Session{{From: "203.0.113.45:1", In: 10, Out: 10}}
			e.Trials = []Trial{{
				Vantage: "home", At: now, Connected: true,
				Results: []Result{{Place: "records", Network: "archive", Dst: e.Packet.Dst, Service: "tcp/80", Want: true, Reached: true, Served: true}},
			}}
			return e
		}, false},
		"nothing comes back": {"no-answer-from-inside", func(t *testing.T) Evidence {
			e := evidence(t, ReachesSome)
			to(&e, "10.20.30.5", "tcp/80")
			e.Sessions = []Session{{In: 10, Out: 10}}
			e.Flows = []Flow{{Dst: "10.20.30.5:80", Service: "tcp/80", Sent: 4}}
			return e
		}, false},
		"segments that do not fit": {"segments-do-not-fit", func(t *testing.T) Evidence {
			return evidence(t, Slow, "    certificate: gate\n", "    certificate: gate\n    keep-mss: true\n")
		}, true},
		"too large for the way": {"mtu-too-large", func(t *testing.T) Evidence {
			e := evidence(t, Slow)
			e.Trials = []Trial{{Vantage: "mobile", At: now, Connected: true, Largest: 1300}}
			return e
		}, true},
	} {
		t.Run(name, func(t *testing.T) {
			e := c.evidence(t)
			got := Find(e)
			require.Equal(t, c.code, got[0].Code, "%+v", got)
			require.NotEmpty(t, got[0].Fix)
			require.NotEmpty(t, got[0].Evidence)
			require.Equal(t, c.mends, len(got[0].Mend) > 0, "%+v", got[0])
			if c.mends {
				_, err := plan.Apply(island.Text(t), got[0].Mend...)
				require.True(t, err == nil || strings.Contains(err.Error(), "keep-mss"), "%v", err)
			}
		})
	}
}

// Every sign of the journal brings words and a fix with the person's own settings in it.
func TestSigns(t *testing.T) {
	f := &finder{Evidence: evidence(t, CannotConnect)}
	for kind, list := range map[string]map[reason.Code]sign{reason.KindRefused: refusals, reason.KindEnded: ends} {
		for code, s := range list {
			require.Equal(t, kind, reason.KindOf(code))
			c := f.cause(s, reason.Reason{}, 50)
			require.NotEmpty(t, c.Words)
			require.NotEmpty(t, c.Fix)
			for _, word := range []string{"USER", "PASSAGE", "POOL", "TUNNEL", "AUTHORITY", "SOURCE", "GATEWAY"} {
				require.NotContains(t, c.Words+c.Fix+c.Setting, word)
			}
			others := reason.With{
				reason.Passage: "other", reason.Tunnel: "other", reason.Pool: "other",
				reason.Authority: "other", reason.Source: "other",
			}
			at := f.cause(s, reason.Of(code, others), 50)
			if s.setting != "" && s.setting != "passages" && !strings.HasPrefix(s.setting, "GATEWAY") {
				require.Contains(t, at.Setting, "/other", "the setting is that of the reason, not the person's own of today")
			}
		}
	}
}

// What the status knows of the gateway host explains a complaint where it bears on it, and then what trials saw follows from it; where it
// does not bear on it, it is not named.
func TestChecksOfTheStatus(t *testing.T) {
	told := func(code reason.Code, with reason.With) Check {
		return Check{Name: "inside", Failed: true, Words: "words", Why: reason.Of(code, with)}
	}
	dead := []Trial{{Vantage: "gateway", Inside: true, At: now, Connected: true, Results: []Result{
		{Place: "names", Network: "station", Dst: netip.MustParseAddr("10.20.0.53"), Service: "udp/53", Want: true, Saw: reason.Of(reason.NoAnswer, nil)},
		{Place: "records", Network: "archive", Dst: netip.MustParseAddr("10.20.30.5"), Service: "tcp/80", Want: true, Saw: reason.Of(reason.NoAnswer, nil)},
	}}}
	alive := []Trial{{Vantage: "gateway", Inside: true, At: now, Connected: true, Results: []Result{
		{Place: "records", Network: "archive", Dst: netip.MustParseAddr("10.20.30.5"), Service: "tcp/80", Want: true, Reached: true, Served: true},
	}}}
	down := func(network string) Check {
		return told(reason.LinkDown, reason.With{reason.Link: "eth1", reason.Network: network})
	}
	drops := func(services string) Check { return told(reason.OthersRefuse, reason.With{reason.Service: services}) }
	for name, c := range map[string]struct {
		complaint string
		check     Check
		trials    []Trial
		to        string
		first     string // empty: another than the check's
	}{
		"a link down":                                    {ReachesNothing, down("station"), dead, "", "link-down"},
		"the link to what is complained of":              {ReachesSome, down("station"), dead, "10.20.30.5", "link-down"},
		"another link":                                   {ReachesSome, down("annex"), dead, "10.20.30.5", ""},
		"an inside link and a login":                     {CannotConnect, down("station"), nil, "", ""},
		"the link outside and a login":                   {CannotConnect, down("internet"), nil, "", "link-down"},
		"a foreign table":                                {ReachesNothing, told(reason.OthersDrop, nil), dead, "", "others-drop"},
		"a foreign table that nothing was tried through": {ReachesNothing, told(reason.OthersDrop, nil), nil, "", "others-drop"},
		"times that the kernel does not take":            {ReachesNothing, told(reason.TimeoutsNotTaken, nil), dead, "", ""},
		"a foreign rule for that service":                {ReachesSome, drops("tcp/80 (rule with handle 4)"), dead, "10.20.30.5", "others-drop-service"},
		"one for another service":                        {ReachesSome, drops("tcp/8080 (rule with handle 4)"), dead, "10.20.30.5", ""},
		"one that lets this through":                     {ReachesSome, drops("tcp/80 (rule with handle 4)"), alive, "10.20.30.5", ""},
		"one for IKE":                                    {CannotConnect, drops("udp/500 (by its policy)"), nil, "", "others-drop-service"},
		"one for IKE, and a page":                        {ReachesSome, drops("udp/500 (by its policy)"), dead, "10.20.30.5", ""},
		"a gateway that is away":                         {CannotConnect, told(reason.GatewayNotReached, nil), nil, "", "gateway-not-reached"},
		"a full disk":                                    {CannotConnect, Check{Name: "disk", Failed: true}, nil, "", "status-disk"},
		"a disk that fills":                              {CannotConnect, Check{Name: "disk"}, nil, "", ""},
		"a full disk and a page":                         {ReachesSome, Check{Name: "disk", Failed: true}, dead, "10.20.30.5", ""},
		"a source of others":                             {CannotConnect, Check{Name: "sources", Failed: true, Setting: "sources/mainland"}, nil, "", ""},
		"a certificate of another tunnel":                {CannotConnect, Check{Name: "certificate", Failed: true, Setting: "tunnels/other/certificate"}, nil, "", ""},
		"the certificate of the person's":                {CannotConnect, Check{Name: "certificate", Failed: true, Setting: "tunnels/main/certificate"}, nil, "", "status-certificate"},
		"a mirror that did not reach the port":           {CannotConnect, Check{Name: "ports", Failed: true}, nil, "", "status-ports"},
	} {
		t.Run(name, func(t *testing.T) {
			e := evidence(t, c.complaint)
			e.Checks, e.Trials = []Check{c.check}, c.trials
			if c.to != "" {
				to(&e, c.to, "tcp/80")
			}
			got := Find(e)
			own := string(c.check.Why.Code)
			if own == "" {
				own = "status-" + c.check.Name
			}
			if c.first != "" {
				require.Equal(t, c.first, got[0].Code, "%+v", got)
				for _, other := range got[1:] {
					require.Less(t, other.Sure, 90, "it follows from the first: %+v", other)
				}
				return
			}
			for _, x := range got {
				require.NotEqual(t, own, x.Code, "%+v", x)
			}
		})
	}
}

// The passage that counts is not the one by which it would be reached; a device that ends its session at once cannot use what it is given;
// where nobody arrives at all, it is not one person's network.
func TestCausesBesideThePerson(t *testing.T) {
	e := evidence(t, ReachesSome, "  - name: research\n", "  - {name: visits, groups: [researchers], tunnels: [main], pool: guests, routes: {split: [names]}}\n  - name: research\n")
	to(&e, "10.20.30.5", "tcp/80")
	e.Packet.Src = netip.MustParseAddr("10.99.1.1")
	got := Find(e)
	require.Equal(t, "other-passage", got[0].Code, "%+v", got)
	require.Contains(t, got[0].Fix, "move passage research before visits")

	e = evidence(t, CannotConnect)
	e.Began = ago(24 * time.Hour)
	require.Equal(t, "nobody-arrives", Find(e)[0].Code)
	for fault, arrives := range map[reason.Code]bool{reason.FaultRefused: true, reason.FaultStopped: true, reason.FaultOther: false} {
		e.Trials = []Trial{{At: ago(time.Minute), Vantage: "home", Fault: fault}}
		named := slices.ContainsFunc(Find(e), func(c Cause) bool { return c.Code == "nobody-arrives" })
		require.Equal(t, !arrives, named, "the gateway answered a trial from outside: %s", fault)
	}
	e.Trials = nil
	e.Arrived, e.ArrivedFrom = ago(time.Minute), "203.0.113.60:4500"
	require.Equal(t, "nothing-arrives", Find(e)[0].Code)
	e.Past = []Past{{Since: ago(time.Minute), Until: ago(59 * time.Second), Why: reason.Of(reason.PeerEnded, nil)}}
	e.Journal = []Line{{At: ago(time.Minute), Kind: "login", User: e.User}}
	require.Equal(t, "unusable-at-device", Find(e)[0].Code)
	e.Past[0].In = 500
	require.NotEqual(t, "unusable-at-device", Find(e)[0].Code)
}
