// Package demo carries Tern Island, the demonstration site: its plan, its people, what the site is really like, and
// mistakes in either.
package demo

import (
	"embed"
	"fmt"
	"path"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
)

//go:embed plan.yaml people.yaml site.yaml mistakes/*.yaml
var files embed.FS

// Person is somebody of Tern Island.
type Person struct {
	User   string   `yaml:"user"`
	Name   string   `yaml:"name"`
	Groups []string `yaml:"groups"`
}

// Scenario is Tern Island, with or without a mistake.
type Scenario struct {
	Plan, Site string
	People     []Person
	Mistake    *Mistake
}

// Mistake is one thing made wrong, in the plan or in the site.
type Mistake struct {
	Name   string `yaml:"-"`
	About  string `yaml:"about"`
	In     string `yaml:"in"` // plan or site
	Find   string `yaml:"find"`
	Put    string `yaml:"put"`
	Expect string `yaml:"expect"` // the finding's code, or a part of the probe's cause
}

func read(name string) string {
	b, err := files.ReadFile(name)
	if err != nil {
		panic(err) // it is part of the program
	}
	return string(b)
}

// Mistakes lists their names.
func Mistakes() []string {
	entries, err := files.ReadDir("mistakes")
	if err != nil {
		panic(err)
	}
	var out []string
	for _, e := range entries {
		out = append(out, strings.TrimSuffix(e.Name(), path.Ext(e.Name())))
	}
	return out
}

// Load gives the scenario; mistake may be empty.
func Load(mistake string) (*Scenario, error) {
	s := &Scenario{Plan: read("plan.yaml"), Site: read("site.yaml")}
	if err := yaml.Unmarshal([]byte(read("people.yaml")), &s.People); err != nil {
		return nil, err
	}
	if mistake == "" {
		return s, nil
	}
	if !slices.Contains(Mistakes(), mistake) {
		return nil, fmt.Errorf("there is no mistake %q; there are %s", mistake, strings.Join(Mistakes(), ", "))
	}
	m := &Mistake{Name: mistake}
	if err := yaml.Unmarshal([]byte(read("mistakes/"+mistake+".yaml")), m); err != nil {
		return nil, fmt.Errorf("mistake %s: %w", mistake, err)
	}
	text := &s.Plan
	if m.In == "site" {
		text = &s.Site
	}
	if strings.Count(*text, m.Find) != 1 {
		return nil, fmt.Errorf("mistake %s: what it replaces is not found exactly once", mistake)
	}
	*text = strings.Replace(*text, m.Find, m.Put, 1)
	s.Mistake = m
	return s, nil
}
