// Package fold tells which names, and which addresses, are one: how they are written decides nothing about what they are.
package fold

import (
	"net/netip"
	"strings"

	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"
)

// Name gives the one form of everything that counts as the same name: without spaces around it, with compatible characters as one
// (NFKC, UAX #15), and without a difference between capital and small letters (full case folding, Unicode section 3.13).
func Name(s string) string {
	// A character such as a diaeresis by itself becomes a space with a mark: spaces are taken away last.
	return strings.TrimSpace(norm.NFKC.String(strings.Map(cherokee, cases.Fold().String(norm.NFKC.String(s)))))
}

// cherokee folds the one script whose small letters are folded to capitals (Unicode, CaseFolding.txt), which package cases does
// the other way about.
func cherokee(r rune) rune {
	switch {
	case r >= 0xab70 && r <= 0xabbf:
		return r - 0xab70 + 0x13a0
	case r >= 0x13f8 && r <= 0x13fd:
		return r - 0x13f8 + 0x13f0
	}
	return r
}

// Same tells whether two names are one.
func Same(a, b string) bool { return Name(a) == Name(b) }

// Addr gives the one form of an address: an IPv4 address that comes mapped into IPv6 (RFC 4291 §2.5.5.2), as sockets of both families and
// lists of hosts have it, is an IPv4 address. Addresses are given this form where they come in, and nowhere else.
func Addr(a netip.Addr) netip.Addr { return a.Unmap() }

// AddrPort does the same with a port.
func AddrPort(a netip.AddrPort) netip.AddrPort { return netip.AddrPortFrom(a.Addr().Unmap(), a.Port()) }

// Addrs does the same with several.
func Addrs(all []netip.Addr) []netip.Addr {
	out := make([]netip.Addr, len(all))
	for i, a := range all {
		out[i] = a.Unmap()
	}
	return out
}
