// Package report writes down what is known of a revision for somebody who was not there: findings, proof, trials, where they differ, and
// what was accepted. It is one page for people, JSON and JUnit XML for programs. What it is about is handed in.
package report

import (
	"fmt"
	"strings"
	"time"

	"yellowlantern/internal/core/check"
	"yellowlantern/internal/core/reach"
)

// Report is everything about one revision.
type Report struct {
	Site      string          `json:"site"`
	At        time.Time       `json:"at" doc:"When the report was made."`
	By        string          `json:"by" doc:"By whom."`
	Revision  int             `json:"revision"`
	Author    string          `json:"author"`
	Message   string          `json:"message"`
	Committed time.Time       `json:"committed"`
	Accepted  []Accepted      `json:"accepted" nullable:"false" doc:"Warnings that were accepted, and why."`
	Findings  []check.Finding `json:"findings" nullable:"false" doc:"Stops and warnings on it today."`
	Proof     []reach.Result  `json:"proof" nullable:"false"`
	Surplus   []reach.Surplus `json:"surplus" nullable:"false" doc:"What is reached and no expectation asks for."`
	Trials    []Trials        `json:"trials" nullable:"false" doc:"The newest probe of each class of people from each vantage."`
	Untried   []string        `json:"untried" nullable:"false" doc:"What nobody tried of this revision: classes of people, and of those who tried what they are expected to reach or not."`
	HandedIn  []Trials        `json:"handed-in" nullable:"false" doc:"Reports that somebody handed in: nothing vouches for them, and nothing here counts them."`
	Troubles  []string        `json:"troubles" nullable:"false" doc:"What does not run, or carries nothing, at the gateway itself."`
	OK        bool            `json:"ok" doc:"Nothing stops the plan, every expectation holds as computed, and every trial saw what was expected."`
	Verdict   string          `json:"verdict" doc:"In one sentence."`
	Headline  string          `json:"headline" doc:"In a few words."`
}

// Accepted is a warning that was accepted.
type Accepted struct {
	Finding string `json:"finding"`
	Problem string `json:"problem"`
	Reason  string `json:"reason"`
}

// Trials is one probe.
type Trials struct {
	Class     string    `json:"class"`
	User      string    `json:"user"`
	Vantage   string    `json:"vantage"`
	At        time.Time `json:"at"`
	Tester    bool      `json:"tester,omitempty" doc:"By an identity made for the trial."`
	By        string    `json:"handed-in-by,omitempty" doc:"Who handed it in, where it was made elsewhere."`
	Inside    bool      `json:"inside,omitempty" doc:"From the gateway's own network: no trial from outside."`
	Connected bool      `json:"connected"`
	Barred    bool      `json:"barred,omitempty" doc:"No passage admits them, and they did not get in."`
	Login     string    `json:"login"`
	Checks    []Check   `json:"checks" nullable:"false" doc:"What the device was given, and what its tunnel carries."`
	Results   []Trial   `json:"results" nullable:"false"`
}

// Check is one thing that a device is given, or that its tunnel must do.
type Check struct {
	Name  string `json:"name"`
	OK    bool   `json:"ok"`
	Words string `json:"words"`
}

// Who says by whom it was tried.
func (t Trials) Who() string {
	if t.Tester {
		return "an identity made for it"
	}
	if t.By != "" {
		return t.User + ", handed in by " + t.By
	}
	return t.User
}

// Edges counts the boundary packets.
func (t Trials) Edges() (n int) {
	for _, x := range t.Results {
		if x.Edge {
			n++
		}
	}
	return n
}

// Outcome is what a report says on the whole that somebody handed in.
func (t Trials) Outcome() string {
	if !t.Connected && !t.Barred {
		return "says that " + t.User + " did not connect: " + t.Login
	}
	missed := 0
	for _, x := range t.Results {
		if !x.OK {
			missed++
		}
	}
	return fmt.Sprintf("says that %d of %d trials saw what was expected", len(t.Results)-missed, len(t.Results))
}

// Told is what a reader wants to see: everything but boundary packets that are as computed.
func (t Trials) Told() (out []Trial) {
	for _, x := range t.Results {
		if !x.Edge || !x.OK {
			out = append(out, x)
		}
	}
	return out
}

// Trial is one thing that was tried.
type Trial struct {
	Expectation string `json:"expectation"`
	Place       string `json:"place"`
	Dst         string `json:"dst"`
	Service     string `json:"service"`
	Want        bool   `json:"want" doc:"It must be reached."`
	Computed    bool   `json:"computed" doc:"It is computed to be reached."`
	Seen        bool   `json:"seen" doc:"It was reached."`
	Edge        bool   `json:"edge,omitempty" doc:"A boundary packet: nothing is expected of it."`
	OK          bool   `json:"ok"`
	Words       string `json:"words"`
	Likely      string `json:"likely,omitempty"`
}

// Differs tells whether what was seen is not what was computed. Of a boundary packet nothing but that is expected.
func (t Trial) Differs() bool {
	if t.Edge {
		return !t.OK
	}
	return t.Seen != t.Computed
}

// Counts of a report.
type Counts struct {
	Stops, Warnings, Failed, Tried, Missed, Differ int
	Out                                            int // logins that failed and should not have, which Missed holds too
}

// Count counts what a reader looks for first.
func (r *Report) Count() (n Counts) {
	n.Stops, n.Warnings = check.Count(r.Findings, check.Stop), check.Count(r.Findings, check.Warn)
	for _, p := range r.Proof {
		if p.Outcome != reach.Holds {
			n.Failed++
		}
	}
	for _, t := range r.Trials {
		if !t.Connected && !t.Barred {
			n.Missed++
			n.Out++
		}
		for _, c := range t.Checks {
			if !c.OK {
				n.Missed++
			}
		}
		for _, x := range t.Results {
			n.Tried++
			if !x.OK {
				n.Missed++
			}
			if x.Differs() {
				n.Differ++
			}
		}
	}
	return n
}

// Judge sets the verdict.
func (r *Report) Judge() {
	n := r.Count()
	r.OK = n.Stops == 0 && n.Failed == 0 && n.Missed == 0 && len(r.Troubles) == 0
	switch {
	case !r.OK:
		r.Headline = "not as it should be"
	case len(r.Untried) > 0:
		r.Headline = fmt.Sprintf("as it should be where it was tried, %d not tried", len(r.Untried))
	default:
		r.Headline = "everything is as it should be"
	}
	switch {
	case len(r.Troubles) > 0:
		r.Verdict = upperFirst(r.Troubles[0]) + "."
	case n.Stops > 0:
		r.Verdict = "Findings stop this plan: it does not work as it is."
	case n.Failed > 0:
		r.Verdict = "The plan does not meet its expectations, as computed."
	case n.Missed > 0 && n.Tried == 0:
		r.Verdict = "Every expectation holds as computed, but nobody who tried could log in: nothing else was tried."
	case n.Missed > 0 && n.Differ == 0 && r.everybodyIn():
		r.Verdict = "Every expectation holds as computed, but not from every place that people were tried from: see there what stands in the way."
	case n.Missed > 0 && n.Differ == 0:
		r.Verdict = "Every expectation holds as computed, but somebody who should come in does not: nothing could be tried as them."
	case n.Missed > 0:
		r.Verdict = "Every expectation holds as computed, but trials saw otherwise: what the plan says of the site is not true."
	case n.Tried == 0:
		r.Verdict = "Every expectation holds as computed for all traffic. Nothing was tried on this revision yet."
	case len(r.Untried) > 0:
		r.Verdict = "Every expectation holds as computed for all traffic, and every trial saw what was expected; some of it is not tried yet."
	default:
		r.Verdict = "Every expectation holds, as computed for all traffic and as tried over real tunnels by every class of people."
	}
}

func upperFirst(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

// everybodyIn tells whether everybody got in who should.
func (r *Report) everybodyIn() bool {
	for _, t := range r.Trials {
		if !t.Connected && !t.Barred {
			return false
		}
	}
	return true
}
