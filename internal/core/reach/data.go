package reach

import (
	"yellowlantern/internal/core/netset"
)

// Set is a piece of traffic as data: everything of it gets through, and nothing is left out or shortened.
type Set struct {
	People   []string `json:"people,omitempty" nullable:"false" doc:"Leased addresses, as addresses, prefixes and ranges FIRST-LAST; none: it was joined from every address of the pool."`
	Peers    []string `json:"peers" nullable:"false" doc:"The other ends: destinations, or, of what is opened from inside, where it begins."`
	Services []string `json:"services" nullable:"false" doc:"Such as any, tcp, tcp/443, udp/6000-6010, icmp/echo, proto/47."`
}

// Sides is one direction of the reach of a class, as data.
type Sides struct {
	Full     []Set `json:"full" nullable:"false" doc:"Gets through at every hour, and its answer comes back, from those addresses."`
	Enforced []Set `json:"enforced" nullable:"false" doc:"The gateway lets it through at some hour."`
	Excess   []Set `json:"excess" nullable:"false" doc:"Of what is enforced, what no expectation asks for."`
}

// Data is the reach of one class as data.
type Data struct {
	Class   string   `json:"class"`
	Users   []string `json:"users" nullable:"false"`
	Passage string   `json:"passage" doc:"Empty: nobody of them is admitted."`
	Outward Sides    `json:"outward" doc:"What they open."`
	Inward  Sides    `json:"inward" doc:"What is opened from inside towards their devices."`
}

// Data gives the reach of a class as data, of destinations among to.
func (k *Known) Data(class int, to netset.Addrs) Data {
	c := k.Classes[class]
	d := Data{Class: c.Name(), Users: c.Users, Passage: passageName(c.Class)}
	among := expectations(k.Model.Plan, k.among[class])
	for _, inward := range []bool{false, true} {
		j := judge{k.Model, c.Class, k.Reaches[class], inward, among}
		excess := Everywhere(j.enforced()).Subtract(askedFor(k.Model, among, c, inward))
		sides := Sides{partSets(j.full(), to), partSets(j.enforced(), to), SetsOf(excess, to)}
		if inward {
			d.Inward = sides
		} else {
			d.Outward = sides
		}
	}
	return d
}

func partSets(parts []Part, to netset.Addrs) []Set {
	out := []Set{}
	for _, p := range parts {
		for _, s := range SetsOf(p.Traffic, to) {
			s.People = p.Src.Words()
			out = append(out, s)
		}
	}
	return out
}

// SetsOf gives traffic as data, of destinations among to.
func SetsOf(t netset.Traffic, to netset.Addrs) []Set {
	out := []Set{}
	for _, l := range t.To(to).Lines() {
		out = append(out, Set{Peers: l.Dst.Words(), Services: l.Svc.Words()})
	}
	return out
}

// Difference is what a class gets through in one direction here and not there, by what is enforced.
func Difference(here *Known, class int, there *Known, other int, inward bool) netset.Traffic {
	now := Everywhere(judge{r: here.Reaches[class], inward: inward}.enforced())
	return now.Subtract(Everywhere(judge{r: there.Reaches[other], inward: inward}.enforced()))
}
