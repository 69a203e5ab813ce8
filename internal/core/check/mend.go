package check

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/site"
)

// quote writes a value so that YAML reads it as text: what has a colon in it needs quotes.
func quote(v any) string {
	text := fmt.Sprint(v)
	if strings.Contains(text, ":") {
		return strconv.Quote(text)
	}
	return text
}

// freeRule is a name for a new rule that no rule has, freeNAT one for an exemption or translation.
func (c *checker) freeRule(name string) string {
	return freeName(name, func(n string) bool {
		return slices.ContainsFunc(c.p.Rules, func(r plan.Rule) bool { return r.Name == n })
	})
}

func (c *checker) freeNAT(name string) string {
	return freeName(name, func(n string) bool {
		return slices.ContainsFunc(c.p.NAT, func(t plan.Translation) bool { return t.Name == n })
	})
}

func freeName(name string, taken func(string) bool) string {
	name = name[:min(len(name), 50)]
	try := name
	for i := 2; taken(try); i++ {
		try = fmt.Sprintf("%s-%d", name, i)
	}
	return try
}

// mendExpectation mends what an expectation misses where one edit does it and nobody else is concerned: a permission for
// just the people, places and services that are missing, or a split route.
func (c *checker) mendExpectation(r reach.Result) {
	if r.Example == nil || r.Must != plan.Reach {
		return
	}
	class := c.classes[c.classAt(r.Class)]
	e := c.p.Expectations[slices.IndexFunc(c.p.Expectations, func(e plan.Expectation) bool { return e.Name == r.Expectation })]
	switch {
	case r.Example.Station == site.Rules && r.Example.Setting == "rules" && len(e.Peers()) > 0:
		groups := e.Groups
		if len(groups) == 0 && !e.Everyone {
			groups = class.Groups
		}
		rule := fmt.Sprintf("{name: %s, action: permit, ", c.freeRule(e.Name))
		if len(groups) > 0 {
			rule += "groups: [" + quoted(groups) + "], "
		}
		way := "to"
		if e.Inward() {
			way = "from"
		}
		c.mend("add", "rules", rule+fmt.Sprintf("%s: [%s], services: [%s]}", way, quotedAll(e.Peers()), quoted(e.Services)))
	case r.Example.Station == site.Device && strings.HasSuffix(r.Example.Setting, "/routes") &&
		strings.HasPrefix(r.Example.Setting, "passages/") && class.Passage != nil:
		peer := r.Example.Dst
		if e.Inward() {
			peer = r.Example.Src
		}
		if dst, err := netip.ParseAddr(peer); err == nil {
			c.mend("add", r.Example.Setting+"/split", quote(c.nameOf(dst)))
		}
	}
}

// classAt finds a class by its name.
func (c *checker) classAt(name string) int {
	if c.byName == nil {
		c.byName = make(map[string]int, len(c.classes))
		for i, x := range c.classes {
			c.byName[x.Name()] = i
		}
	}
	return c.byName[name]
}

func quotedAll(list []string) string {
	out := make([]string, len(list))
	for i, w := range list {
		out[i] = quote(w)
	}
	return strings.Join(out, ", ")
}
