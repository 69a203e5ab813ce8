package reach

import (
	"fmt"
	"strings"

	"yellowlantern/internal/core/site"
)

// Fix says the change that mends what happened to the packet at the station.
func Fix(m *site.Model, c *site.Class, p site.Packet, station, setting string, missing, inward bool) string {
	where := p.Dst.String()
	if h := m.Names.HostAt(p.Dst); h != nil {
		where = h.Name
	}
	if inward {
		return fixInward(m, c, p, station, setting, missing)
	}
	if !missing {
		return fmt.Sprintf("narrow %s, or add a rule that refuses %s to %s for %s", setting, p.Service, where, c.Name())
	}
	switch station {
	case site.Admission:
		if c.Shut != nil {
			return "switch tunnel " + m.Off(c.Shut)[0] + " on"
		}
		return fmt.Sprintf("add one of the groups %s to a passage", c.Name())
	case site.Device, site.Selectors:
		if strings.HasSuffix(setting, "/home-networks") {
			return fmt.Sprintf("route single hosts or smaller prefixes of it in place of the whole network, or renumber the inside network (%s)", setting)
		}
		if strings.HasPrefix(setting, "pools/") {
			return fmt.Sprintf("add a prefix of that family to %s", setting)
		}
		return fmt.Sprintf("add %s to %s/split", where, setting)
	case site.Source:
		return "send from the leased address"
	case site.Rules:
		if strings.HasSuffix(setting, "/hours") {
			return fmt.Sprintf("widen %s, or add a rule without hours", setting)
		}
		if setting != "rules" {
			return fmt.Sprintf("narrow or remove the refusal %s", setting)
		}
		return fmt.Sprintf("add a rule that permits %s to %s for %s", p.Service, where, c.Name())
	case site.Routing:
		if setting == "pools" {
			return "renumber: the destination must not lie in a pool"
		}
		return fmt.Sprintf("add a route to %s at %s", p.Dst, setting)
	case site.Translating:
		return fmt.Sprintf("give %s an address of this family, or exempt the traffic before it", setting)
	case site.Onward:
		return fmt.Sprintf("correct the routers between the gateway and %s (%s)", where, setting)
	case site.Return:
		if strings.HasPrefix(setting, "nat/") {
			return fmt.Sprintf("set %s to an address of gateway %s, or give the routers a route to it by the gateway", setting,
				m.Gateway.Name)
		}
		if setting == "nat" {
			return "add a translation to the gateway's address for what leaves to the internet"
		}
		if link, ok := strings.CutPrefix(setting, "networks/"); ok && !strings.Contains(link, "/") {
			return fmt.Sprintf("take a pool apart from network %s, or say carved-from: %s at the pool, so that the gateway answers for it there", link, link)
		}
		return fmt.Sprintf("give the way back to the pool a route that leads to the gateway (%s), or translate the source", setting)
	}
	return ""
}

// fixInward says the change that mends what happened to a packet from inside.
func fixInward(m *site.Model, c *site.Class, p site.Packet, station, setting string, missing bool) string {
	where := p.Src.String()
	if h := m.Names.HostAt(p.Src); h != nil {
		where = h.Name
	}
	if !missing {
		return fmt.Sprintf("narrow %s, or add a rule with from: [%s] that refuses %s for %s", setting, where, p.Service, c.Name())
	}
	switch station {
	case site.Rules:
		if entry, ok := strings.CutPrefix(setting, "nat/"); ok {
			return fmt.Sprintf("exempt what %s opens towards people, before %s translates it", where, entry)
		}
		if setting == "rules" {
			return fmt.Sprintf("add a rule with from: [%s] that permits %s for %s", where, p.Service, c.Name())
		}
	case site.Origin:
		return fmt.Sprintf("add a route to %s at gateways/%s/routes: the gateway must know where it comes from", p.Src, m.Gateway.Name)
	case site.Approach:
		return fmt.Sprintf("give %s a way to the pool that leads to the gateway (%s)", where, setting)
	case site.Onward:
		return fmt.Sprintf("correct the routers between the gateway and %s (%s)", where, setting)
	}
	p.Src, p.Dst = p.Dst, p.Src
	return Fix(m, c, p, station, setting, true, false)
}
