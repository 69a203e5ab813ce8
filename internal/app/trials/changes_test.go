package trials

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/probe"
)

// What a round sees otherwise than the one before is told by what was expected; what breaks an expectation that held is what a trial
// goes back for.
func TestChangesBetweenRounds(t *testing.T) {
	report := func(connected bool, reached ...bool) probe.Report {
		p := probe.Report{Class: "researchers", Vantage: "home", Connected: connected, Login: "UDP 500 is not answered"}
		for i, want := range []bool{true, false} {
			x := probe.Result{
				Trial: reach.Trial{Expectation: []string{"read", "keep-out"}[i], Want: want, Dst: netip.MustParseAddr("10.20.30.5"), Place: "records", Service: []string{"tcp/80", "tcp/22"}[i]},
				Seen:  probe.Seen{Reached: reached[i], Served: reached[i], Words: "seen"}, OK: connected && want == reached[i] || !connected && !want,
			}
			p.Results = append(p.Results, x)
		}
		return p
	}
	fine := report(true, true, false)
	gone := probe.Report{Class: "researchers", Vantage: "home", NotTried: true, Login: "not tried: probe home is not connected"}
	unjudged := report(true, false, false)
	unjudged.Results[0].Seen.Reason, unjudged.Results[0].Untried = reason.Of(reason.Unconfirmed, nil), true
	for _, c := range []struct {
		name          string
		before, after probe.Report
		tells, breaks string
	}{
		{"the same", fine, fine, "", ""},
		{"a loss", fine, report(true, false, false), "researchers no longer reach records by tcp/80 from home: seen", "read for researchers from home (records by tcp/80: seen)"},
		{"back again", report(true, false, false), fine, "researchers reach records by tcp/80 from home again", ""},
		{"a breach", fine, report(true, true, true), "researchers reach records by tcp/22 from home, which they must not: seen", "keep-out for researchers from home (records by tcp/22: seen)"},
		{"failed before", report(true, false, false), report(true, false, false), "", ""},
		{"the vantage is gone", fine, gone, "", "nothing is known of researchers from home (not tried: probe home is not connected)"},
		{"the vantage was gone", gone, gone, "", ""},
		{"not judged", fine, unjudged, "", "read for researchers from home (records by tcp/80: seen)"},
		{"shut out", fine, report(false, false, false), "researchers no longer get in from home: UDP 500 is not answered", "read for researchers from home (records by tcp/80: UDP 500 is not answered)"},
	} {
		t.Run(c.name, func(t *testing.T) {
			told, broken := changesOf(c.after, seenBy(c.before)), Broken([]probe.Report{c.before}, []probe.Report{c.after})
			if c.tells == "" {
				require.Empty(t, told)
			} else {
				require.Equal(t, []string{c.tells}, told)
			}
			if c.breaks == "" {
				require.Empty(t, broken)
			} else {
				require.Equal(t, []string{c.breaks}, broken)
			}
			require.Empty(t, changesOf(c.after, nil), "nothing to compare with")
		})
	}
}
