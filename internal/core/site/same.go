package site

import (
	"reflect"
	"slices"
)

// SameGround tells whether two models have everything alike but passages, rules, groups and expectations: then what one class of people
// reaches is the same under both as long as its passage and its rules are.
func (m *Model) SameGround(o *Model) bool {
	a, b := m.Plan, o.Plan
	return m.Gateway.Name == o.Gateway.Name && a.TimeZone == b.TimeZone && reflect.DeepEqual(a.Gateways, b.Gateways) &&
		reflect.DeepEqual(a.Zones, b.Zones) &&
		reflect.DeepEqual(a.Networks, b.Networks) && reflect.DeepEqual(a.Routers, b.Routers) && reflect.DeepEqual(a.Hosts, b.Hosts) &&
		reflect.DeepEqual(a.HostGroups, b.HostGroups) &&
		reflect.DeepEqual(a.Services, b.Services) && reflect.DeepEqual(a.Hours, b.Hours) && reflect.DeepEqual(a.Pools, b.Pools) &&
		reflect.DeepEqual(a.Tunnels, b.Tunnels) && reflect.DeepEqual(a.NAT, b.NAT)
}

// SameAs tells whether two classes of models of the same ground have the same passage and the same rules.
func (c *Class) SameAs(o *Class) bool {
	switch {
	case (c.Passage == nil) != (o.Passage == nil):
		return false
	case (c.Shut == nil) != (o.Shut == nil), c.Shut != nil && !reflect.DeepEqual(c.Shut.Passage, o.Shut.Passage):
		return false
	case c.Passage != nil && !reflect.DeepEqual(c.Passage.Passage, o.Passage.Passage):
		return false
	}
	same := func(a, b *Rule) bool { return reflect.DeepEqual(a.Rule, b.Rule) }
	for _, pair := range [][2][]*Rule{
		{c.outward.permits, o.outward.permits},
		{c.outward.refusals, o.outward.refusals},
		{c.inward.permits, o.inward.permits},
		{c.inward.refusals, o.inward.refusals},
	} {
		if !slices.EqualFunc(pair[0], pair[1], same) {
			return false
		}
	}
	return true
}
