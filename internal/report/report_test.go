package report

import (
	"bytes"
	"encoding/xml"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/check"
	"yellowlantern/internal/core/reach"
)

func sample() *Report {
	return &Report{
		Site: "Tern <Island>", At: time.Date(2026, 6, 1, 9, 0, 0, 0, time.UTC), By: "admin", Revision: 3, Author: "admin", Message: `"why" & why`,
		Accepted: []Accepted{{"any-service@rules/x/services", "rule x permits every service inside", "until the <new> server is there"}},
		Findings: []check.Finding{{Code: "any-service", Severity: check.Warn, Path: "rules/x/services", Problem: "permits every service", Fix: "name them"}},
		Proof:    []reach.Result{{Expectation: "a", Class: "wardens", Users: []string{"wanda"}, Outcome: reach.Holds, Words: "reaches it"}},
		Trials: []Trials{{Class: "wardens", User: "wanda", Vantage: "home", Connected: true, Login: "logged in", Results: []Trial{
			{Expectation: "a", Place: "office", Dst: "10.20.0.20", Service: "tcp/80", Want: true, Computed: true, Seen: true, OK: true, Words: "the page"},
		}}},
	}
}

// One thing that is not as it should be changes the verdict, and is a failure in what a pipeline reads.
func TestVerdictAndFormats(t *testing.T) {
	cases := map[string]struct {
		change   func(*Report)
		ok       bool
		verdict  string
		failures int
	}{
		"all is well":      {func(*Report) {}, true, "as tried over real tunnels by every class", 0},
		"nothing tried":    {func(r *Report) { r.Trials = nil }, true, "Nothing was tried", 0},
		"somebody untried": {func(r *Report) { r.Untried = []string{"volunteers"} }, true, "not tried yet", 0},
		"a stop":           {func(r *Report) { r.Findings[0].Severity = check.Stop }, false, "Findings stop", 1},
		"not proved": {func(r *Report) {
			r.Proof[0].Outcome = reach.InPart
			r.Proof[0].Example = &reach.Example{Fix: "add a rule"}
		}, false, "as computed", 1},
		"trial differs": {func(r *Report) { r.Trials[0].Results[0].OK, r.Trials[0].Results[0].Seen = false, false }, false, "what the plan says of the site is not true", 1},
		"boundary": {func(r *Report) {
			r.Trials[0].Results = append(r.Trials[0].Results, Trial{Edge: true, Computed: true, OK: false, Words: "prohibited"})
		}, false, "not true", 1},
		"boundary fine": {func(r *Report) {
			r.Trials[0].Results = append(r.Trials[0].Results, Trial{Edge: true, Computed: true, OK: true})
		}, true, "every class", 0},
		"a check": {func(r *Report) { r.Trials[0].Checks = []Check{{"largest packet", false, "1338"}} }, false, "not from every place", 1},
		"a hiding home": {func(r *Report) {
			x := &r.Trials[0].Results[0]
			x.OK, x.Seen, x.Computed = false, false, false
		}, false, "not from every place", 1},
		"kept out": {func(r *Report) { r.Trials[0].Connected, r.Trials[0].Barred = false, true }, true, "every class", 0},
		"no login": {func(r *Report) { r.Trials[0].Connected = false }, false, "somebody who should come in does not", 1},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			r := sample()
			c.change(r)
			r.Judge()
			require.Equal(t, c.ok, r.OK)
			require.Contains(t, r.Verdict, c.verdict)
			var page, junit bytes.Buffer
			require.NoError(t, r.HTML(&page))
			require.Contains(t, page.String(), "Tern &lt;Island&gt;", "what people wrote is text, never markup")
			require.Contains(t, page.String(), "until the &lt;new&gt; server is there")
			require.NotContains(t, page.String(), "http", "the page stands by itself")
			require.NoError(t, r.JUnit(&junit))
			var read struct {
				Suites []struct {
					Tests    int `xml:"tests,attr"`
					Failures int `xml:"failures,attr"`
					Cases    []struct {
						Failure *struct{} `xml:"failure"`
					} `xml:"testcase"`
				} `xml:"testsuite"`
			}
			require.NoError(t, xml.Unmarshal(junit.Bytes(), &read))
			failures := 0
			for _, s := range read.Suites {
				require.Len(t, s.Cases, s.Tests)
				failed := 0
				for _, x := range s.Cases {
					if x.Failure != nil {
						failed++
					}
				}
				require.Equal(t, s.Failures, failed)
				failures += failed
			}
			require.Equal(t, c.failures, failures)
		})
	}
}
