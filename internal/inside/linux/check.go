package linux

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/google/nftables"
	"github.com/google/nftables/expr"
	"github.com/ti-mo/conntrack"
	"golang.org/x/sys/unix"

	"yellowlantern/internal/core/fold"
	"yellowlantern/internal/core/kernel"
)

// Check is one thing that a machine needs to be a gateway.
type Check struct {
	Name string `json:"name"`
	// State is fine, poor (it works, and may not stay so) or missing (it will not work).
	State string `json:"state"`
	Words string `json:"words"`
	Mend  string `json:"mend,omitempty"`
}

// States of a check.
const (
	Fine    = "fine"
	Poor    = "poor"
	Missing = "missing"
)

// CheckMachine looks whether this machine can be a gateway, and changes nothing. name is what people dial; empty: it is not asked for.
func CheckMachine(ctx context.Context, device, name string) []Check {
	c := &checks{}
	c.capabilities()
	c.tun()
	c.rules(device)
	c.connections()
	for _, port := range []uint16{500, 4500} {
		c.port(port)
	}
	c.links(device)
	c.forwarding(device)
	c.clock()
	c.names(ctx, name)
	return c.all
}

type checks struct{ all []Check }

func (c *checks) add(name, state, mend, format string, args ...any) {
	c.all = append(c.all, Check{name, state, fmt.Sprintf(format, args...), mend})
}

func (c *checks) capabilities() {
	var head unix.CapUserHeader
	var data [2]unix.CapUserData
	head.Version = unix.LINUX_CAPABILITY_VERSION_3
	if err := unix.Capget(&head, &data[0]); err != nil {
		c.add("capabilities", Missing, "", "they cannot be read: %v", err)
		return
	}
	var lacks []string
	for bit, capability := range map[int]string{
		unix.CAP_NET_ADMIN: "CAP_NET_ADMIN", unix.CAP_NET_BIND_SERVICE: "CAP_NET_BIND_SERVICE",
		unix.CAP_NET_RAW: "CAP_NET_RAW",
	} {
		if data[0].Effective&(1<<bit) == 0 {
			lacks = append(lacks, capability)
		}
	}
	if slices.Sort(lacks); len(lacks) > 0 {
		c.add("capabilities", Missing, "run it as root, or as the system service", "this process lacks %s", strings.Join(lacks, ", "))
		return
	}
	c.add("capabilities", Fine, "", "CAP_NET_ADMIN, CAP_NET_BIND_SERVICE, CAP_NET_RAW")
}

func (c *checks) tun() {
	f, err := os.OpenFile("/dev/net/tun", os.O_RDWR, 0)
	if err != nil {
		c.add("tunnel device", Missing, "modprobe tun; in a container, let it have /dev/net/tun", "/dev/net/tun cannot be opened: %v", err)
		return
	}
	info, err := f.Stat()
	_ = f.Close()
	if err == nil && !mayOpen(info) {
		c.add("tunnel device", Missing, "chmod 666 /dev/net/tun, as systems have it: what a process may do with it is decided by CAP_NET_ADMIN",
			"/dev/net/tun is for root alone (%v), and the installed gateway runs as %s", info.Mode().Perm(), gatewayUser)
		return
	}
	c.add("tunnel device", Fine, "", "/dev/net/tun")
}

// gatewayUser is that of the installed gateway.
const gatewayUser = "yellow-lantern-gateway"

// mayOpen tells whether the gateway's user may read and write a file, if there is such a user.
func mayOpen(info os.FileInfo) bool {
	u, err := user.Lookup(gatewayUser)
	s, ok := info.Sys().(*syscall.Stat_t)
	if err != nil || !ok {
		return true
	}
	const readWrite = 0o6
	mode := uint32(info.Mode().Perm())
	switch {
	case strconv.Itoa(int(s.Uid)) == u.Uid:
		return mode>>6&readWrite == readWrite
	case strconv.Itoa(int(s.Gid)) == u.Gid:
		return mode>>3&readWrite == readWrite
	}
	return mode&readWrite == readWrite
}

// rules looks whether the kernel has nf_tables, and who else has rules in the way.
func (c *checks) rules(device string) {
	conn, err := nftables.New()
	var chains []*nftables.Chain
	if err == nil {
		chains, err = conn.ListChains()
	}
	if err != nil {
		c.add("packet rules", Missing, "a kernel with nf_tables (modprobe nf_tables), and the capability CAP_NET_ADMIN", "nf_tables cannot be used: %v", err)
		return
	}
	c.add("packet rules", Fine, "", "nf_tables")
	if _, err := conn.ListTableOfFamily(kernel.Table, nftables.TableFamilyINet); err == nil && !gatewayRuns(device) {
		c.add("left over", Poor, "start the gateway, which takes it up, or yl host clear", "rules and routes of a gateway that was killed are here: people's addresses are unreachable until it starts")
	}
	others := firewallOf(conn)
	for _, x := range chains {
		if x.Table.Name == kernel.Table || x.Hooknum == nil || x.Priority == nil || x.Type != nftables.ChainTypeFilter {
			continue
		}
		drops := x.Policy != nil && *x.Policy == nftables.ChainPolicyDrop
		rules, err := conn.GetRules(x.Table, x)
		if err != nil {
			continue
		}
		place := fmt.Sprintf("table %s %s, chain %s", familyName(x.Table.Family), x.Table.Name, x.Name)
		var shut []string
		if *x.Hooknum == *nftables.ChainHookInput {
			for _, port := range []uint16{500, 4500} {
				if dropped, _ := others.drops(x, arriving{proto: unix.IPPROTO_UDP, port: port}); dropped {
					shut = append(shut, strconv.Itoa(int(port)))
				}
			}
		}
		single := others.single(x, device)
		switch {
		case len(shut) > 0:
			c.add("another firewall", Missing, fmt.Sprintf("nft insert rule %s %s %s udp dport '{ 500, 4500 }' accept", familyName(x.Table.Family), x.Table.Name, x.Name),
				"%s drops what comes to this machine at UDP %s", place, strings.Join(shut, " and "))
		case *x.Hooknum == *nftables.ChainHookForward && (drops || slices.ContainsFunc(rules, final)) && !mentions(rules, device):
			c.add("another firewall", Missing, fmt.Sprintf("nft insert rule %s %s %s iifname %s accept; the same with oifname", familyName(x.Table.Family), x.Table.Name, x.Name, device),
				"%s drops what passes this machine, and does not name %s", place, device)
		case len(single) > 0:
			c.add("another firewall", Poor, "take that rule out, or accept what is meant before it", "%s drops what people send: %s", place,
				strings.Join(single, "; "))
		}
	}
}

// final tells whether a rule drops or refuses whatever comes to it.
func final(r *nftables.Rule) bool {
	for _, e := range r.Exprs {
		switch x := e.(type) {
		case *expr.Counter:
		case *expr.Reject:
			return true
		case *expr.Verdict:
			return x.Kind == expr.VerdictDrop
		default:
			return false
		}
	}
	return false
}

func (c *checks) connections() {
	conn, err := conntrack.Dial(nil)
	if err != nil {
		c.add("connections", Missing, "modprobe nf_conntrack_netlink", "the kernel's connections cannot be reached: %v", err)
		return
	}
	_ = conn.Close()
	read := func(name string) int {
		text, _ := readSetting("net/netfilter/" + name)
		n, _ := strconv.Atoi(text)
		return n
	}
	have, most := read("nf_conntrack_count"), read("nf_conntrack_max")
	if most > 0 && have*10 > most*8 {
		c.add("connections", Poor, fmt.Sprintf("sysctl -w net.netfilter.nf_conntrack_max=%d", 2*most), "%d of %d are in use: new ones will be lost", have, most)
		return
	}
	counted := "octets are not counted (net.netfilter.nf_conntrack_acct=1 counts them)"
	if read("nf_conntrack_acct") == 1 {
		counted = "octets are counted"
	}
	c.add("connections", Fine, "", "%d of %d in use; %s", have, most, counted)
}

// port looks whether a UDP port is free, or the gateway's.
func (c *checks) port(port uint16) {
	name := fmt.Sprintf("UDP %d", port)
	conn, err := net.ListenUDP("udp", &net.UDPAddr{Port: int(port)})
	switch {
	case err == nil:
		_ = conn.Close()
		c.add(name, Fine, "", "free")
	case errors.Is(err, unix.EADDRINUSE):
		pid, who := holder(port)
		switch self, _ := os.Executable(); {
		case who == filepath.Base(self):
			c.add(name, Fine, "", "the gateway's, process %d", pid)
		case who == "":
			c.add(name, Missing, fmt.Sprintf("ss -lunp 'sport = :%d' tells who has it: end it, or let it have another port", port),
				"another process has it")
		default:
			c.add(name, Missing, "end it, or let it have another port", "%s has it, process %d", who, pid)
		}
	default:
		c.add(name, Missing, "CAP_NET_BIND_SERVICE", "it cannot be opened: %v", err)
	}
}

// holder is the process that has a UDP port.
func holder(port uint16) (pid int, name string) {
	inodes := map[string]bool{}
	for _, table := range []string{"/proc/self/net/udp", "/proc/self/net/udp6"} {
		b, _ := os.ReadFile(table)
		for line := range strings.Lines(string(b)) {
			words := strings.Fields(line)
			if len(words) > 9 && strings.HasSuffix(words[1], fmt.Sprintf(":%04X", port)) {
				inodes["socket:["+words[9]+"]"] = true
			}
		}
	}
	links, _ := filepath.Glob("/proc/[0-9]*/fd/*")
	for _, l := range links {
		if to, err := os.Readlink(l); err == nil && inodes[to] {
			words := strings.Split(l, "/")
			pid, _ = strconv.Atoi(words[2])
			b, _ := os.ReadFile("/proc/" + words[2] + "/comm")
			return pid, strings.TrimSpace(string(b))
		}
	}
	return 0, ""
}

func gatewayRuns(device string) bool {
	_, err := net.InterfaceByName(device)
	return err == nil
}

func (c *checks) links(device string) {
	m, err := look(device)
	if err != nil {
		c.add("links", Missing, "", "they cannot be read: %v", err)
		return
	}
	out := false
	for _, l := range m.links {
		if l.name == "lo" {
			continue
		}
		words := make([]string, 0, len(l.prefixes))
		for _, p := range l.prefixes {
			if !p.Addr().IsLinkLocalUnicast() {
				words = append(words, p.String())
			}
		}
		state, mend, about := Fine, "", ""
		switch {
		case !l.up:
			state, mend, about = Poor, "ip link set "+l.name+" up; look at its cable", ", down"
		case l.mtu < 1400:
			state, about = Poor, ", little for a tunnel"
			mend = "say a smaller mtu at the tunnel"
		}
		if l.defaults[0] || l.defaults[1] {
			out, about = true, about+", default route"
		}
		if len(words) == 0 {
			words = []string{"no address"}
		}
		c.add("link "+l.name, state, mend, "%s, MTU %d%s", strings.Join(words, ", "), l.mtu, about)
	}
	if !out {
		c.add("way out", Missing, "ip route add default via ADDRESS", "there is no default route: nobody outside gets an answer")
	}
}

func (c *checks) forwarding(device string) {
	m, err := look(device)
	if err != nil {
		return // that was told
	}
	var words []string
	forwards := true
	for _, family := range []struct{ name, folder string }{{"IPv4", "ipv4"}, {"IPv6", "ipv6"}} {
		var on, off []string
		for _, l := range append(slices.Clone(m.links), link{name: device}) {
			switch text, err := readSetting("net/" + family.folder + "/conf/" + l.name + "/forwarding"); {
			case l.name == "lo" || err != nil:
			case text == "1":
				on = append(on, l.name)
			default:
				off = append(off, l.name)
			}
		}
		switch {
		case len(off) == 0 && len(on) > 0:
			words = append(words, family.name+": on")
		case len(on) > 1: // for some links, as the plan may have it
			words = append(words, family.name+": on for "+strings.Join(slices.Compact(on), ", "))
		default:
			words = append(words, family.name+": off")
			forwards = false
		}
	}
	if forwards {
		c.add("forwarding", Fine, "", "%s", strings.Join(words, "; "))
		return
	}
	c.add("forwarding", Poor, "say machine: {settings: set} at the gateway in the plan: it is set then while the gateway runs, for people alone",
		"%s", strings.Join(words, "; "))
}

func (c *checks) clock() {
	var t unix.Timex
	state, err := unix.Adjtimex(&t)
	if err != nil || state != unix.TIME_ERROR {
		c.add("clock", Fine, "", "kept by a time server, %s", time.Now().UTC().Format(time.RFC3339))
		return
	}
	c.add("clock", Poor, "run a time service (timedatectl set-ntp true)", "no time server keeps it: certificates and one-time codes depend on it")
}

func (c *checks) names(ctx context.Context, name string) {
	if name == "" {
		return
	}
	bounded, stop := context.WithTimeout(ctx, 5*time.Second)
	defer stop()
	found, err := net.DefaultResolver.LookupNetIP(bounded, "ip", name)
	if err != nil {
		c.add("name "+name, Missing, "make it lead to this machine's public address", "it leads nowhere: %v", err)
		return
	}
	m, _ := look("")
	words := make([]string, len(found))
	here := false
	for i, a := range found {
		words[i] = fold.Addr(a).String()
		here = here || m.own.Contains(fold.Addr(a))
	}
	if !here {
		c.add("name "+name, Poor, "right where a router in front has that address and forwards UDP 500 and 4500; else correct the name",
			"it leads to %s, which is no address of this machine's", strings.Join(words, ", "))
		return
	}
	c.add("name "+name, Fine, "", "it leads here: %s", strings.Join(words, ", "))
}
