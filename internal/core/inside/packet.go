package inside

// Headroom and Tailroom are how many octets a port leaves free before and after each packet in its buffer: whoever wraps it does so in
// place. ESP takes 16 before, and 21 after (RFC 4303 with RFC 4106); a TUN device's header takes 10 or 12 before on the way in.
const (
	Headroom = 32
	Tailroom = 64
)

// Packet is a packet of a batch, with what is free around it: it is Buf[Off : Off+Len].
type Packet struct {
	Buf      []byte
	Off, Len int
	// Each is how many octets of payload each of the packets has that a kernel joined into this one (package segment), the last perhaps
	// fewer; 0: it is one. Of such a one lengths and checksums are those of the whole, or none.
	Each int
}

// Bare is a packet that has no room around it.
func Bare(b []byte) Packet { return Packet{Buf: b, Len: len(b)} }

// Roomy is a copy of a packet with room around it.
func Roomy(b []byte) Packet {
	p := Packet{Buf: make([]byte, Headroom+len(b)+Tailroom), Off: Headroom, Len: len(b)}
	copy(p.Bytes(), b)
	return p
}

// Bytes is the packet.
func (p Packet) Bytes() []byte { return p.Buf[p.Off : p.Off+p.Len : p.Off+p.Len] }

// Has tells whether so many octets are free before and after it.
func (p Packet) Has(before, after int) bool {
	return p.Off >= before && len(p.Buf)-p.Off-p.Len >= after
}

// Became is what a packet became: one that was altered where it stands keeps its room, another one has none.
func (p Packet) Became(b []byte) Packet {
	if len(b) > 0 && len(b) <= p.Len && &b[0] == &p.Buf[p.Off] {
		p.Len = len(b)
		return p
	}
	return Bare(b)
}
