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
	"yellowlantern/internal/core/outline"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/seen"
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
	Step string      `json:"step" doc:"The step of the work in which that is settled."`
	Do   *Todo       `json:"do,omitempty" doc:"What is to be done elsewhere than in the plan."`
}

// What a finding may ask to be done elsewhere than in the plan.
const (
	AddPerson       = "add-person"
	MakeCertificate = "make-certificate"
	KeepSecret      = "keep-secret"
)

// Todo is something to be done elsewhere than in the plan.
type Todo struct {
	What string   `json:"what" enum:"add-person,make-certificate,keep-secret"`
	Name string   `json:"name" doc:"Of the group, certificate or secret."`
	For  []string `json:"for,omitempty" nullable:"false" doc:"The names that a certificate is to hold."`
}

// ID names a finding for acceptance: kind and place.
func (f Finding) ID() string { return f.Code + "@" + f.Path }

// key is by what two findings are the same.
func (f Finding) key() string { return f.ID() + " " + f.Problem }

// Input is what findings are made on.
type Input struct {
	Doc          *plan.Document
	People       []reach.Person
	Certificates map[string]*x509.Certificate // by name
	// Authority signs what it signed; a certificate by nobody that devices are told of is warned about. Nil: not looked at.
	Authority *x509.Certificate
	// Secrets are the names of keys that are kept; nil: not looked at. Administrators are the console's.
	Secrets map[string]bool
	// Outside is what a mirror elsewhere saw last; nil: none was asked.
	Outside        *seen.Evidence
	Administrators []Administrator
	// KnowsZone tells whether a time zone exists; nil: not looked at.
	KnowsZone func(name string) bool
	Now       time.Time
	// Known is what is computed of this plan; nil: it is computed now.
	Known *reach.Known
}

// Administrator is one of the console's.
type Administrator struct {
	Name, Role string
	Source     string // whose they are; empty: the service's own
}

// checker collects findings.
type checker struct {
	Input
	p       *plan.Plan        // settled
	taken   map[string]string // settings that are defaults
	n       *plan.Names
	m       *site.Model // of the first gateway; nil if there is none
	known   *reach.Known
	classes []reach.Class
	byName  map[string]int // of classes; made when it is asked for
	reaches []reach.Reach
	// Joined over all sources, by class.
	enforced, full []netset.Traffic
	found          []Finding
	told           map[string]bool // what was found already
	again          bool            // the last finding was found already
}

// follow are findings of what comes of other mistakes: whoever mends those is often rid of these.
var follow = map[string]bool{"expectation-fails": true, "no-way-back": true, "reaches-nothing": true}

// families are the checks, causes before what follows from them. No one looks at what another found.
var families = []func(*checker){
	(*checker).references, (*checker).site, (*checker).seenOutside, (*checker).hours, (*checker).trust, (*checker).authorities,
	(*checker).sources, (*checker).equipment, (*checker).tunnels, (*checker).platforms, (*checker).people, (*checker).factors, (*checker).mail,
	(*checker).administrators, (*checker).limits, (*checker).addresses, (*checker).names, (*checker).routes, (*checker).translations,
	(*checker).rules, (*checker).expectations,
}

// Work is findings being made, family by family: steps that may be done several at once.
type Work struct {
	base  checker
	found [][]Finding // by family
}

// Begin prepares making all findings.
func Begin(in Input) *Work {
	w := &Work{base: checker{Input: in, known: in.Known}, found: make([][]Finding, len(families))}
	c := &w.base
	c.p, c.taken = in.Doc.Plan.Settle()
	c.n = plan.Index(c.p)
	if len(c.p.Gateways) > 0 && c.known == nil {
		if m, err := site.Compile(&in.Doc.Plan, c.p.Gateways[0].Name); err == nil {
			c.known = reach.Compute(m, c.People)
		}
	}
	if c.known != nil {
		c.m, c.classes, c.reaches = c.known.Model, c.known.Classes, c.known.Reaches
		for _, r := range c.reaches {
			c.enforced = append(c.enforced, reach.Everywhere(r.Enforced))
			c.full = append(c.full, reach.Everywhere(r.Full))
		}
	}
	return w
}

// Steps is one for each family.
func (w *Work) Steps() int { return len(families) }

// Do makes the findings of one family; each once.
func (w *Work) Do(i int) {
	c := w.base
	c.told = map[string]bool{}
	families[i](&c)
	w.found[i] = c.found
}

// Findings is the outcome, once every step is done: stops first, causes before what follows from them, each in the order of the document.
func (w *Work) Findings() []Finding {
	out, told := []Finding{}, map[string]bool{}
	for _, found := range w.found {
		for _, f := range found {
			if !told[f.key()] {
				told[f.key()] = true
				out = append(out, f)
			}
		}
	}
	rank := map[Severity]int{Stop: 0, Warn: 1, Note: 2}
	slices.SortStableFunc(out, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(rank[a.Severity], rank[b.Severity]), compareBool(follow[a.Code], follow[b.Code]),
			cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column))
	})
	return out
}

// Run makes all findings, one family after the other.
func Run(in Input) []Finding {
	w := Begin(in)
	for i := range w.Steps() {
		w.Do(i)
	}
	return w.Findings()
}

// todo says of the last finding what is to be done elsewhere.
func (c *checker) todo(what, name string, dial ...string) {
	if !c.again {
		c.found[len(c.found)-1].Do = &Todo{what, name, dial}
	}
}

func compareBool(a, b bool) int {
	switch {
	case a == b:
		return 0
	case b:
		return -1
	}
	return 1
}

func (c *checker) add(s Severity, code, path, fix, problem string, args ...any) {
	path = plan.OriginOf(c.taken, path)
	at := c.Doc.Place(path)
	f := Finding{code, s, path, at.Line, at.Column, fmt.Sprintf(problem, args...), fix, nil, outline.StepOf(path), nil}
	if c.again = c.told[f.key()]; !c.again { // several passages may take the same default
		c.told[f.key()] = true
		c.found = append(c.found, f)
	}
}

// mend gives the last finding the edits that mend it.
func (c *checker) mend(op, path, value string) {
	if c.again {
		return
	}
	last := &c.found[len(c.found)-1]
	last.Mend = append(last.Mend, plan.Edit{Op: op, Path: plan.OriginOf(c.taken, path), Value: value})
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

// few lists the first of many names.
func few(list []string) string {
	if len(list) > 8 {
		return fmt.Sprintf("%s and %d more", quoted(list[:8]), len(list)-8)
	}
	return quoted(list)
}

func at(base string, i int) string { return fmt.Sprintf("%s/%d", base, i) }

// typicalHomes are the networks that home routers come with.
var typicalHomes = mustPrefixes("192.168.0.0/24", "192.168.1.0/24", "192.168.2.0/24", "192.168.178.0/24", "10.0.0.0/24", "10.0.1.0/24",
	"172.16.0.0/24")

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
