package connection

import (
	"errors"
	"net/netip"
	"os"
	"strings"
	"syscall"

	"github.com/google/nftables"
	"github.com/google/nftables/expr"
	"golang.org/x/sys/unix"
)

// forwardFor lets the hosts of networks behind this machine use the connection: under its address, for nobody at the other end knows
// theirs.
func (m *machine) forwardFor(own []netip.Addr) error {
	if len(m.o.Carry) == 0 {
		return nil
	}
	if b, err := os.ReadFile("/proc/sys/net/ipv4/ip_forward"); err != nil || strings.TrimSpace(string(b)) != "1" {
		return errors.New("this machine forwards nothing, so nobody behind it can use the connection: sysctl -w net.ipv4.ip_forward=1")
	}
	c, err := nftables.New()
	if err != nil {
		return err
	}
	t := c.AddTable(&nftables.Table{Name: tableName(m.o.Name), Family: nftables.TableFamilyINet})
	c.DelTable(t)
	t = c.AddTable(&nftables.Table{Name: tableName(m.o.Name), Family: nftables.TableFamilyINet})
	leaving := c.AddChain(&nftables.Chain{
		Name: "leaving", Table: t, Type: nftables.ChainTypeNAT, Hooknum: nftables.ChainHookPostrouting, Priority: nftables.ChainPriorityNATSource,
	})
	device := make([]byte, unix.IFNAMSIZ)
	copy(device, m.device)
	for _, p := range m.o.Carry {
		family, at, size := byte(unix.NFPROTO_IPV4), uint32(12), uint32(4)
		if p.Addr().Is6() {
			family, at, size = unix.NFPROTO_IPV6, 8, 16
		}
		mask := make([]byte, size)
		for i := range p.Bits() {
			mask[i/8] |= 0x80 >> (i % 8)
		}
		c.AddRule(&nftables.Rule{Table: t, Chain: leaving, Exprs: []expr.Any{
			&expr.Meta{Key: expr.MetaKeyOIFNAME, Register: 1}, &expr.Cmp{Op: expr.CmpOpEq, Register: 1, Data: device},
			&expr.Meta{Key: expr.MetaKeyNFPROTO, Register: 1}, &expr.Cmp{Op: expr.CmpOpEq, Register: 1, Data: []byte{family}},
			&expr.Payload{DestRegister: 1, Base: expr.PayloadBaseNetworkHeader, Offset: at, Len: size},
			&expr.Bitwise{SourceRegister: 1, DestRegister: 1, Len: size, Mask: mask, Xor: make([]byte, size)},
			&expr.Cmp{Op: expr.CmpOpEq, Register: 1, Data: p.Masked().Addr().AsSlice()},
			&expr.Masq{},
		}})
	}
	return c.Flush()
}

func tableName(name string) string { return "yellow-lantern-dial-" + name }

// stopForwarding takes that away.
func stopForwarding(name string) error {
	c, err := nftables.New()
	if err != nil {
		return nil // nothing was made without it
	}
	t := c.AddTable(&nftables.Table{Name: tableName(name), Family: nftables.TableFamilyINet})
	c.DelTable(t)
	if err := c.Flush(); err != nil && !errors.Is(err, os.ErrNotExist) && !errors.Is(err, syscall.EOPNOTSUPP) {
		return err
	}
	return nil
}
