package linux

import (
	"encoding/binary"
	"slices"
	"strings"

	"github.com/google/nftables"
	"github.com/google/nftables/expr"
	"golang.org/x/sys/unix"
)

// mostJumps bounds how deep chains that chains jump to are followed.
const mostJumps = 8

// firewall tells what becomes of packets in chains of others, as far as rules say it by protocol, port and the link that they come by: what
// else a rule looks at, such as the state of a connection, cannot be known here.
type firewall struct {
	rules func(table *nftables.Table, chain string) []*nftables.Rule
	set   func(table *nftables.Table, name string) []nftables.SetElement
}

// firewallOf reads the kernel's.
func firewallOf(conn *nftables.Conn) firewall {
	return firewall{
		rules: func(table *nftables.Table, chain string) []*nftables.Rule {
			rules, _ := conn.GetRules(table, &nftables.Chain{Name: chain, Table: table})
			return rules
		},
		set: func(table *nftables.Table, name string) []nftables.SetElement {
			elements, _ := conn.GetSetElements(&nftables.Set{Table: table, Name: name})
			return elements
		},
	}
}

// arriving is a packet that a firewall is asked about.
type arriving struct {
	proto byte
	port  uint16
	by    string // the link that it comes by; empty: any
}

// drops tells whether a base chain drops a packet that no rule lets through before, and by which rule; nil: by its policy.
func (f firewall) drops(c *nftables.Chain, p arriving) (bool, *nftables.Rule) {
	if v, by := f.walk(c.Table, c.Name, p, 0); by != nil {
		return v == expr.VerdictDrop, by
	}
	return c.Policy != nil && *c.Policy == nftables.ChainPolicyDrop, nil
}

// walk gives the first verdict of a chain on a packet, and the rule that gives it; nil where none does.
func (f firewall) walk(table *nftables.Table, chain string, p arriving, depth int) (v expr.VerdictKind, by *nftables.Rule) {
	if depth > mostJumps {
		return 0, nil
	}
	for _, r := range f.rules(table, chain) {
		applies, verdict, to := f.rule(table, r, p)
		if !applies {
			continue
		}
		switch verdict {
		case expr.VerdictAccept, expr.VerdictDrop:
			return verdict, r
		case expr.VerdictJump, expr.VerdictGoto:
			if v, by := f.walk(table, to, p, depth+1); by != nil {
				return v, by
			}
			if verdict == expr.VerdictGoto {
				return 0, nil
			}
		case expr.VerdictReturn:
			return 0, nil
		}
	}
	return 0, nil
}

// named are the ports that rules of a chain name, by protocol.
func (f firewall) named(c *nftables.Chain) (out []arriving) {
	add := func(proto byte, data []byte) {
		if len(data) == 2 {
			if a := (arriving{proto: proto, port: binary.BigEndian.Uint16(data)}); !slices.Contains(out, a) {
				out = append(out, a)
			}
		}
	}
	for _, r := range f.rules(c.Table, c.Name) {
		proto, port := byte(0), false
		for _, e := range r.Exprs {
			switch x := e.(type) {
			case *expr.Payload:
				port = x.Base == expr.PayloadBaseTransportHeader && x.Offset == 2 && x.Len == 2
			case *expr.Cmp:
				if len(x.Data) == 1 && (x.Data[0] == unix.IPPROTO_TCP || x.Data[0] == unix.IPPROTO_UDP) {
					proto = x.Data[0]
				} else if port {
					add(proto, x.Data)
				}
			case *expr.Range:
				if port {
					add(proto, x.FromData)
				}
			case *expr.Lookup:
				if !port {
					continue
				}
				for _, one := range f.set(c.Table, x.SetName) {
					if !one.IntervalEnd && len(one.Key) >= 2 {
						add(proto, one.Key[:2])
					}
				}
			}
		}
	}
	return slices.DeleteFunc(out, func(a arriving) bool { return a.proto == 0 })
}

// what a register holds, as far as rules are read.
const (
	holdsOther = iota
	holdsProto
	holdsPort
	holdsLink
)

// rule tells whether a rule applies to a packet, and what it then does. One that names the port applies whatever else it looks
// at; one that does not applies only where it looks at nothing else.
func (f firewall) rule(table *nftables.Table, r *nftables.Rule, p arriving) (applies bool, v expr.VerdictKind, to string) {
	holds := map[uint32]int{}
	named, other := false, false
	want := binary.BigEndian.AppendUint16(nil, p.port)
	v = expr.VerdictContinue
	for _, e := range r.Exprs {
		switch x := e.(type) {
		case *expr.Counter, *expr.Log:
		case *expr.Meta:
			holds[x.Register] = holdsOther
			if x.Key == expr.MetaKeyL4PROTO {
				holds[x.Register] = holdsProto
			}
			if x.Key == expr.MetaKeyIIFNAME && p.by != "" {
				holds[x.Register] = holdsLink
			}
		case *expr.Payload:
			holds[x.DestRegister] = holdsOther
			if x.Base == expr.PayloadBaseTransportHeader && x.Offset == 2 && x.Len == 2 {
				holds[x.DestRegister] = holdsPort
			}
		case *expr.Cmp:
			if holds[x.Register] == holdsLink { // padded to its end, or the beginning of a name
				name, whole := strings.CutSuffix(string(x.Data), "\x00")
				name = strings.TrimRight(name, "\x00")
				same := name == p.by || !whole && strings.HasPrefix(p.by, name)
				if same != (x.Op == expr.CmpOpEq) {
					return false, 0, ""
				}
				continue
			}
			data := map[int][]byte{holdsProto: {p.proto}, holdsPort: want}[holds[x.Register]]
			if data == nil {
				other = true
				continue
			}
			if !compares(x.Op, slices.Compare(data, x.Data)) {
				return false, 0, ""
			}
			named = named || holds[x.Register] == holdsPort
		case *expr.Range:
			if holds[x.Register] != holdsPort || len(x.FromData) != 2 || len(x.ToData) != 2 {
				other = true
				continue
			}
			in := binary.BigEndian.Uint16(x.FromData) <= p.port && p.port <= binary.BigEndian.Uint16(x.ToData)
			if in != (x.Op == expr.CmpOpEq) {
				return false, 0, ""
			}
			named = true
		case *expr.Lookup:
			data := map[int][]byte{holdsProto: {p.proto}, holdsPort: want}[holds[x.SourceRegister]]
			if data == nil {
				other = true
				continue
			}
			if inSet(f.set(table, x.SetName), data) == x.Invert {
				return false, 0, ""
			}
			named = named || holds[x.SourceRegister] == holdsPort
		case *expr.Reject:
			v = expr.VerdictDrop
		case *expr.Verdict:
			v, to = x.Kind, x.Chain
		default:
			other = true
		}
	}
	return named || !other, v, to
}

// compares tells whether a comparison holds, by what comparing both gave.
func compares(op expr.CmpOp, is int) bool {
	switch op {
	case expr.CmpOpEq:
		return is == 0
	case expr.CmpOpNeq:
		return is != 0
	case expr.CmpOpLt:
		return is < 0
	case expr.CmpOpLte:
		return is <= 0
	case expr.CmpOpGt:
		return is > 0
	}
	return is >= 0
}

// inSet tells whether a set has a key, by itself or within an interval.
func inSet(elements []nftables.SetElement, key []byte) bool {
	within := false
	sorted := slices.Clone(elements)
	slices.SortStableFunc(sorted, func(a, b nftables.SetElement) int { return slices.Compare(a.Key, b.Key) })
	for _, e := range sorted {
		if len(e.Key) < len(key) {
			continue
		}
		switch slices.Compare(e.Key[:len(key)], key) {
		case 0:
			within = !e.IntervalEnd
		case -1:
			if len(e.KeyEnd) >= len(key) { // both ends in one element
				within = within || slices.Compare(key, e.KeyEnd[:len(key)]) <= 0
				continue
			}
			within = false
			if !e.IntervalEnd && inIntervals(sorted) {
				within = true
			}
		}
	}
	return within
}

func inIntervals(elements []nftables.SetElement) bool {
	return slices.ContainsFunc(elements, func(e nftables.SetElement) bool { return e.IntervalEnd })
}
