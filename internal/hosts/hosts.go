// Package hosts makes a site's description into real hosts: network namespaces of this machine, joined by links, with the system's own
// routers, name servers and web servers. The gateway is one of them, with its addresses and routes, and nothing of ours runs on it yet. It
// needs root, touches nothing but what it made, and takes all of it away again.
package hosts

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"yellowlantern/internal/lab"
)

// Names of the hosts that are not in the description.
const (
	Gateway = "gateway"
	wires   = "wires" // where the links meet
)

// Site is a built site.
type Site struct {
	d      *lab.Description
	tag    string
	folder string
	made   []string // namespaces
	etc    []string // folders under /etc/netns
	procs  []*exec.Cmd
	links  int
	offers []offered // that were started
}

// Laptop is the name of the device at a vantage, Home of its router.
func Laptop(vantage string) string { return "laptop-" + vantage }

// Home is the router of a vantage.
func Home(vantage string) string { return "home-" + vantage }

// Possible tells why this machine cannot make hosts; nil if it can.
func Possible() error {
	if os.Geteuid() != 0 {
		return errors.New("making network namespaces needs root")
	}
	for _, tool := range []string{"ip", "nft", "dnsmasq", "python3"} {
		if _, err := exec.LookPath(tool); err != nil {
			return fmt.Errorf("%s is missing: apt-get install iproute2 nftables dnsmasq-base python3", tool)
		}
	}
	return nil
}

// Build makes a site. tag is part of every name, so that several can stand beside each other: letters and digits, and, after a dot, the
// number of the process, if it is not the only one of its kind. What was made is taken away again if something fails.
func Build(ctx context.Context, d *lab.Description, tag, folder string) (*Site, error) {
	s := &Site{d: d, tag: tag, folder: folder}
	s.leftovers()
	err := s.build(ctx)
	if err == nil {
		err = s.open(ctx)
	}
	if err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// leftovers takes away what somebody left who was killed: of the same tag, and of tags that end with the number of a process that is gone.
func (s *Site) leftovers() {
	var gone Site
	for _, at := range []string{"/run/netns/", "/etc/netns/"} {
		all, _ := filepath.Glob(at + "yl-*")
		for _, path := range all {
			name := filepath.Base(path)
			if !strings.HasPrefix(name, s.Namespace("")) && !orphan(name) {
				continue
			}
			if at == "/run/netns/" {
				gone.made = append(gone.made, name)
			} else {
				gone.etc = append(gone.etc, path)
			}
		}
	}
	gone.Close()
}

// orphan tells whether a namespace was made by a process, named in its tag, that is gone.
func orphan(name string) bool {
	tag, _, _ := strings.Cut(strings.TrimPrefix(name, "yl-"), "-")
	_, number, ok := strings.Cut(tag, ".")
	pid, err := strconv.Atoi(number)
	return ok && err == nil && pid > 0 && syscall.Kill(pid, 0) != nil
}

// Namespace is the name of a host's network namespace.
func (s *Site) Namespace(host string) string { return "yl-" + s.tag + "-" + host }

// Command is a command on a host.
func (s *Site) Command(ctx context.Context, host string, args ...string) *exec.Cmd {
	return exec.CommandContext(ctx, "ip", append([]string{"netns", "exec", s.Namespace(host)}, args...)...)
}

// Run runs a command on a host, and gives what it printed.
func (s *Site) Run(ctx context.Context, host string, args ...string) (string, error) {
	cmd := s.Command(ctx, host, args...)
	var complaint bytes.Buffer
	cmd.Stderr = &complaint
	out, err := cmd.Output()
	if err != nil {
		return string(out), fmt.Errorf("%s: %s: %w: %s%s", host, strings.Join(args, " "), err, complaint.String(), bytes.TrimSpace(out))
	}
	return string(out), nil
}

// Start starts a command on a host; it ends with the site.
func (s *Site) Start(ctx context.Context, host string, args ...string) (*exec.Cmd, error) {
	cmd := s.Command(ctx, host, args...)
	return cmd, s.begin(cmd)
}

// begin starts a command that ends with the site.
func (s *Site) begin(cmd *exec.Cmd) error {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := cmd.Start(); err != nil {
		return err
	}
	s.procs = append(s.procs, cmd)
	return nil
}

func ip(ctx context.Context, args ...string) error {
	out, err := exec.CommandContext(ctx, "ip", args...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("ip %s: %w: %s", strings.Join(args, " "), err, bytes.TrimSpace(out))
	}
	return nil
}

// in runs ip in a host's namespace, one line of arguments after the other.
func (s *Site) in(ctx context.Context, host string, lines ...string) error {
	cmd := exec.CommandContext(ctx, "ip", "-n", s.Namespace(host), "-batch", "-")
	cmd.Stdin = strings.NewReader(strings.Join(lines, "\n") + "\n")
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("on %s: %w: %s\n%s", host, err, bytes.TrimSpace(out), strings.Join(lines, "\n"))
	}
	return nil
}

// host makes a namespace.
func (s *Site) host(ctx context.Context, name string) error {
	ns := s.Namespace(name)
	if err := ip(ctx, "netns", "add", ns); err != nil {
		return err
	}
	s.made = append(s.made, ns)
	if err := s.settings(ctx, name, "net.ipv6.conf.default.accept_dad=0"); err != nil { // nobody has to wait for addresses
		return err
	}
	return s.in(ctx, name, "link set lo up")
}

// settings sets a host's settings, each as key=value.
func (s *Site) settings(ctx context.Context, host string, all ...string) error {
	_, err := s.Run(ctx, host, append([]string{"sysctl", "-q", "-w"}, all...)...)
	return err
}

// plug joins a host to a segment by a link of the segment's name.
func (s *Site) plug(ctx context.Context, host, segment string, mtu int) error {
	s.links++
	far := fmt.Sprintf("p%d", s.links)
	ns := s.Namespace(wires)
	if err := ip(ctx, "-n", ns, "link", "add", far, "type", "veth", "peer", "name", segment, "netns", s.Namespace(host)); err != nil {
		return err
	}
	if err := s.in(ctx, wires, "link set "+far+" master "+segment+" up"); err != nil {
		return err
	}
	lines := []string{}
	if mtu > 0 {
		lines = append(lines, fmt.Sprintf("link set %s mtu %d", segment, mtu))
	}
	return s.in(ctx, host, append(lines, "link set "+segment+" up")...)
}

func (s *Site) segment(ctx context.Context, name string) error {
	return s.in(ctx, wires, "link add "+name+" type bridge", "link set "+name+" up")
}

// addresses gives a host its addresses on a segment, with the length of the segment's networks.
func (s *Site) addresses(ctx context.Context, host, segment string, all []netip.Addr) error {
	var lines []string
	for _, a := range all {
		bits := a.BitLen()
		for _, p := range s.d.Segments[segment] {
			if p.Contains(a) && p.Bits() > 0 {
				bits = p.Bits()
			}
		}
		lines = append(lines, fmt.Sprintf("addr add %s/%d dev %s", a, bits, segment))
	}
	return s.in(ctx, host, lines...)
}

// segmentOf is the inside segment that holds an address, or the internet.
func (s *Site) segmentOf(a netip.Addr) string {
	for name, prefixes := range s.d.Segments {
		if name != s.d.Gateway.Outside.Segment && slices.ContainsFunc(prefixes, func(p netip.Prefix) bool { return p.Contains(a) }) {
			return name
		}
	}
	return s.d.Gateway.Outside.Segment
}

func (s *Site) build(ctx context.Context) error {
	if err := s.host(ctx, wires); err != nil {
		return err
	}
	for name := range s.d.Segments {
		if err := s.segment(ctx, name); err != nil {
			return err
		}
	}
	for _, r := range s.d.Routers {
		if err := s.router(ctx, r); err != nil {
			return fmt.Errorf("router %s: %w", r.Name, err)
		}
	}
	if err := s.gateway(ctx); err != nil {
		return fmt.Errorf("gateway: %w", err)
	}
	for _, h := range s.d.Hosts {
		if err := s.machine(ctx, h); err != nil {
			return fmt.Errorf("host %s: %w", h.Name, err)
		}
	}
	for _, v := range s.d.Vantages {
		if err := s.vantage(ctx, v); err != nil {
			return fmt.Errorf("vantage %s: %w", v.Name, err)
		}
	}
	return nil
}

// onTheInternet puts a host on the segment where everybody is a neighbour.
func (s *Site) onTheInternet(ctx context.Context, host string, addresses []netip.Addr) error {
	internet := s.d.Gateway.Outside.Segment
	if err := s.plug(ctx, host, internet, 0); err != nil {
		return err
	}
	if err := s.addresses(ctx, host, internet, addresses); err != nil {
		return err
	}
	return s.in(ctx, host, "route add 0.0.0.0/0 dev "+internet, "route add ::/0 dev "+internet)
}

func (s *Site) router(ctx context.Context, r lab.Router) error {
	if err := s.host(ctx, r.Name); err != nil {
		return err
	}
	if err := s.settings(ctx, r.Name, "net.ipv4.ip_forward=1", "net.ipv6.conf.all.forwarding=1"); err != nil {
		return err
	}
	if err := s.several(ctx, r.Name, r.Addresses); err != nil {
		return err
	}
	return s.routes(ctx, r.Name, r.Routes)
}

// several gives a host addresses on as many segments as they lie on.
func (s *Site) several(ctx context.Context, host string, all []netip.Addr) error {
	by := map[string][]netip.Addr{}
	for _, a := range all {
		by[s.segmentOf(a)] = append(by[s.segmentOf(a)], a)
	}
	for segment, here := range by {
		if err := s.plug(ctx, host, segment, 0); err != nil {
			return err
		}
		if err := s.addresses(ctx, host, segment, here); err != nil {
			return err
		}
	}
	return nil
}

func (s *Site) routes(ctx context.Context, host string, all []lab.Route) error {
	lines := make([]string, len(all))
	for i, r := range all {
		lines[i] = fmt.Sprintf("route add %s via %s", r.To, r.Via)
	}
	return s.in(ctx, host, lines...)
}

func (s *Site) gateway(ctx context.Context) error {
	if err := s.host(ctx, Gateway); err != nil {
		return err
	}
	if err := s.onTheInternet(ctx, Gateway, s.d.Gateway.Outside.Addresses); err != nil {
		return err
	}
	return s.several(ctx, Gateway, s.d.Gateway.Inside.Addresses)
}

// machine makes a host of the description with what it offers.
func (s *Site) machine(ctx context.Context, h lab.Host) error {
	if err := s.host(ctx, h.Name); err != nil {
		return err
	}
	segment := s.segmentOf(h.Addresses[0])
	if segment == s.d.Gateway.Outside.Segment {
		if err := s.onTheInternet(ctx, h.Name, h.Addresses); err != nil {
			return err
		}
		return s.offer(ctx, h)
	}
	if err := s.plug(ctx, h.Name, segment, 0); err != nil {
		return err
	}
	if err := s.addresses(ctx, h.Name, segment, h.Addresses); err != nil {
		return err
	}
	var all []lab.Route
	for _, r := range h.Router {
		to := netip.PrefixFrom(netip.IPv4Unspecified(), 0)
		if r.Is6() {
			to = netip.PrefixFrom(netip.IPv6Unspecified(), 0)
		}
		all = append(all, lab.Route{To: to, Via: r})
	}
	if err := s.routes(ctx, h.Name, all); err != nil {
		return err
	}
	return s.offer(ctx, h)
}

// vantage makes a home router with a laptop behind it.
func (s *Site) vantage(ctx context.Context, v lab.Vantage) error {
	home, laptop := Home(v.Name), Laptop(v.Name)
	if err := s.host(ctx, home); err != nil {
		return err
	}
	if err := s.host(ctx, laptop); err != nil {
		return err
	}
	internet := s.d.Gateway.Outside.Segment
	var outside []netip.Addr
	if v.Outside.IsValid() {
		outside = append(outside, v.Outside)
	}
	if err := s.onTheInternet(ctx, home, outside); err != nil {
		return err
	}
	if err := s.settings(ctx, home, "net.ipv4.ip_forward=1", "net.ipv6.conf.all.forwarding=1", "net.ipv6.conf."+internet+".proxy_ndp=1",
		"net.ipv6.neigh."+internet+".proxy_delay=0"); err != nil {
		return err
	}
	if err := ip(ctx, "-n", s.Namespace(home), "link", "add", "home", "type", "veth", "peer", "name", "home", "netns",
		s.Namespace(laptop)); err != nil {
		return err
	}
	router := v.Prefix.Masked().Addr().Next()
	device := router
	for range 9 {
		device = device.Next()
	}
	mtu := 1500
	if v.MTU > 0 {
		mtu = v.MTU
	}
	flags, all := "", "0.0.0.0/0"
	if router.Is6() {
		flags, all = " nodad", "::/0"
		if err := s.in(ctx, home, "neigh add proxy "+device.String()+" dev "+internet); err != nil {
			return err
		}
	}
	if err := s.in(ctx, home, fmt.Sprintf("link set home mtu %d up", mtu), fmt.Sprintf("addr add %s/%d dev home%s", router,
		v.Prefix.Bits(), flags)); err != nil {
		return err
	}
	if err := s.in(ctx, laptop, fmt.Sprintf("link set home mtu %d up", mtu), fmt.Sprintf("addr add %s/%d dev home%s", device,
		v.Prefix.Bits(), flags),
		fmt.Sprintf("route add %s via %s", all, router)); err != nil {
		return err
	}
	var rules []string
	for _, d := range v.Drop {
		proto, port, _ := strings.Cut(d, "/")
		rules = append(rules, fmt.Sprintf("add rule inet home drops %s dport %s drop", proto, port))
	}
	if v.Translate {
		rules = append(rules, "add rule inet home out oifname "+internet+" masquerade")
	}
	if err := s.nft(ctx, home, append([]string{
		"add table inet home", "add chain inet home drops { type filter hook forward priority 0; }",
		"add chain inet home out { type nat hook postrouting priority 100; }",
	}, rules...)); err != nil {
		return err
	}
	if v.Forgets > 0 {
		seconds := max(1, int(time.Duration(v.Forgets).Seconds()))
		if err := s.settings(ctx, home, fmt.Sprintf("net.netfilter.nf_conntrack_udp_timeout=%d", seconds),
			fmt.Sprintf("net.netfilter.nf_conntrack_udp_timeout_stream=%d", seconds)); err != nil {
			return err
		}
	}
	return s.resolver(laptop, v.DNS)
}

func (s *Site) nft(ctx context.Context, host string, lines []string) error {
	cmd := s.Command(ctx, host, "nft", "-f", "-")
	cmd.Stdin = strings.NewReader(strings.Join(lines, "\n") + "\n")
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("nft on %s: %w: %s", host, err, out)
	}
	return nil
}

// resolver gives a host a resolv.conf of its own: ip netns exec puts it over the machine's.
func (s *Site) resolver(host string, servers []netip.Addr) error {
	folder := filepath.Join("/etc/netns", s.Namespace(host))
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	s.etc = append(s.etc, folder)
	var b strings.Builder
	for _, a := range servers {
		fmt.Fprintf(&b, "nameserver %s\n", a)
	}
	return os.WriteFile(filepath.Join(folder, "resolv.conf"), []byte(b.String()), 0o644)
}

// Close ends what runs on the hosts, and takes them away.
func (s *Site) Close() {
	for _, ns := range s.made {
		out, err := exec.Command("ip", "netns", "pids", ns).Output()
		if err != nil {
			continue
		}
		for _, pid := range strings.Fields(string(out)) {
			var n int
			if _, err := fmt.Sscan(pid, &n); err == nil && n > 1 {
				_ = syscall.Kill(n, syscall.SIGKILL)
			}
		}
	}
	for _, p := range s.procs {
		_ = p.Wait()
	}
	for _, ns := range s.made {
		_ = exec.Command("ip", "netns", "del", ns).Run()
	}
	for _, folder := range s.etc {
		_ = os.RemoveAll(folder)
	}
	_ = os.Remove("/etc/netns") // where it is empty
	s.made, s.etc, s.procs = nil, nil, nil
}
