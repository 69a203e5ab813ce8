package outline

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"yellowlantern/internal/core/foreign"
	"yellowlantern/internal/core/plan"
)

// List is the objects of one kind, with the columns that matter for it.
type List struct {
	Kind    string   `json:"kind"`
	Columns []string `json:"columns" nullable:"false" doc:"Titles, after the object's own name."`
	Rows    []Row    `json:"rows" nullable:"false" doc:"In the document's order."`
}

// Row is one object.
type Row struct {
	Name  string   `json:"name"`
	Off   bool     `json:"off,omitempty" doc:"It is kept without being in effect."`
	Cells []string `json:"cells" nullable:"false" doc:"One for each column."`
}

// Outline is a plan laid out.
type Outline struct {
	Lists   []List  `json:"lists" nullable:"false" doc:"Its objects by kind, with the columns that matter."`
	Picture Picture `json:"picture" doc:"What is to be drawn of the site."`
}

// Of lays a plan out.
func Of(p *plan.Plan) Outline {
	settled, _ := p.Settle()
	n := plan.Index(settled)
	return Outline{lists(p, settled, n), draw(p, settled, n)}
}

// lists gives the lists of all kinds in the document's order. Passages are told with what they take from their gateway's defaults.
func lists(p, settled *plan.Plan, n *plan.Names) []List {
	var out []List
	add := func(kind string, columns ...string) *List {
		out = append(out, List{Kind: kind, Columns: columns, Rows: []Row{}})
		return &out[len(out)-1]
	}
	l := add("gateways", "people dial", "outside", "inside", "forwards to the internet")
	for _, g := range p.Gateways {
		var in []string
		for _, a := range g.Inside {
			in = append(in, a.Network+" "+addresses(a.Addresses))
		}
		l.row(g.Name, false, g.Dial, addresses(g.Outside.Addresses), strings.Join(in, ", "), yes(g.Internet))
	}
	l = add("zones", "networks", "note")
	for _, z := range p.Zones {
		var in []string
		for _, x := range p.Networks {
			if x.Zone == z.Name {
				in = append(in, x.Name)
			}
		}
		l.row(z.Name, false, strings.Join(in, ", "), z.Note)
	}
	l = add("networks", "prefixes", "router", "zone", "site")
	for _, x := range p.Networks {
		l.row(x.Name, false, prefixes(x.Prefixes), x.Router, x.Zone, x.Site)
	}
	l = add("routers", "addresses", "routes")
	for _, r := range p.Routers {
		var to []string
		for _, x := range r.Routes {
			to = append(to, fmt.Sprintf("%s by %s", x.To, x.Via))
		}
		l.row(r.Name, false, addresses(r.Addresses), strings.Join(to, ", "))
	}
	l = add("hosts", "addresses", "network", "name in the DNS")
	for i := range p.Hosts {
		h := &p.Hosts[i]
		home := ""
		if at := n.NetworkOf(h.First()); at != nil {
			home = at.Name
		}
		l.row(h.Name, false, addressesAndRanges(h.Addresses, h.Ranges), home, h.DNS)
	}
	l = add("host-groups", "members")
	for _, g := range p.HostGroups {
		l.row(g.Name, false, strings.Join(g.Members, ", "))
	}
	l = add("services", "ports", "includes")
	for _, s := range p.Services {
		l.row(s.Name, false, strings.Join(s.Ports, ", "), strings.Join(s.Includes, ", "))
	}
	l = add("hours", "days", "from", "to")
	for _, h := range p.Hours {
		l.row(h.Name, false, or(strings.Join(h.Days, ", "), "every day"), text(h.From), text(h.To))
	}
	l = add("groups", "comes in by", "note")
	for _, g := range p.Groups {
		by := ""
		for _, x := range p.Passages {
			if by == "" && !x.Off && slices.Contains(x.Groups, g.Name) {
				by = x.Name
			}
		}
		l.row(g.Name, false, or(by, "no passage"), g.Note)
	}
	l = add("sources", "kind", "servers", "looked up", "groups")
	for i := range p.Sources {
		x := &p.Sources[i]
		looked, groups := "by their own login alone", "of the same name"
		if account := x.LDAP().Account; account != "" {
			looked = "as " + account
		}
		if n := len(x.Groups); n > 0 {
			groups = strconv.Itoa(n) + " named"
		}
		l.row(x.Name, x.Off, x.Kind, strings.Join(x.Servers, ", "), looked, groups)
	}
	l = add("equipment", "asks from", "lets in", "by", "shares")
	for i := range p.Equipment {
		x := &p.Equipment[i]
		l.row(x.Name, x.Off, prefixesAndRanges(x.Addresses, nil), strings.Join(x.Groups, ", "), strings.Join(x.Ways(), ", "), x.Secret)
	}
	l = add("administrators", "of source", "in groups", "as")
	for _, x := range p.Administrators {
		l.row(x.Name, x.Off, x.Source, strings.Join(x.Groups, ", "), x.Role)
	}
	l = add("pools", "leased from", "addresses", "carved from", "kept for")
	for i := range p.Pools {
		x := &p.Pools[i]
		var kept []string
		for _, r := range x.Reserved {
			kept = append(kept, r.User)
		}
		l.row(x.Name, false, prefixesAndRanges(x.Prefixes, x.Ranges), size(x), x.CarvedFrom, strings.Join(kept, ", "))
	}
	l = add("authorities", "holds", "until", "name from", "revocation", "when unknown")
	for _, a := range p.Authorities {
		holds, until := "cannot be read", ""
		if read, err := foreign.Read(a); err == nil {
			holds, until = read.Certificates[0].Subject.String(), read.Ends().Format("2006-01-02")
		}
		name := a.NameFrom()
		if a.Domain != "" {
			name += " @" + a.Domain
		}
		l.row(a.Name, false, holds, until, name, a.FoundOut(), or(a.Unknown, plan.UnknownRefuse))
	}
	l = add("tunnels", "kind", "login", "asked for as", "algorithms", "over TCP")
	for i := range p.Tunnels {
		t := &p.Tunnels[i]
		dial, tcp := "", ""
		if g := n.Gateways[t.Gateway]; g != nil {
			dial = g.Dial
		}
		if port := t.IKEv2().TCPPort; port > 0 {
			tcp = fmt.Sprintf("port %d", port)
		}
		l.row(t.Name, t.Off, t.Kind, t.Login, t.IdentityOr(dial), protectedBy(t), tcp)
	}
	l = add("passages", "who", "tunnels", "addresses", "names by", "routes", "devices")
	for _, x := range settled.Passages {
		l.row(x.Name, x.Off, strings.Join(x.Groups, ", "), strings.Join(x.Tunnels, ", "), or(x.Pool, "none"), addresses(x.DNS.Servers),
			routes(x.Routes), strings.Join(x.Platforms, ", "))
	}
	l = add("nat", "does", "from", "to", "on the way out by", "becomes")
	for _, x := range p.NAT {
		becomes := ""
		if x.Action == plan.Translate {
			becomes = or(text(x.Address), "the gateway's own")
		}
		l.row(x.Name, x.Off, x.Action, or(strings.Join(x.From, ", "), plan.Any), or(strings.Join(x.To, ", "), plan.Any), or(x.Out,
			plan.Any),
			becomes)
	}
	l = add("rules", "verdict", "who", "what", "where", "hours", "logged")
	for i := range p.Rules {
		r := &p.Rules[i]
		l.row(r.Name, r.Off, r.Action, or(strings.Join(r.Groups, ", "), "everyone"), strings.Join(r.Services, ", "),
			where(r.Peers(), r.Inward()), or(r.Hours, "always"), yes(r.Log))
	}
	l = add("expectations", "must", "who", "what", "where", "by name")
	for i := range p.Expectations {
		e := &p.Expectations[i]
		who := strings.Join(append(append([]string{}, e.Groups...), e.Users...), ", ")
		if e.Everyone {
			who = "everyone"
		}
		l.row(e.Name, e.Off, e.Must, who, strings.Join(e.Services, ", "), where(e.Peers(), e.Inward()), yes(e.ByName))
	}
	return out
}

func (l *List) row(name string, off bool, cells ...string) {
	l.Rows = append(l.Rows, Row{name, off, cells})
}

func or(text, empty string) string {
	if text == "" {
		return empty
	}
	return text
}

func yes(is bool) string {
	if is {
		return "yes"
	}
	return ""
}

// where tells which way a rule or an expectation is about.
func where(peers []string, inward bool) string {
	words := strings.Join(peers, ", ")
	if inward {
		return "from " + words + " to their devices"
	}
	return words
}

func routes(r plan.Routes) string {
	if r.Full {
		return "everything"
	}
	return strings.Join(r.Split, ", ")
}

func size(p *plan.Pool) string {
	const many = 1 << 30
	n := p.Addresses().Count(many)
	if n >= many {
		return "plenty"
	}
	return strconv.Itoa(n)
}

// text writes a value that knows how; what is not set is empty.
func text(v fmt.Stringer) string {
	if a, ok := v.(netip.Addr); ok && !a.IsValid() {
		return ""
	}
	return v.String()
}

func joined[T fmt.Stringer](list []T) []string {
	out := make([]string, len(list))
	for i, v := range list {
		out[i] = v.String()
	}
	return out
}

func addresses(list []netip.Addr) string  { return strings.Join(joined(list), ", ") }
func prefixes(list []netip.Prefix) string { return strings.Join(joined(list), ", ") }

func addressesAndRanges(as []netip.Addr, rs []plan.Range) string {
	return strings.Join(append(joined(as), joined(rs)...), ", ")
}

// protectedBy says a tunnel's algorithms: the level, and what is named besides.
func protectedBy(t *plan.Tunnel) string {
	own := t.IKEv2()
	a := own.Algorithms
	if a == nil || a.Level == "" {
		return own.Set().String()
	}
	besides := slices.Concat(a.Encryption, a.Integrity, a.PRF, a.Groups)
	return strings.TrimSuffix(a.Level+", "+strings.Join(besides, ", "), ", ")
}

func prefixesAndRanges(ps []netip.Prefix, rs []plan.Range) string {
	return strings.Join(append(joined(ps), joined(rs)...), ", ")
}
