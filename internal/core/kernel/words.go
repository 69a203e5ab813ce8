package kernel

import (
	"fmt"
	"strings"

	"yellowlantern/internal/core/netset"
)

// String writes the table in the language of nft(8).
func (r *Rules) String() string {
	var b strings.Builder
	fmt.Fprintf(&b, "table inet %s {\n", Table)
	for _, s := range r.Sets {
		kind := "ipv4_addr"
		if s.V6 {
			kind = "ipv6_addr"
		}
		fmt.Fprintf(&b, "\tset %s {\n\t\ttype %s\n\t\tflags interval\n\t\telements = { %s }\n\t}\n", s.Name, kind, elements(s.Of))
	}
	used := map[string]bool{}
	for _, c := range r.Chains {
		for i := range c.Rules {
			if c.Rules[i].Do == Last {
				used[c.Rules[i].Name] = true
			}
		}
	}
	for _, t := range Timeouts {
		if used[t.Name] {
			fmt.Fprintf(&b, "\tct timeout %s {\n\t\tprotocol %s\n\t\tl3proto %s\n\t\tpolicy = { %s }\n\t}\n", t.Name, protoName(t.Proto),
				family(t.V6), policy(t))
		}
	}
	for _, c := range called(r.Chains) {
		fmt.Fprintf(&b, "\tchain %s {\n", c.Name)
		if c.Hook != "" {
			kind := "filter"
			if c.NAT {
				kind = "nat"
			}
			fmt.Fprintf(&b, "\t\ttype %s hook %s priority %d; policy accept;\n", kind, c.Hook, c.Priority)
		}
		for i := range c.Rules {
			fmt.Fprintf(&b, "\t\t%s\n", c.Rules[i].String())
		}
		b.WriteString("\t}\n")
	}
	b.WriteString("}\n")
	return b.String()
}

// called puts chains that are jumped to before those that jump there.
func called(all []Chain) (out []Chain) {
	for _, hooked := range []bool{false, true} {
		for _, c := range all {
			if (c.Hook != "") == hooked {
				out = append(out, c)
			}
		}
	}
	return out
}

func elements(a netset.Addrs) string {
	words := make([]string, len(a))
	for i, s := range a {
		words[i] = netset.Addrs{s}.String()
	}
	return strings.Join(words, ", ")
}

func policy(t Timeout) string {
	words := make([]string, len(t.Policy))
	for i, p := range t.Policy {
		words[i] = fmt.Sprintf("%s : %d", p.State, p.Seconds)
	}
	return strings.Join(words, ", ")
}

func family(v6 bool) string {
	if v6 {
		return "ip6"
	}
	return "ip"
}

func protoName(p uint8) string {
	if p == netset.UDP {
		return "udp"
	}
	return "tcp"
}

// String writes the rule in the language of nft(8).
func (r *Rule) String() string {
	var words []string
	say := func(on bool, format string, args ...any) {
		if on {
			words = append(words, fmt.Sprintf(format, args...))
		}
	}
	ip := family(r.V6)
	say(r.In != "", "iifname %q", r.In)
	say(r.Out != "", "oifname %q", r.Out)
	say(r.Family && r.From == "" && r.To == "", "meta nfproto ipv%s", map[bool]string{false: "4", true: "6"}[r.V6])
	say(r.From != "", "%s saddr @%s", ip, r.From)
	say(r.To != "", "%s daddr @%s", ip, r.To)
	say(r.Invalid, "ct state invalid")
	say(r.Fresh, "ct state invalid,new")
	say(r.Known, "ct state established,related")
	say(r.Proto() != 0, "meta l4proto %s", protoName(r.Proto()))
	say(r.Count, "counter")
	switch r.Do {
	case Return:
		say(true, "return")
	case Accept:
		say(true, "accept")
	case Drop:
		say(true, "drop")
	case NoRoute:
		say(true, "reject with icmpx no-route")
	case SourceSame:
		say(true, "snat %s to %s saddr", ip, ip)
	case TargetSame:
		say(true, "dnat %s to %s daddr", ip, ip)
	case SourceTo:
		say(true, "snat %s to %s", ip, r.As)
	case Jump:
		say(true, "jump %s", r.Name)
	case Last:
		say(true, "ct timeout set %q", r.Name)
	}
	say(r.Why != "", "comment %q", r.Why)
	return strings.Join(words, " ")
}
