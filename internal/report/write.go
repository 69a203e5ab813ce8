package report

import (
	_ "embed"
	"encoding/xml"
	"fmt"
	"html/template"
	"io"
	"strings"
	"time"

	"yellowlantern/internal/core/reach"
)

//go:embed page.html
var pageText string

var page = template.Must(template.New("page").Funcs(template.FuncMap{
	"clock": func(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05 UTC") },
	"join":  strings.Join,
	"holds": func(r reach.Result) bool { return r.Outcome == reach.Holds },
}).Parse(pageText))

// HTML writes one page that stands by itself and can be printed.
func (r *Report) HTML(w io.Writer) error { return page.Execute(w, r) }

type suite struct {
	Name     string `xml:"name,attr"`
	Tests    int    `xml:"tests,attr"`
	Failures int    `xml:"failures,attr"`
	Cases    []testcase
}

type testcase struct {
	XMLName xml.Name `xml:"testcase"`
	Class   string   `xml:"classname,attr"`
	Name    string   `xml:"name,attr"`
	Failure *failure `xml:"failure,omitempty"`
}

type failure struct {
	Message string `xml:"message,attr"`
	Text    string `xml:",chardata"`
}

func (s *suite) add(class, name, wrong, text string) {
	c := testcase{Class: class, Name: name}
	if wrong != "" {
		s.Failures++
		c.Failure = &failure{wrong, text}
	}
	s.Tests++
	s.Cases = append(s.Cases, c)
}

// JUnit writes the report as pipelines read test results: a suite of findings, one of the proof, and one for each class that was tried.
func (r *Report) JUnit(w io.Writer) error {
	findings := suite{Name: "findings"}
	for _, f := range r.Findings {
		wrong := ""
		if f.Severity == "stop" {
			wrong = f.Problem
		}
		findings.add("findings", f.ID(), wrong, f.Fix)
	}
	proof := suite{Name: "proof"}
	for _, p := range r.Proof {
		wrong, text := "", ""
		if p.Outcome != reach.Holds {
			wrong = p.Words
			if p.Example != nil {
				text = p.Example.Fix
			}
		}
		proof.add("proof."+p.Class, p.Expectation, wrong, text)
	}
	suites := []suite{findings, proof}
	for _, t := range r.Trials {
		s := suite{Name: "trial of " + t.Class + " from " + t.Vantage}
		wrong := ""
		if !t.Connected && !t.Barred {
			wrong = t.Login
		}
		s.add("trial."+t.Class, "login of "+t.Who(), wrong, "")
		for _, c := range t.Checks {
			wrong := ""
			if !c.OK {
				wrong = c.Words
			}
			s.add("trial."+t.Class, c.Name, wrong, "")
		}
		for _, x := range t.Results {
			wrong := ""
			if !x.OK {
				wrong = x.Words
			}
			what := x.Expectation
			if x.Edge {
				what = "boundary"
			}
			s.add("trial."+t.Class, fmt.Sprintf("%s: %s at %s (%s)", what, x.Service, x.Place, x.Dst), wrong, x.Likely)
		}
		suites = append(suites, s)
	}
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	enc := xml.NewEncoder(w)
	enc.Indent("", "  ")
	return enc.Encode(struct {
		XMLName xml.Name `xml:"testsuites"`
		Name    string   `xml:"name,attr"`
		Suites  []suite  `xml:"testsuite"`
	}{Name: fmt.Sprintf("%s, revision %d", r.Site, r.Revision), Suites: suites})
}
