// Package check makes findings on a plan: what will not work, what is risky, what could be better, each with the
// setting, what will happen to whom, and the change that mends it. There is one file for each family. Findings look at the plan, the people
// and the certificates that are handed in, and at computed reach; they never look at the world.
package check

import (
	"cmp"
	"crypto/x509"
	"fmt"
	"slices"
	"strings"
	"time"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/site"
)

// Severity of a finding.
type Severity string

// Severities: a plan with a stop is refused; a warning wants a word of acceptance; a note is advice.
const (
	Stop Severity = "stop"
	Warn Severity = "warn"
	Note Severity = "note"
)

// Finding is one thing found.
type Finding struct {
	Code     string   `json:"code" doc:"What kind of finding it is."`
	Severity Severity `json:"severity" enum:"stop,warn,note"`
	Path     string   `json:"path" doc:"The setting."`
	Line     int      `json:"line"`
	Column   int      `json:"column"`
	Problem  string   `json:"problem" doc:"What is wrong, and what happens to whom."`
	Fix      string   `json:"fix" doc:"The change that mends it."`
	// Mend is the fix as edits that can be applied to the document; none where it wants a decision.
	Mend []plan.Edit `json:"mend,omitempty" nullable:"false" doc:"The fix as edits, where it wants no decision."`
}

// ID names a finding for acceptance: kind and place.
func (f Finding) ID() string { return f.Code + "@" + f.Path }

// Input is what findings are made on.
type Input struct {
	Doc          *plan.Document
	People       []reach.Person
	Certificates map[string]*x509.Certificate // by name
	Now          time.Time
}

// checker collects findings.
type checker struct {
	Input
	p       *plan.Plan
	n       *plan.Names
	m       *site.Model // of the first gateway; nil if there is none
	comp    *reach.Computer
	classes []reach.Class
	reaches []reach.Reach
	// Joined over all sources, by class.
	enforced, full []netset.Traffic
	found          []Finding
}

// Run makes all findings, stops first, each severity in the order of the document.
func Run(in Input) []Finding {
	c := &checker{Input: in, p: &in.Doc.Plan}
	c.n = plan.Index(c.p)
	if len(c.p.Gateways) > 0 {
		c.m, _ = site.Compile(c.p, c.p.Gateways[0].Name)
		c.comp = reach.NewComputer(c.m)
		c.classes = reach.Classes(c.m, c.People)
		for _, class := range c.classes {
			r := c.comp.Of(class.Class)
			c.reaches = append(c.reaches, r)
			c.enforced = append(c.enforced, reach.Everywhere(r.Enforced))
			c.full = append(c.full, reach.Everywhere(r.Full))
		}
	}
	for _, family := range []func(){c.references, c.site, c.trust, c.tunnels, c.people, c.addresses, c.names, c.routes, c.translations, c.rules, c.expectations} {
		family()
	}
	rank := map[Severity]int{Stop: 0, Warn: 1, Note: 2}
	slices.SortStableFunc(c.found, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(rank[a.Severity], rank[b.Severity]), cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column))
	})
	if c.found == nil {
		return []Finding{}
	}
	return c.found
}

func (c *checker) add(s Severity, code, path, fix, problem string, args ...any) {
	at := c.Doc.Place(path)
	c.found = append(c.found, Finding{code, s, path, at.Line, at.Column, fmt.Sprintf(problem, args...), fix, nil})
}

// mend gives the last finding the edits that mend it.
func (c *checker) mend(op, path, value string) {
	last := &c.found[len(c.found)-1]
	last.Mend = append(last.Mend, plan.Edit{Op: op, Path: path, Value: value})
}

// Count tells how many findings there are of a severity.
func Count(fs []Finding, s Severity) (n int) {
	for _, f := range fs {
		if f.Severity == s {
			n++
		}
	}
	return n
}

func quoted(list []string) string { return strings.Join(list, ", ") }

func at(base string, i int) string { return fmt.Sprintf("%s/%d", base, i) }

// typicalHomes are the networks that home routers come with.
var typicalHomes = mustPrefixes("192.168.0.0/24", "192.168.1.0/24", "192.168.2.0/24", "192.168.178.0/24", "10.0.0.0/24", "10.0.1.0/24", "172.16.0.0/24")

func mustPrefixes(texts ...string) netset.Addrs {
	var out netset.Addrs
	for _, t := range texts {
		a, ok := plan.Index(&plan.Plan{}).Destination(t)
		if !ok {
			panic(t)
		}
		out = out.Union(a)
	}
	return out
}
