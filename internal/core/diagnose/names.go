package diagnose

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/site"
)

// names looks at whether the name servers are given, can be asked, and know the names.
func (f *finder) names() {
	if !f.admitted() {
		return
	}
	p := f.Class.Passage
	dns := "passages/" + p.Name + "/dns"
	if len(p.DNS.Servers) == 0 {
		f.add(Cause{
			Code: "no-name-server", Sure: 95, Words: "people of passage " + p.Name + " are given no name server", Setting: dns,
			Fix: "name the inside name server under servers",
		}, "the plan")
		return
	}
	inside := false
	for i, s := range p.DNS.Servers {
		if !f.Model.Names.InsideAddrs().Contains(s) {
			continue
		}
		inside = true
		ask := site.Packet{Dst: s, Service: netset.PortPoint(netset.UDP, 53)}
		leased := netset.Addrs{}
		for _, span := range p.Pool {
			if span.From.Is4() == s.Is4() {
				ask.Src, leased = span.From, netset.OfAddrs(span.From)
				break
			}
		}
		j := f.Model.Travel(f.Class, ask, leased, site.At(f.Now))
		lost := j.LostAt()
		if lost == nil {
			continue
		}
		code := "name-server-" + map[bool]string{true: "not-routed", false: "not-reached"}[lost.Station == site.Device]
		if lost.Station == site.Rules {
			code = "name-server-not-permitted"
		}
		f.add(Cause{
			Code: code, Sure: 95, Words: fmt.Sprintf("name server %s cannot be asked: %s", s, lost.Words), Setting: cmp.Or(lost.Setting, fmt.Sprintf("%s/servers/%d", dns, i)),
			Fix: reach.Fix(f.Model, f.Class, ask, lost.Station, lost.Setting, true, false), Mend: reach.Mend(f.Model, f.Class, ask, lost.Station, lost.Setting, false),
		}, "computed: a question to it is lost at station "+lost.Station)
	}
	known := slices.ContainsFunc(f.Model.Plan.Hosts, func(h hostOf) bool { return h.DNS != "" })
	if !inside && known {
		f.add(Cause{
			Code: "public-name-servers", Sure: 90,
			Words: "people of passage " + p.Name + " are given public name servers only, which do not know the inside names", Setting: dns + "/servers", Fix: "name the inside name server first",
		}, "the plan")
	}
	if f.Complaint == NamesFail && f.Name != "" && !strings.Contains(f.Name, ".") && len(p.DNS.Search) == 0 {
		f.add(Cause{
			Code: "no-search-domain", Sure: 93,
			Words: "short names such as " + f.Name + " need a search domain, and passage " + p.Name + " gives none", Setting: dns + "/search", Fix: "add the site's domain under search",
		}, "the plan")
	}
	for _, t := range f.Trials {
		for _, x := range t.Results {
			if x.Want && t.Connected && x.Saw.Among(nameFailures...) &&
				(f.Packet == nil || f.Complaint != NamesFail || x.Dst == f.Packet.Dst) {
				f.name(x, fmt.Sprintf("a trial from %s: %s", t.Vantage, x.Saw.Words()))
			}
		}
		f.silentServer(t)
	}
}

// nameFailures are what trials see where a name does not lead to its host.
var nameFailures = []reason.Code{reason.NameUnresolved, reason.NameServerSilent, reason.NameUnknown, reason.NameElsewhere}

// silentServer finds a name server that is let through to, and does not answer.
func (f *finder) silentServer(t Trial) {
	for _, x := range t.Results {
		if x.Want && t.Connected && x.Service == "udp/53" && !x.Reached && slices.Contains(f.Class.Passage.DNS.Servers, x.Dst) {
			f.add(f.serverDown(x.Dst.String()), fmt.Sprintf("a trial from %s, %s by udp/53: %s", t.Vantage, x.Place, x.Saw.Words()))
		}
	}
}

func (f *finder) serverDown(server string) Cause {
	return Cause{
		Code: "name-server-down", Sure: 92, Words: "name server " + server + " does not answer, though everything lets the question through", Setting: f.settingOf("PASSAGE/dns"),
		Fix: "look at the name server: is its service running, and does it take questions from the pool's addresses?",
	}
}

// name says what a failed look-up tells.
func (f *finder) name(x Result, at string) {
	host := "hosts/" + x.Place + "/dns"
	switch x.Saw.Code {
	case reason.NameServerSilent:
		f.add(f.serverDown(x.Saw.With[reason.Address]), at)
	case reason.NameUnknown:
		f.add(Cause{
			Code: "name-not-known", Sure: 91, Words: "the name server does not know " + x.Name, Setting: host,
			Fix: "add the name at the name server, or correct it in the plan",
		}, at)
	case reason.NameElsewhere:
		f.add(Cause{
			Code: "name-leads-to-old-address", Sure: 92,
			Words: fmt.Sprintf("the name server gives another address for %s than the plan has", x.Name), Setting: host, Fix: "correct the record at the name server, or the host's address in the plan",
		}, at)
	}
}
