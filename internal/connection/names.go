package connection

import (
	"errors"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"

	"yellowlantern/internal/dial"
)

const resolvConf = "/etc/resolv.conf"

// resolver is how the machine asks for names, as resolv.conf(5) says it.
type resolver struct {
	text    string
	servers []netip.Addr
	search  []string
}

func readResolver() (r resolver, err error) {
	b, err := os.ReadFile(resolvConf)
	if errors.Is(err, os.ErrNotExist) {
		return r, nil
	}
	r.text = string(b)
	for line := range strings.Lines(r.text) {
		words := strings.Fields(line)
		switch {
		case len(words) < 2:
		case words[0] == "nameserver":
			if a, err := netip.ParseAddr(words[1]); err == nil {
				r.servers = append(r.servers, a)
			}
		case words[0] == "search" || words[0] == "domain":
			r.search = append(r.search, words[1:]...)
		}
	}
	return r, err
}

// systemResolver tells whether the system's own resolver runs, which can ask different servers about different domains.
func systemResolver() bool {
	_, err := os.Stat("/run/systemd/resolve/stub-resolv.conf")
	if err == nil {
		_, err = exec.LookPath("resolvectl")
	}
	return err == nil
}

// asksSystemResolver tells whether resolv.conf leads to it: it may run beside a resolv.conf that somebody wrote.
func asksSystemResolver(r resolver) bool {
	to, err := os.Readlink(resolvConf)
	if err == nil && strings.Contains(to, "systemd/resolve/") {
		return true
	}
	return slices.ContainsFunc(r.servers, func(a netip.Addr) bool {
		return a == netip.AddrFrom4([4]byte{127, 0, 0, 53}) || a == netip.AddrFrom4([4]byte{127, 0, 0, 54})
	})
}

// names makes the machine ask the gateway's name servers. A plain resolv.conf knows no difference between domains: where the tunnel takes
// only some networks, its servers are asked first, and those from before after them.
func (m *machine) names(g dial.Given) error {
	if len(g.DNS) == 0 {
		return nil
	}
	if systemResolver() {
		if err := m.tellResolver(g); err != nil || asksSystemResolver(m.before) {
			return err
		}
	}
	var b strings.Builder
	fmt.Fprintf(&b, "# Written by yl dial (%s); what was here before comes back when it ends.\n", m.o.Name)
	for _, a := range g.DNS {
		fmt.Fprintf(&b, "nameserver %s\n", a)
	}
	search := g.Domains
	if !g.Full {
		for _, a := range m.before.servers {
			fmt.Fprintf(&b, "nameserver %s\n", a)
		}
		search = append(append([]string{}, search...), m.before.search...)
	}
	if len(search) > 0 {
		fmt.Fprintf(&b, "search %s\n", strings.Join(search, " "))
	}
	return os.WriteFile(resolvConf, []byte(b.String()), 0o644)
}

func (m *machine) tellResolver(g dial.Given) error {
	servers := []string{"dns", m.device}
	for _, a := range g.DNS {
		servers = append(servers, a.String())
	}
	// A domain without a tilde is also searched, which is how short names are found; either way only names below it are asked here.
	domains := append([]string{"domain", m.device}, g.Domains...)
	if g.Full {
		domains = append(domains, "~.")
	}
	everything := []string{"default-route", m.device, strconv.FormatBool(g.Full)}
	for _, args := range [][]string{servers, domains, everything} {
		if out, err := exec.Command("resolvectl", args...).CombinedOutput(); err != nil {
			return fmt.Errorf("the system's resolver: %w: %s", err, strings.TrimSpace(string(out)))
		}
	}
	return nil
}

// put puts back what a connection wrote over; what somebody else wrote since stays.
func (r resolver) put(name string) error {
	now, err := os.ReadFile(resolvConf)
	if err != nil || !strings.Contains(string(now), "yl dial ("+name+")") {
		return nil // the system's resolver forgets what belongs to a device with it
	}
	return os.WriteFile(resolvConf, []byte(r.text), 0o644)
}
