package kernel

import "yellowlantern/internal/core/netset"

// Timeout is how long the kernel remembers connections of one protocol in silence (docs/semantics.md, "State"); for ICMP its own is the
// same as ours.
type Timeout struct {
	Name   string
	V6     bool
	Proto  uint8
	Policy []Patience
}

// Patience is a state of a connection, as nf_conntrack names and numbers it, with how long it lasts in silence, in seconds.
type Patience struct {
	State   string
	Number  uint16
	Seconds uint32
}

// Timeouts are those of people's connections.
var Timeouts = func() (out []Timeout) {
	for _, v6 := range []bool{false, true} {
		n := "-4"
		if v6 {
			n = "-6"
		}
		out = append(out,
			Timeout{"tcp" + n, v6, netset.TCP, []Patience{
				{"established", 2, 7200}, {"fin_wait", 3, 7200}, {"close_wait", 4, 7200}, {"last_ack", 5, 30}, {"time_wait", 6, 30}, {"close", 7, 30},
			}},
			Timeout{"udp" + n, v6, netset.UDP, []Patience{{"unreplied", 0, 120}, {"replied", 1, 120}}})
	}
	return out
}()

// timeout finds one by its name.
func timeout(name string) Timeout {
	for _, t := range Timeouts {
		if t.Name == name {
			return t
		}
	}
	return Timeout{}
}

// Proto is the protocol of a rule that sets a timeout; 0: the rule looks at none.
func (r *Rule) Proto() uint8 {
	if r.Do != Last {
		return 0
	}
	return timeout(r.Name).Proto
}
