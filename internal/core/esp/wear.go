package esp

// Volume is how much was protected by keys in one direction, or may be.
type Volume struct{ Packets, Octets uint64 }

// Wear is how far keys are used up.
type Wear int

// Fresh keys are used; Worn ones are to be renewed; Spent ones are not to be used any more.
const (
	Fresh Wear = iota
	Worn
	Spent
)

// Most is how much may be protected by one key: somewhat less than there are sequence numbers, of which none may come twice (RFC 4303
// §3.3.3), and of a cipher with blocks of 64 bits so little that two blocks hardly become the same (after 2^32 blocks, 32 GiB, they
// probably would).
func (a Algorithm) Most() Volume {
	most := Volume{1<<32 - 1<<20, 1 << 60}
	if a.ESN {
		most.Packets = 1 << 34
	}
	if a.Encryption.shape().block == 8 {
		most.Octets = 2 << 30
	}
	return most
}

// And is the smaller of both bounds; 0 is none.
func (most Volume) And(o Volume) Volume {
	if o.Packets > 0 {
		most.Packets = min(most.Packets, o.Packets)
	}
	if o.Octets > 0 {
		most.Octets = min(most.Octets, o.Octets)
	}
	return most
}

// Wear tells how far keys are used up that may protect so much: they are worn when nine tenths are used.
func (most Volume) Wear(used Volume) Wear {
	switch {
	case used.Packets >= most.Packets || used.Octets >= most.Octets:
		return Spent
	case used.Packets >= most.Packets-most.Packets/10 || used.Octets >= most.Octets-most.Octets/10:
		return Worn
	}
	return Fresh
}
