package inside

import "net/netip"

// Flow names a flow by its ends as the person's packets have them, which is how a kernel that tracks connections knows it too.
type Flow struct {
	Proto            uint8
	Src, Dst         netip.Addr // the person's, and the other
	SrcPort, DstPort uint16     // TCP, UDP
	Ident            uint16     // ICMP
	Kind             uint8      // ICMP: the type that the person sends
}
