// Package lab is the stand-in surroundings that ship with the product, in one process: inside hosts and routers, home
// routers that translate, the internet with a mirror that tells the address it sees. It is built from its own
// description of what the site is really like and never from a plan: the plan is what somebody believes.
package lab

import (
	"bytes"
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"time"

	"go.yaml.in/yaml/v3"
)

// Description is what the site is really like.
type Description struct {
	Site        string                    `yaml:"site"` // what it is called
	Segments    map[string][]netip.Prefix `yaml:"segments"`
	Gateway     GatewayPlugs              `yaml:"gateway"`
	Routers     []Router                  `yaml:"routers"`
	Hosts       []Host                    `yaml:"hosts"`
	Names       map[string][]netip.Addr   `yaml:"names"`        // told by the inside name server
	PublicNames map[string][]netip.Addr   `yaml:"public-names"` // told by the internet's
	Vantages    []Vantage                 `yaml:"vantages"`
}

// GatewayPlugs is where the gateway's ports are plugged in.
type GatewayPlugs struct {
	Inside  Plug     `yaml:"inside"`
	Outside Plug     `yaml:"outside"`
	Drop    []string `yaml:"upstream-drops"` // what the router in front of it loses, such as udp/4500
}

// Plug is a place on a segment.
type Plug struct {
	Segment   string       `yaml:"segment"`
	Addresses []netip.Addr `yaml:"addresses"`
}

// Router is an inside router.
type Router struct {
	Name      string       `yaml:"name"`
	Addresses []netip.Addr `yaml:"addresses"`
	Routes    []Route      `yaml:"routes"`
}

// Route leads to a prefix by a next hop.
type Route struct {
	To  netip.Prefix `yaml:"to"`
	Via netip.Addr   `yaml:"via"`
}

// Host is a machine with what it offers.
type Host struct {
	Name      string       `yaml:"name"`
	Addresses []netip.Addr `yaml:"addresses"`
	Router    []netip.Addr `yaml:"router"`
	Ping      bool         `yaml:"ping"`
	DNS       bool         `yaml:"dns"`        // tells the inside names
	PublicDNS bool         `yaml:"public-dns"` // tells the public names
	Web       []uint16     `yaml:"web"`        // a page, by TLS on port 443
	TCP       []uint16     `yaml:"tcp"`        // says its name and closes
	UDP       []uint16     `yaml:"udp"`        // sends back what it gets
	Mirror    []uint16     `yaml:"mirror"`     // a page that tells the visitor's address
}

// Vantage is a kind of place that a remote user connects from.
type Vantage struct {
	Name      string       `yaml:"name"`
	About     string       `yaml:"about"`
	Prefix    netip.Prefix `yaml:"prefix"`  // of the home network
	Outside   netip.Addr   `yaml:"outside"` // the home router's address on the internet
	Translate bool         `yaml:"translate"`
	DNS       []netip.Addr `yaml:"dns"`
	Drop      []string     `yaml:"drops"`
	MTU       int          `yaml:"mtu"`     // octets; larger packets are lost without a word; 0: 1500
	Loses     int          `yaml:"loses"`   // one in so many packets that devices send is lost; 0: none
	Forgets   Duration     `yaml:"forgets"` // how long the router remembers a translation that nothing uses; 0: for ever
}

// Duration is a length of time as 30s or 5m.
type Duration time.Duration

// UnmarshalText reads it.
func (d *Duration) UnmarshalText(b []byte) error {
	v, err := time.ParseDuration(string(b))
	*d = Duration(v)
	return err
}

// Read reads a description strictly.
func Read(text []byte) (*Description, error) {
	var d Description
	dec := yaml.NewDecoder(bytes.NewReader(text))
	dec.KnownFields(true)
	if err := dec.Decode(&d); err != nil {
		return nil, fmt.Errorf("site description: %w", err)
	}
	for _, p := range []Plug{d.Gateway.Inside, d.Gateway.Outside} {
		if d.Segments[p.Segment] == nil {
			return nil, fmt.Errorf("site description: the gateway is plugged into segment %q, which does not exist", p.Segment)
		}
	}
	return &d, nil
}

// Called is what the site is called, on the pages of its hosts.
func (d *Description) Called() string { return cmp.Or(d.Site, "this site") }

// namesOf are the inside names of a host; its own where it has none.
func (d *Description) namesOf(h Host) (out []string) {
	for _, name := range slices.Sorted(maps.Keys(d.Names)) {
		if slices.ContainsFunc(d.Names[name], func(a netip.Addr) bool { return slices.Contains(h.Addresses, a) }) {
			out = append(out, name)
		}
	}
	if out == nil {
		out = append(out, h.Name)
	}
	return out
}
