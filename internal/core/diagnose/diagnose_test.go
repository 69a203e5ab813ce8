package diagnose

import (
	"net/netip"
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
		"from inside nothing is known of the way in": {"nothing-arrives", func(t *testing.T) Evidence {
			e := evidence(t, CannotConnect)
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
