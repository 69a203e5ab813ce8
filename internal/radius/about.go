package radius

import (
	"errors"
	"net/netip"
	"slices"

	wire "layeh.com/radius"
	"layeh.com/radius/rfc2865"
	"layeh.com/radius/rfc2866"
	"layeh.com/radius/rfc6911"
)

// About is which sessions a request is about (RFC 5176 §3): those that have all that is given.
type About struct {
	ID      string
	User    string
	Address []netip.Addr // leased
	From    netip.Addr   // that the device is seen at
}

// Known is what is known of a session.
type Known struct {
	ID        string
	User      string
	Addresses []netip.Addr
	From      netip.Addr
}

// ReadAbout reads which sessions a request is about.
func ReadAbout(p *Packet) (a About, err error) {
	a.ID, a.User = rfc2866.AcctSessionID_GetString(p), rfc2865.UserName_GetString(p)
	for _, kind := range []wire.Type{rfc2865.FramedIPAddress_Type, rfc6911.FramedIPv6Address_Type} {
		if value, given := p.Lookup(kind); given {
			addr, ok := netip.AddrFromSlice(value)
			if !ok {
				return a, errors.New("an address that is none")
			}
			a.Address = append(a.Address, addr)
		}
	}
	if from := rfc2865.CallingStationID_GetString(p); from != "" {
		a.From, err = netip.ParseAddr(from)
	}
	return a, err
}

// Nothing tells whether it names no session at all.
func (a About) Nothing() bool {
	return a.ID == "" && a.User == "" && len(a.Address) == 0 && !a.From.IsValid()
}

// Fits tells whether it is about a session.
func (a About) Fits(k Known) bool {
	for _, addr := range a.Address {
		if !slices.Contains(k.Addresses, addr) {
			return false
		}
	}
	return (a.ID == "" || a.ID == k.ID) && (a.User == "" || a.User == k.User) && (!a.From.IsValid() || a.From == k.From)
}
