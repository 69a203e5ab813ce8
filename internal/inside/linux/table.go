package linux

import (
	"errors"
	"fmt"
	"os"

	"github.com/google/nftables"
	"github.com/google/nftables/binaryutil"
	"github.com/google/nftables/expr"
	"github.com/google/nftables/userdata"
	"golang.org/x/sys/unix"

	"yellowlantern/internal/core/kernel"
	"yellowlantern/internal/core/netset"
)

const elementsAtOnce = 500 // of a set in one message

// replaceTable makes the table what it is to be, at once: at no moment are there no rules, or some.
func replaceTable(want *kernel.Rules) error {
	c, err := nftables.New()
	if err != nil {
		return err
	}
	t := dropTable(c)
	t = c.AddTable(t)
	sets := map[string]*nftables.Set{}
	for _, s := range want.Sets {
		set := &nftables.Set{Table: t, Name: s.Name, Interval: true, KeyType: nftables.TypeIPAddr, KeyByteOrder: binaryutil.BigEndian}
		if s.V6 {
			set.KeyType = nftables.TypeIP6Addr
		}
		if err := c.AddSet(set, nil); err != nil {
			return err
		}
		all := intervals(s.Of)
		for len(all) > 0 {
			n := min(len(all), elementsAtOnce)
			if err := c.SetAddElements(set, all[:n]); err != nil {
				return err
			}
			all = all[n:]
		}
		sets[s.Name] = set
	}
	addTimeouts(c, t, want)
	chains := map[string]*nftables.Chain{}
	for _, x := range want.Chains {
		chains[x.Name] = c.AddChain(chain(t, x))
	}
	for _, x := range want.Chains {
		for i := range x.Rules {
			r := &x.Rules[i]
			rule := &nftables.Rule{Table: t, Chain: chains[x.Name], Exprs: exprs(r, sets)}
			if r.Why != "" {
				rule.UserData = userdata.AppendString(nil, userdata.TypeComment, r.Why)
			}
			c.AddRule(rule)
		}
	}
	if err := c.Flush(); err != nil {
		return fmt.Errorf("the kernel does not take the table of rules: %w", err)
	}
	return nil
}

// dropTable takes the table away, if it is there, when what is gathered is sent.
func dropTable(c *nftables.Conn) *nftables.Table {
	t := c.AddTable(&nftables.Table{Name: kernel.Table, Family: nftables.TableFamilyINet}) // so that it is there to be deleted
	c.DelTable(t)
	return &nftables.Table{Name: kernel.Table, Family: nftables.TableFamilyINet}
}

// removeTable takes the table away, if it is there.
func removeTable() error {
	c, err := nftables.New()
	if err != nil {
		return err
	}
	dropTable(c)
	err = c.Flush()
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	return err
}

// intervals are a set's elements as the kernel has them: where each span begins, and where it has ended.
func intervals(a netset.Addrs) (out []nftables.SetElement) {
	for _, s := range a {
		out = append(out, nftables.SetElement{Key: s.From.AsSlice()})
		if end := s.To.Next(); end.IsValid() {
			out = append(out, nftables.SetElement{Key: end.AsSlice(), IntervalEnd: true})
		}
	}
	return out
}

func addTimeouts(c *nftables.Conn, t *nftables.Table, want *kernel.Rules) {
	used := map[string]bool{}
	for _, x := range want.Chains {
		for _, r := range x.Rules {
			used[r.Name] = used[r.Name] || r.Do == kernel.Last
		}
	}
	for _, x := range kernel.Timeouts {
		if !used[x.Name] {
			continue
		}
		policy := expr.CtStatePolicyTimeout{}
		for _, p := range x.Policy {
			policy[p.Number] = p.Seconds
		}
		l3 := uint16(unix.NFPROTO_IPV4)
		if x.V6 {
			l3 = unix.NFPROTO_IPV6
		}
		c.AddObj(&nftables.NamedObj{
			Table: t, Name: x.Name, Type: nftables.ObjTypeCtTimeout,
			Obj: &expr.CtTimeout{L3Proto: l3, L4Proto: x.Proto, Policy: policy},
		})
	}
}

func chain(t *nftables.Table, x kernel.Chain) *nftables.Chain {
	c := &nftables.Chain{Table: t, Name: x.Name}
	if x.Hook == "" {
		return c
	}
	c.Type = nftables.ChainTypeFilter
	if x.NAT {
		c.Type = nftables.ChainTypeNAT
	}
	c.Priority = nftables.ChainPriorityRef(nftables.ChainPriority(x.Priority))
	accept := nftables.ChainPolicyAccept
	c.Policy = &accept
	switch x.Hook {
	case kernel.HookArriving:
		c.Hooknum = nftables.ChainHookPrerouting
	case kernel.HookPassing:
		c.Hooknum = nftables.ChainHookForward
	case kernel.HookLeaving:
		c.Hooknum = nftables.ChainHookPostrouting
	}
	return c
}

// exprs is a rule as the kernel runs it.
func exprs(r *kernel.Rule, sets map[string]*nftables.Set) (out []expr.Any) {
	add := func(on bool, es ...expr.Any) {
		if on {
			out = append(out, es...)
		}
	}
	family, at, size := byte(unix.NFPROTO_IPV4), uint32(12), uint32(4)
	if r.V6 {
		family, at, size = unix.NFPROTO_IPV6, 8, 16
	}
	add(r.In != "", &expr.Meta{Key: expr.MetaKeyIIFNAME, Register: 1}, equals(linkName(r.In)))
	add(r.Out != "", &expr.Meta{Key: expr.MetaKeyOIFNAME, Register: 1}, equals(linkName(r.Out)))
	add(r.Family, &expr.Meta{Key: expr.MetaKeyNFPROTO, Register: 1}, equals([]byte{family}))
	add(r.From != "", load(at, size), in(sets, r.From))
	add(r.To != "", load(at+size, size), in(sets, r.To))
	add(r.Invalid, state(expr.CtStateBitINVALID)...)
	add(r.Fresh, state(expr.CtStateBitINVALID|expr.CtStateBitNEW)...)
	add(r.Known, state(expr.CtStateBitESTABLISHED|expr.CtStateBitRELATED)...)
	add(r.Proto() != 0, &expr.Meta{Key: expr.MetaKeyL4PROTO, Register: 1}, equals([]byte{r.Proto()}))
	add(r.Count, &expr.Counter{})
	nat := &expr.NAT{Type: expr.NATTypeSourceNAT, Family: uint32(family), RegAddrMin: 1}
	switch r.Do {
	case kernel.Return:
		add(true, &expr.Verdict{Kind: expr.VerdictReturn})
	case kernel.Accept:
		add(true, &expr.Verdict{Kind: expr.VerdictAccept})
	case kernel.Drop:
		add(true, &expr.Verdict{Kind: expr.VerdictDrop})
	case kernel.NoRoute:
		add(true, &expr.Reject{Type: unix.NFT_REJECT_ICMPX_UNREACH, Code: unix.NFT_REJECT_ICMPX_NO_ROUTE})
	case kernel.SourceSame:
		add(true, load(at, size), nat)
	case kernel.TargetSame:
		nat.Type = expr.NATTypeDestNAT
		add(true, load(at+size, size), nat)
	case kernel.SourceTo:
		add(true, &expr.Immediate{Register: 1, Data: r.As.AsSlice()}, nat)
	case kernel.Jump:
		add(true, &expr.Verdict{Kind: expr.VerdictJump, Chain: r.Name})
	case kernel.Last:
		add(true, &expr.Objref{Type: int(nftables.ObjTypeCtTimeout), Name: r.Name})
	}
	return out
}

func linkName(name string) []byte {
	b := make([]byte, unix.IFNAMSIZ)
	copy(b, name)
	return b
}

func equals(b []byte) expr.Any { return &expr.Cmp{Op: expr.CmpOpEq, Register: 1, Data: b} }

func load(at, size uint32) expr.Any {
	return &expr.Payload{DestRegister: 1, Base: expr.PayloadBaseNetworkHeader, Offset: at, Len: size}
}

func in(sets map[string]*nftables.Set, name string) expr.Any {
	out := &expr.Lookup{SourceRegister: 1, SetName: name}
	if s := sets[name]; s != nil {
		out.SetID = s.ID
	}
	return out
}

func state(bits uint32) []expr.Any {
	return []expr.Any{
		&expr.Ct{Key: expr.CtKeySTATE, Register: 1},
		&expr.Bitwise{SourceRegister: 1, DestRegister: 1, Len: 4, Mask: binaryutil.NativeEndian.PutUint32(bits), Xor: make([]byte, 4)},
		&expr.Cmp{Op: expr.CmpOpNeq, Register: 1, Data: make([]byte, 4)},
	}
}
