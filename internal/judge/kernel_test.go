package judge

import (
	"encoding/binary"
	"fmt"
	"log/slog"
	"net/netip"
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"github.com/ti-mo/conntrack"
	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"
	"pgregory.net/rapid"

	"yellowlantern/internal/core/forward"
	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/packet"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/core/site"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/inside/linux"
	"yellowlantern/internal/tun"
)

// inNamespace says that this process was put into a network namespace of its own.
const inNamespace = "YL_IN_NAMESPACE"

// Real packets fare in a kernel as the page says: there, back, from inside, exempt and translated, IPv4 and IPv6. Each random plan is given
// to a machine whose links are TUN devices of the test; what the gateway's own path lets through is handed to the kernel, and what comes
// out at which link is held against the page.
func TestKernelAgrees(t *testing.T) {
	if os.Getenv(inNamespace) == "" {
		if os.Geteuid() != 0 {
			if os.Getenv("CI") != "" {
				t.Fatal("this test needs root")
			}
			t.Skip("this test needs root")
		}
		ns := fmt.Sprintf("yl-judge.%d-kernel", os.Getpid())
		require.NoError(t, exec.Command("ip", "netns", "add", ns).Run())
		defer func() { _ = exec.Command("ip", "netns", "del", ns).Run() }()
		args := append([]string{"netns", "exec", ns}, os.Args[0], "-test.run=^TestKernelAgrees$", "-test.v", "-rapid.checks="+checks(),
			"-rapid.nofailfile", "-rapid.shrinktime=0s")
		cmd := exec.Command("ip", args...)
		cmd.Env = append(os.Environ(), inNamespace+"=1")
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", last(string(out), 60000))
		for line := range strings.Lines(string(out)) {
			if strings.Contains(line, "plans") {
				t.Log(strings.TrimSpace(line))
			}
		}
		return
	}
	require.NoError(t, exec.Command("ip", "link", "set", "lo", "up").Run())
	seen := map[string]int{}
	folder := t.TempDir()
	n := 0
	judge := func(t *rapid.T) {
		p := randomPlan(t)
		for i := range p.Gateways {
			p.Gateways[i].Machine = &plan.Machine{Settings: plan.SetThem}
		}
		if n++; tame(p) {
			seen["tamed"]++
		}
		if rapid.Bool().Draw(t, "let out") { // or little leaves
			p.Rules = append(p.Rules, plan.Rule{Name: "out", Action: "permit", To: []string{"any"}, Services: []string{"any"}})
			some := plan.Translation{
				Name: "some", Gateway: "gw", Action: pick(t, []string{"exempt", "exempt", "translate"}, "what some are"),
				From: []string{pick(t, []string{"pool0", "10.99.0.0/30", "fd00:99::/126"}, "some of them")},
				To:   []string{pick(t, []string{"any", "10.0.0.0/8", "203.0.113.0/24", "internet"}, "to some")},
			}
			if some.Action == "translate" {
				some.Address = netip.MustParseAddr("192.0.2.88")
			}
			p.NAT = append([]plan.Translation{some}, append(p.NAT, plan.Translation{Name: "all", Gateway: "gw", Action: "translate"})...)
		}
		if rapid.IntRange(0, 3).Draw(t, "let in") == 0 {
			p.Rules = append(p.Rules, plan.Rule{Name: "in", Action: "permit", From: []string{"any"}, Services: []string{"any"}})
			p.NAT = append([]plan.Translation{{
				Name: "as-another", Gateway: "gw", Action: "translate", To: []string{p.Pools[0].Name}, Address: netip.MustParseAddr("192.0.2.77"),
			}}, p.NAT...)
		}
		k, held := newKernel(p, folder, n)
		if k != nil {
			defer k.close()
		}
		seen[held]++
		if held == "held" {
			k.compare(t, seen)
		}
	}
	var unseen []string
	for range 5 { // some are rare
		rapid.Check(t, judge)
		unseen = slices.DeleteFunc(slices.Clone(allOutcomes), func(what string) bool { return seen[what] > 0 })
		if t.Failed() || len(unseen) == 0 {
			break
		}
	}
	if t.Failed() {
		return
	}
	t.Logf("plans: %d held; not: %v", seen["held"], seen)
	require.Empty(t, unseen, "nothing was seen of these: %v", seen)
}

// allOutcomes are what some packet must have come to.
var allOutcomes = []string{
	"held", "leaves", "leaves: translated", "answered", "lost by the kernel: translation", "self", "comes", "comes: translated", "lost by the kernel: origin",
	"comes by another link", "IPv6",
}

func checks() string {
	if n := os.Getenv("YL_KERNEL_PLANS"); n != "" {
		return n
	}
	return "120"
}

func last(text string, n int) string { return text[max(0, len(text)-n):] }

// kernel is a machine that a plan was given to.
type kernel struct {
	p        *plan.Plan
	m        *site.Model
	judge    naive
	port     *linux.Port
	links    map[string]*tun.Device // by network, or internet
	arrived  chan []byte            // at the gateway's device
	tracking *conntrack.Conn
}

// newKernel makes links as the plan has attachments, and gives the plan to the machine. What a kernel cannot hold of it is said.
func newKernel(p *plan.Plan, folder string, n int) (*kernel, string) {
	m, err := site.Compile(p, "gw")
	if err != nil {
		return nil, err.Error()
	}
	k := &kernel{p: p, m: m, judge: naive{p, &p.Gateways[0]}, links: map[string]*tun.Device{}, arrived: make(chan []byte, 64)}
	for i, at := range p.Gateways[0].Inside {
		if err := k.link(at.Network, fmt.Sprintf("n%d", i), at.Addresses); err != nil {
			return k, "a link that cannot be made"
		}
	}
	if err := k.link(plan.Internet, "out", p.Gateways[0].Outside.Addresses); err != nil {
		return k, "a link that cannot be made"
	}
	for _, all := range []string{"0.0.0.0/0", "::/0"} {
		if exec.Command("ip", "route", "add", all, "dev", "out", "metric", "2000").Run() != nil {
			return k, "no default route"
		}
	}
	if k.tracking, err = conntrack.Dial(nil); err != nil {
		return k, err.Error()
	}
	if k.port, err = linux.Open(linux.Config{
		Device: fmt.Sprintf("yl%d", n), Folder: folder,
		Log: slog.New(slog.DiscardHandler),
	}); err != nil {
		return k, err.Error()
	}
	k.port.Plug(linux.Deliver{
		Packets: func(batch []inside.Packet, _ bool) {
			for _, x := range batch {
				select {
				case k.arrived <- slices.Clone(x.Bytes()):
				default:
				}
			}
		},
		Own: func(netset.Addrs) {},
	})
	if o := k.port.Apply(m.Wanted()); !o.OK() {
		return k, string(o.Problems[0].Code)
	}
	return k, "held"
}

// tame gives a random plan's gateway what every machine has: one attachment to each network, with addresses of its own within its prefixes.
// It says whether anything had to be changed.
func tame(p *plan.Plan) (changed bool) {
	g := &p.Gateways[0]
	judge := naive{p, g}
	taken := map[netip.Addr]bool{}
	var out []plan.Attachment
	for _, at := range g.Inside {
		net := judge.network(at.Network)
		if net == nil || len(net.Prefixes) == 0 || slices.ContainsFunc(out,
			func(o plan.Attachment) bool { return o.Network == at.Network }) {
			changed = true
			continue
		}
		one := plan.Attachment{Network: at.Network}
		for _, a := range at.Addresses {
			if !taken[a] && judge.home(a) == net {
				taken[a] = true
				one.Addresses = append(one.Addresses, a)
			}
		}
		if changed = changed || len(one.Addresses) != len(at.Addresses); len(one.Addresses) == 0 {
			a := net.Prefixes[0].Masked().Addr().Next()
			for taken[a] {
				a = a.Next()
			}
			taken[a] = true
			one.Addresses = []netip.Addr{a}
		}
		out = append(out, one)
	}
	g.Inside = out
	return changed
}

// link makes a TUN device as a link of the machine, with addresses and the routes to its network.
func (k *kernel) link(network, name string, addresses []netip.Addr) error {
	d, err := tun.Open(name, tun.How{Plain: true})
	if err != nil {
		return err
	}
	k.links[network] = d
	_ = os.WriteFile("/proc/sys/net/ipv6/conf/"+name+"/addr_gen_mode", []byte("1"), 0o644)
	l, err := netlink.LinkByName(name)
	if err != nil {
		return err
	}
	if err := netlink.LinkSetUp(l); err != nil {
		return err
	}
	for _, a := range addresses {
		one := &netlink.Addr{IPNet: netlink.NewIPNet(a.AsSlice()), Flags: unix.IFA_F_NODAD | unix.IFA_F_NOPREFIXROUTE}
		if err := netlink.AddrAdd(l, one); err != nil {
			return err
		}
	}
	if net := k.judge.network(network); net != nil {
		for _, p := range net.Prefixes {
			if err := exec.Command("ip", "route", "add", p.Masked().String(), "dev", name, "scope", "link").Run(); err != nil {
				return err
			}
		}
	}
	return nil
}

func (k *kernel) close() {
	if k.port != nil {
		_ = k.port.Close()
	}
	for _, d := range k.links {
		d.Close()
	}
	if k.tracking != nil {
		_ = k.tracking.Close()
	}
}

// compare sends random packets both ways.
func (k *kernel) compare(t *rapid.T, seen map[string]int) {
	groups := append(some(t, []string{"a", "b", "c"}, 2, "my groups"), pick(t, []string{"a", "b", "c"}, "my group"))
	slices.Sort(groups)
	groups = slices.Compact(groups)
	class := k.m.Class(groups)
	if class.Passage == nil {
		return
	}
	leased := lease(t, class.Passage.Pool)
	dsts := edges(k.p)
	at := moments[rapid.IntRange(0, len(moments)-1).Draw(t, "moment")]
	now := moment{day: int(at.Weekday()+6) % 7, minute: at.Hour()*60 + at.Minute()}
	for range 40 {
		x := randomPacket(t, leased, dsts)
		x = x.marked()
		if want := k.judge.judge(groups, leased, x, now); want.carried == "" ||
			want.carried == "translation" { // the rest is our own path's
			k.outward(t, groups, leased, x, want, at, seen)
		}
	}
	for range 10 {
		k.inward(t, groups, leased, randomInward(t, k.judge, leased, dsts).marked(), now, at, seen)
	}
}

// engine is our own path for one packet, in front of the kernel, with a session of a person.
func (k *kernel) engine(groups []string, leased []netip.Addr) (*forward.Engine, *forward.Session) {
	mark++
	_ = k.tracking.Flush() // each packet by itself
	k.drain()
	e := forward.New(k.m, &session.Table{})
	e.ByKernel = true
	s := holding(groups, leased)
	attach(e, s)
	return e, s
}

func (k *kernel) drain() {
	k.leave("")
	for len(k.arrived) > 0 {
		<-k.arrived
	}
}

// leave reads what comes out at the links, and gives the packets at one of them.
func (k *kernel) leave(network string) (out [][]byte) {
	for name, d := range k.links {
		r := d.Reader(0)
		for batch := r.Poll(); len(batch) > 0; batch = r.Poll() {
			for _, p := range batch {
				if name == network {
					out = append(out, slices.Clone(p.Bytes()))
				}
			}
		}
	}
	return out
}

// leaves is the packet towards an address that came out at a link, put together if it came in parts; nil if none did.
func (k *kernel) leaves(network string, dst netip.Addr) []byte {
	var parts [][]byte
	for _, b := range k.leave(network) {
		if i, err := packet.Parse(b); err == nil && i.Dst == dst && len(b) <= 1500 {
			if parts = append(parts, b); binary.BigEndian.Uint32(b[len(b)-4:]) == mark {
				return join(parts)
			}
		}
	}
	return nil
}

// comes is the packet towards a person that came to the gateway's device, in parts if it came so; nil if none did in time.
func (k *kernel) comes(dst netip.Addr, wait time.Duration) (parts [][]byte) {
	end := time.After(wait)
	for {
		select {
		case b := <-k.arrived:
			if i, err := packet.Parse(b); err == nil && i.Dst == dst {
				if parts = append(parts, b); binary.BigEndian.Uint32(b[len(b)-4:]) == mark {
					return parts
				}
			}
		case <-end:
			return nil
		}
	}
}

const (
	patience = 300 * time.Millisecond // for what must come
	silence  = 3 * time.Millisecond   // for what must not: the kernel forwards within the call that hands it a packet
)

func (k *kernel) outward(t *rapid.T, groups []string, leased []netip.Addr, x probePacket, want ruling, at time.Time, seen map[string]int) {
	e, s := k.engine(groups, leased)
	got := inParts(x, octets(x), func(b []byte) forward.Result { return e.FromTunnel(s, b, at) })
	if want.self {
		seen["self"]++
		return
	}
	if want.carried == "translation" { // our own path loses it; and if it did not, so would the kernel
		require.Equal(t, want.carried, got.Station)
		if x.size <= 1400 {
			k.port.Send([]gateway.Frames{{Packets: []inside.Packet{inside.Roomy(octets(x))}}})
		}
		seen["lost by the kernel: translation"]++
		for network := range k.links {
			require.Nil(t, k.leaves(network, x.dst), "%s must be lost: there is nothing to translate it to", x)
		}
		return
	}
	require.NotNil(t, got.Inside, "%s: %+v", x, got)
	k.send(got)
	out := k.leaves(want.out, x.dst)
	if x.tooLarge(1500) {
		require.Nil(t, out, "%s must not leave: it is not to be cut", x)
		seen["too large"]++
		return
	}
	require.NotNil(t, out, "%s must leave by %s as %s\n%s", x, want.out, want.src, k.rules())
	i, err := packet.Parse(out)
	require.NoError(t, err)
	require.Equal(t, want.src, i.Src, "%+v\n%s", x, k.rules())
	require.EqualValues(t, x.hops-1, i.HopLimit)
	seen["leaves"]++
	if want.src != x.src {
		seen["leaves: translated"]++
	}
	if x.dst.Is6() {
		seen["IPv6"]++
	}
	if x.proto == 1 && x.kind == 13 {
		return // whether a kernel follows what is so old is its own business
	}
	answer := answerTo(out)
	k.write(t, want.out, answer)
	if len(answer) > 1400 && (answer[0]>>4 == 6 || answer[6]&0x40 != 0) && len(answer) <= 1500 {
		require.Nil(t, k.comes(x.src, silence), "the answer to %s is not to be cut", x)
		seen["answer too large"]++
		return
	}
	back := k.comes(x.src, patience)
	require.NotNil(t, back, "the answer to %s\n%s", x, k.rules())
	if len(back) > 1 {
		seen["answered in parts"]++
	}
	r := oneByOne(back, func(b []byte) forward.Result { return e.FromInside(b, false, at) })
	require.Same(t, s, r.Session, "%+v: %+v", x, r)
	i, err = packet.Parse(r.Packet)
	require.NoError(t, err)
	require.Equal(t, []netip.Addr{x.dst, x.src}, []netip.Addr{i.Src, i.Dst})
	if x.proto == 6 || x.proto == 17 {
		require.EqualValues(t, 40000, i.DstPort)
	}
	seen["answered"]++
	for network := range k.links {
		if !slices.Contains(k.judge.ways(x.dst), network) {
			k.write(t, network, answer)
			require.Nil(t, k.comes(x.src, silence), "the answer to %s came by %s", x, network)
			seen["comes by another link"]++
		}
	}
	e.Detach(s, reason.Of(reason.TrialOver, nil))
}

func (k *kernel) inward(t *rapid.T, groups []string, leased []netip.Addr, x probePacket, now moment, at time.Time, seen map[string]int) {
	if !slices.Contains(leased, x.dst) {
		return
	}
	e, s := k.engine(groups, leased)
	var names []string
	for name := range k.links {
		names = append(names, name)
	}
	slices.Sort(names)
	by := pick(t, names, "by link")
	if ways := k.judge.ways(x.src); len(ways) > 0 && likely(t, "by the right link") {
		by = pick(t, ways, "by which")
	}
	right := slices.Contains(k.judge.ways(x.src), by)
	want := k.judge.inward(groups, leased, x, now, by == plan.Internet)
	if want.carried == "" && !right {
		want.carried = "origin"
	}
	if x.fragment {
		for _, b := range split(octets(x), 1232) {
			k.links[by].Write(b)
		}
	} else {
		k.links[by].Write(octets(x))
	}
	wait := silence
	if want.carried == "" {
		wait = patience
	}
	got := k.comes(x.dst, wait)
	if x.proto == 58 && x.kind >= 133 && x.kind <= 137 && got != nil {
		require.NotEmpty(t, oneByOne(got, func(b []byte) forward.Result { return e.FromInside(b, false, at) }).Station,
			"the kernel follows no neighbour discovery (RFC 4861); no rule lets it in")
		return
	}
	switch want.carried {
	case "origin", "translation":
		require.Nil(t, got, "%s by %s must be lost at %s\n%s", x, by, want.carried, k.rules())
		seen["lost by the kernel: "+want.carried]++
		return
	}
	if got == nil && want.carried != "" {
		return // the kernel does not forward everything that no rule would let in
	}
	require.NotNil(t, got, "%s by %s\n%s", x, by, k.rules())
	r := oneByOne(got, func(b []byte) forward.Result { return e.FromInside(b, false, at) })
	require.Equal(t, want.carried, r.Station, "%s by %s: %+v", x, by, r)
	if want.carried != "" {
		return
	}
	require.Same(t, s, r.Session)
	i, err := packet.Parse(r.Packet)
	require.NoError(t, err)
	require.Equal(t, []netip.Addr{want.src, x.dst}, []netip.Addr{i.Src, i.Dst})
	seen["comes"]++
	if want.src != x.src {
		seen["comes: translated"]++
	}
	if x.proto == 1 && x.kind == 13 {
		return
	}
	back := inParts(x, answerTo(r.Packet), func(b []byte) forward.Result { return e.FromTunnel(s, b, at) })
	require.NotNil(t, back.Inside, "%+v", back)
	k.send(back)
	require.NotNil(t, k.leaves(want.out, x.src), "the person's answer to %s leaves by %s\n%s", x, want.out, k.rules())
}

// marked is a packet that a kernel forwards, and whose last part has room for the mark.
func (k probePacket) marked() probePacket {
	if k.hops = 64; k.size > 1500 && k.size < 1600 {
		k.size = 1600
	}
	return k
}

// send gives the kernel what our own path lets through.
func (k *kernel) send(r forward.Result) {
	for _, b := range r.Parts(r.Packet) {
		k.port.Send([]gateway.Frames{{Egress: r.Inside, Packets: []inside.Packet{inside.Roomy(b)}}})
	}
}

// write lets a packet come by a link, in parts where the link carries less.
func (k *kernel) write(t *rapid.T, network string, b []byte) {
	parts := [][]byte{b}
	if len(b) > 1500 {
		parts = split(b, 1232)
	}
	for _, x := range parts {
		k.links[network].Write(x)
	}
}

// String writes a packet for people.
func (k probePacket) String() string {
	return fmt.Sprintf("%s -> %s proto %d port %d type %d, %d octets, in parts %t, not to be cut %t", k.src, k.dst, k.proto, k.port, k.kind,
		k.size, k.fragment, k.keep)
}

func (k *kernel) rules() string {
	out, _ := exec.Command("sh", "-c", "nft list ruleset; ip route; ip -6 route").CombinedOutput()
	return string(out)
}
