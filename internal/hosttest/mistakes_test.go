package hosttest

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"yellowlantern/internal/app/diagnosis"
	"yellowlantern/internal/app/standing"
	"yellowlantern/internal/core/check"
	"yellowlantern/internal/hosts"
	"yellowlantern/internal/testkit/certainty"
	"yellowlantern/internal/testkit/directoryserver"
	"yellowlantern/internal/testkit/radiusserver"
)

// mistake is one that administrators make, put on a real host; what somebody complains of then, and which cause must come first.
type mistake struct {
	name      string
	plan      []string // pairs of what is replaced and by what
	put       func(g *installed) (undo func())
	vantage   string // home if not given
	user      string // rory.researcher if not given
	complaint string
	to, by    string
	url       string // what the person opens, if they connect
	codes     []string
	atCommit  bool   // it is refused, so that nobody meets it
	group     string // of somebody whom the service does not know yet
	works     bool   // our own client copes: the page opens, and packets of any size arrive
}

// seen is what was said of a mistake.
type seen struct {
	name, device, status, journal, cause string
	sure                                 int
	right                                bool
	took                                 time.Duration
}

var (
	seenMu  sync.Mutex
	seenAll []seen
	bands   certainty.Bands
)

// points are the states of status that are not right.
func (g *installed) points() (out []string) {
	g.t.Helper()
	all := struct{ Points []standing.Point }{}
	text, _ := g.ask("--json", "status")
	require.NoError(g.t, json.Unmarshal([]byte(text), &all))
	for _, p := range all.Points {
		if p.State != standing.Right {
			out = append(out, p.Name+": "+p.Words)
		}
	}
	return out
}

// lines are the newest lines of the journal that are no changes of an administrator, newest first.
func (g *installed) lines(since time.Time) (out []string) {
	g.t.Helper()
	var all []struct {
		Time        time.Time
		Kind, Words string
	}
	text, _ := g.ask("--json", "journal", "--limit", "40")
	for line := range strings.Lines(text) {
		one := all[:0:0]
		if json.Unmarshal([]byte("["+line+"]"), &one) == nil {
			all = append(all, one...)
		}
	}
	if len(all) == 0 {
		_ = json.Unmarshal([]byte(text), &all)
	}
	for _, l := range all {
		if l.Time.After(since) && l.Kind != "change" && l.Kind != "commit" {
			out = append(out, l.Kind+": "+l.Words)
		}
	}
	return out
}

// meet puts a mistake on the host, has the person try, and asks what is wrong.
func (g *installed) meet(m mistake) {
	g.t.Helper()
	t := g.t
	vantage, user := m.vantage, m.user
	if vantage == "" {
		vantage = "home"
	}
	if user == "" {
		user = "rory.researcher"
	}
	laptop := hosts.Laptop(vantage)
	before, since := g.points(), time.Now()
	refused := ""
	kit := func() string {
		if m.group == "" {
			return g.kit(user)
		}
		path := g.in(user + ".kit")
		_ = os.Remove(path)
		g.yl("probe", "kit", "--user", user, "--group", m.group, path)
		return path
	}
	if len(m.plan) > 0 {
		text := g.demo.Plan
		for i := 0; i < len(m.plan); i += 2 {
			require.Contains(t, text, m.plan[i])
			text = strings.Replace(text, m.plan[i], m.plan[i+1], 1)
		}
		if refused = g.refused(text); refused != "" { // and what follows for who has no expectations
			text, _, _ = strings.Cut(text, "expectations:\n")
		}
		if m.atCommit || g.refused(text) != "" {
			g.record(m, seen{name: m.name, status: "commit refused: " + refused, cause: refused})
			return
		}
	}
	made, undo := kit(), func() {}
	if m.put != nil {
		undo = m.put(g)
	}
	s := seen{name: m.name}
	dial := []string{"timeout", "40", yl, "dial", "up", "--background", "--name", vantage, "--password-file", g.file(user), made}
	_, err := g.Run(t.Context(), laptop, dial...)
	if err == nil {
		s.device = "connected"
		if m.url != "" {
			_, err = g.fetch(laptop, m.url)
		}
	}
	if err != nil {
		lines := strings.Split(strings.TrimSpace(err.Error()), "\n")
		s.device = lines[len(lines)-1]
		for _, program := range []string{"curl: ", "yl: "} {
			if _, after, found := strings.Cut(s.device, ": "+program); found {
				s.device = program + after
			}
		}
	}
	if m.works {
		require.Equal(t, "connected", s.device, m.name)
		for _, size := range []string{"1100", "1300", "3000"} {
			out, err := g.Run(t.Context(), laptop, "ping", "-c", "2", "-i", "0.2", "-W", "2", "-s", size, "10.20.30.5")
			require.NoError(t, err, "%s: %s octets: %s", m.name, size, out)
			require.Contains(t, out, " 0% packet loss")
		}
	}
	args := []string{"--json", "diagnose", user, "--complaint", m.complaint}
	if m.to != "" {
		args = append(args, "--to", m.to)
	}
	if m.by != "" {
		args = append(args, "--service", m.by)
	}
	began := time.Now()
	out, err := g.ask(args...)
	s.took = time.Since(began)
	var d diagnosis.Diagnosis
	if json.Unmarshal([]byte(out), &d) == nil && len(d.Causes) > 0 {
		first := d.Causes[0]
		s.cause, s.sure = first.Code+": "+first.Words, first.Sure
	} else {
		s.cause = fmt.Sprint(err)
	}
	for _, p := range g.points() {
		if !slices.Contains(before, p) && !strings.HasPrefix(p, "clock: ") { // which shows another time
			s.status = p
			break
		}
	}
	for _, l := range slices.Backward(g.lines(since)) {
		if !strings.HasPrefix(l, "login:") {
			s.journal = l
			break
		}
	}
	_, _ = g.Run(t.Context(), laptop, yl, "dial", "down", vantage)
	undo()
	if len(m.plan) > 0 {
		g.commit(g.demo.Plan)
	}
	if refused != "" {
		s.status = "commit refused: " + refused
	}
	g.record(m, s)
	bands.Count(d.Causes, func(code string) bool { return slices.Contains(m.codes, code) })
	if !slices.Contains(m.codes, strings.SplitN(s.cause, ":", 2)[0]) {
		for _, c := range d.Causes {
			t.Logf("      %d %s: %s", c.Sure, c.Code, c.Words)
		}
	}
}

// refused commits a plan, or gives the first finding that keeps it from being committed.
func (g *installed) refused(text string) string {
	g.t.Helper()
	path := filepath.Join(g.folder, "plan.yaml")
	require.NoError(g.t, os.WriteFile(path, []byte(text), 0o600))
	_, _ = g.ask("plan", "load", path)
	_, err := g.ask("plan", "commit", "-m", "a mistake", "--accept", "all", "--because", "it is a trial")
	if err == nil {
		return ""
	}
	var all struct{ Findings []check.Finding }
	out, _ := g.ask("--json", "plan", "check")
	require.NoError(g.t, json.Unmarshal([]byte(out), &all), "%v %s", err, out)
	for _, f := range all.Findings {
		if f.Severity == check.Stop {
			return f.Code + ": " + f.Problem
		}
	}
	return err.Error()
}

// record keeps what was said of a mistake; the first cause must be the right one.
func (g *installed) record(m mistake, s seen) {
	g.t.Helper()
	code, _, _ := strings.Cut(s.cause, ":")
	s.right = slices.Contains(m.codes, code)
	if s.name == "" {
		return
	}
	s.cause = strings.ReplaceAll(s.cause, g.folder, "…")
	seenMu.Lock()
	seenAll = append(seenAll, s)
	seenMu.Unlock()
	require.True(g.t, s.right, "%s: first is %s", m.name, s.cause)
	g.t.Logf("%s: right %v, sure %d, %.1f s\n   device:  %s\n   status:  %s\n   journal: %s\n   first:   %s", s.name, s.right, s.sure,
		s.took.Seconds(), s.device, s.status, s.journal, s.cause)
}

// drops adds a table of somebody else's.
func drops(chain string) func(g *installed) func() {
	return func(g *installed) func() {
		g.on(hosts.Gateway, "nft", "add table inet fw; add chain inet fw one { type filter hook "+chain)
		return func() { g.on(hosts.Gateway, "nft", "delete", "table", "inet", "fw") }
	}
}

// small has a home router lose what is larger, without a word. Nothing goes joined on the way to it: it would be looked at as one.
func small(octets int) func(g *installed) func() {
	return func(g *installed) func() {
		single := func(on bool) {
			most := map[bool]string{true: "1", false: "65535"}[on]
			g.on(hosts.Gateway, "ip", "link", "set", "internet", "gso_max_segs", most)
			g.on(hosts.Laptop("home"), "ip", "link", "set", "home", "gso_max_segs", most)
		}
		single(true)
		g.on(hosts.Home("home"), "nft", fmt.Sprintf("add chain inet home small { type filter hook forward priority 0; };"+
			"add rule inet home small meta length > %d drop", octets))
		return func() {
			g.on(hosts.Home("home"), "nft", "flush chain inet home small; delete chain inet home small")
			single(false)
		}
	}
}

var research = "    pool: staff\n    dns: {servers: [10.20.0.53], search: [tern.example]}\n    routes: {split: [station, archive]}"

var inPlans = []mistake{
	{name: "pool equal to the home network", plan: []string{"prefixes: [10.99.0.0/24,", "prefixes: [192.168.77.0/24,"}, complaint: "reaches-nothing", url: "http://records.tern.example/", codes: []string{"unusable-at-device"}},
	{name: "exemption missing", plan: []string{"  - {name: keep-inside,", "  # - {name: keep-inside,"}, complaint: "reaches-some", to: "records", url: "http://records.tern.example/", codes: []string{"translation-catches-inside"}, atCommit: true},
	{name: "DNS suffix missing", plan: []string{research, strings.Replace(research, ", search: [tern.example]", "", 1)}, complaint: "names-fail", to: "records", url: "http://records/", codes: []string{"no-search-domain"}},
	{name: "rule missing", plan: []string{"  - {name: archive, action: permit", "  # - {name: archive, action: permit"}, complaint: "reaches-some", to: "records", url: "http://records.tern.example/", codes: []string{"no-rule"}},
	{name: "overlapping passages", plan: []string{"  - name: research\n", "  - {name: visits, groups: [researchers], tunnels: [main], pool: guests, dns: {servers: [10.20.0.53]}, routes: {split: [names]}, second-factor: {waived: \"they are here for a day\"}}\n  - name: research\n"}, complaint: "reaches-some", to: "records", url: "http://10.20.30.5/", codes: []string{"needed-not-routed"}, atCommit: true},
	{name: "group without passage", put: func(g *installed) func() {
		g.yl("users", "change", "rory.researcher", "--group", "on-leave", "--new-group")
		return func() { g.yl("users", "change", "rory.researcher", "--group", "researchers") }
	}, complaint: "cannot-connect", codes: []string{"no-passage"}},
	{name: "account expired", put: func(g *installed) func() {
		g.yl("users", "change", "rory.researcher", "--until", "2020-01-01")
		return func() { g.yl("users", "change", "rory.researcher", "--until", "") }
	}, complaint: "cannot-connect", codes: []string{"person-over"}},
	{name: "private address in a kit", plan: []string{"dial: gate.tern.example", "dial: 10.20.0.1"}, complaint: "cannot-connect", codes: []string{"dial-private"}, atCommit: true},
	{name: "certificate name", put: func(g *installed) func() {
		g.yl("certificate", "make", "gate", "--for", "other.tern.example", "--replace")
		return func() { g.yl("certificate", "make", "gate", "--for", "gate.tern.example", "--replace") }
	}, complaint: "cannot-connect", codes: []string{"status-certificate"}},
	{name: "MSS clamp off", plan: []string{"    certificate: gate\n", "    certificate: gate\n    keep-mss: true\n"}, complaint: "slow", url: "http://records.tern.example/large/200", codes: []string{"segments-do-not-fit"}},
}

var onHosts = []mistake{
	{name: "link down", put: func(g *installed) func() {
		g.on(hosts.Gateway, "ip", "link", "set", "station", "down")
		return func() {
			g.on(hosts.Gateway, "sh", "-c", "ip link set station up; ip addr replace fd00:20::1/64 dev station")
		}
	}, complaint: "reaches-nothing", url: "http://records.tern.example/", codes: []string{"link-down"}},
	{name: "foreign table with policy drop", put: drops("forward priority 0; policy drop; }"), complaint: "reaches-nothing", url: "http://records.tern.example/", codes: []string{"others-drop"}},
	{name: "one foreign drop rule, forwarded", put: drops("forward priority 0; }; add rule inet fw one tcp dport 80 drop"), complaint: "reaches-some", to: "records", url: "http://records.tern.example/", codes: []string{"others-drop-service"}},
	{name: "one foreign drop rule, UDP 500", put: drops("input priority 0; }; add rule inet fw one udp dport 500 drop"), complaint: "cannot-connect", codes: []string{"others-drop-service"}},
	{name: "asymmetric return", put: func(g *installed) func() {
		g.on("ridge", "ip", "route", "add", "10.99.0.0/24", "via", "10.20.0.30")
		return func() { g.on("ridge", "ip", "route", "del", "10.99.0.0/24") }
	}, complaint: "reaches-some", to: "records", url: "http://records.tern.example/", codes: []string{"network-silent"}},
}

var onTheWay = []mistake{
	{name: "wrong forward", put: func(g *installed) func() {
		g.on(hosts.Home("home"), "nft", "add chain inet home wrong { type nat hook prerouting priority -100; };"+
			"add rule inet home wrong ip daddr 192.0.2.10 udp dport { 500, 4500 } dnat ip to 198.51.100.53; add rule inet home wrong ip daddr 192.0.2.10 tcp dport 443 dnat ip to 198.51.100.53")
		return func() { g.on(hosts.Home("home"), "nft", "flush chain inet home wrong; delete chain inet home wrong") }
	}, complaint: "cannot-connect", codes: []string{"nobody-arrives"}},
	{name: "path MTU 1400, ICMP filtered", put: small(1400), complaint: "slow", url: "http://records.tern.example/large/200", codes: []string{"path-mtu"}, works: true},
	{name: "path MTU 1280, ICMP filtered", put: small(1280), complaint: "slow", url: "http://records.tern.example/large/200", codes: []string{"path-mtu"}, works: true},
	{name: "path MTU 1200, ICMP filtered", put: small(1200), complaint: "slow", url: "http://records.tern.example/large/200", codes: []string{"path-mtu"}, works: true},
}

// Mistakes that administrators make are put on real hosts; what diagnosis says first is the cause.
func TestMistakes(t *testing.T) {
	t.Cleanup(func() {
		t.Logf("certainty; TestDiagnose has enough answers to hold it to something\n%s", &bands)
		if path := os.Getenv("YL_MISTAKES"); path != "" {
			require.NoError(t, os.WriteFile(filepath.Clean(path), []byte(page()), 0o600))
		}
	})
	t.Run("m4", programs)
	t.Run("m5", sources)
	for tag, all := range map[string][]mistake{"m1": inPlans, "m2": onHosts, "m3": onTheWay} {
		t.Run(tag, func(t *testing.T) {
			var change []string
			if tag == "m3" {
				change = []string{"mtu: 1320 ", "mtu: 1400 "}
			}
			g := install(t, tag, change...)
			for _, m := range all {
				g.meet(m)
			}
		})
	}
}

// page is what was said of every mistake, as a page of the documents.
func page() string {
	cell := strings.NewReplacer("\n", " ", "|", "\\|")
	b := strings.Builder{}
	b.WriteString("# Mistakes on real hosts\n\nWhat each says first of a mistake that was put on a host. `make mistakes` (root) writes this page.\n\n" +
		"| mistake | device | status | journal | `yl diagnose`, first cause (certainty) | seconds |\n|---|---|---|---|---|---|\n")
	slices.SortFunc(seenAll, func(a, b seen) int { return strings.Compare(a.name, b.name) })
	for _, s := range seenAll {
		cause := s.cause
		if s.sure > 0 {
			cause += fmt.Sprintf(" (%d)", s.sure)
		}
		fmt.Fprintf(&b, "| %s | %s | %s | %s | %s | %.1f |\n", s.name, cell.Replace(s.device), cell.Replace(s.status),
			cell.Replace(s.journal), cell.Replace(cause), s.took.Seconds())
	}
	b.WriteString("\nHow often causes were right, by how certain diagnosis was of them:\n\n```\n" + bands.String() + "```\n")
	return b.String()
}

// holdIKEPort has another process hold the gateway's port, which it does when this returns.
func holdIKEPort(t *testing.T, s *hosts.Site) *exec.Cmd {
	t.Helper()
	cmd := s.Command(t.Context(), hosts.Gateway, "python3", "-c",
		"import socket, time\ns = socket.socket(socket.AF_INET6, socket.SOCK_DGRAM)\ns.bind(('::', 500))\ntime.sleep(600)")
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool {
		out, _ := s.Command(t.Context(), hosts.Gateway, "ss", "-Huln", "sport = :500").Output()
		return len(out) > 0
	}, 30*time.Second, 50*time.Millisecond, "it holds the port")
	return cmd
}

// programs are mistakes that keep the program from starting, or its records from being written.
func programs(t *testing.T) {
	g := install(t, "m4")
	g.stop()
	fails := func(name, says string) {
		t.Helper()
		began := time.Now()
		out, err := g.Command(t.Context(), hosts.Gateway, append([]string{"timeout", "20"}, g.serving()...)...).CombinedOutput()
		require.Error(t, err, "%s", out)
		require.Contains(t, string(out), says)
		last := strings.TrimSpace(string(out))
		g.record(mistake{codes: []string{"yl serve"}}, seen{
			name: name, cause: "yl serve: " + last[strings.LastIndex(last, "\n")+1:], took: time.Since(began),
		})
	}
	taken := holdIKEPort(t, g.Site)
	fails("port in use", "another process has that port: ss -ulpn sport = :500 names it")
	require.NoError(t, taken.Process.Kill())
	_ = taken.Wait()

	data := g.in("data")
	require.NoError(t, os.Rename(data, data+".kept"))
	require.NoError(t, os.Mkdir(data, 0o700))
	require.NoError(t, unix.Mount("tmpfs", data, "tmpfs", 0, "size=64m,mode=700"))
	t.Cleanup(func() { _ = unix.Unmount(data, unix.MNT_DETACH) })
	require.NoError(t, exec.Command("cp", "-a", data+".kept/.", data).Run())
	g.start()
	fails("second process", "is in use by another process (")
	g.meet(mistake{name: "disk full", put: func(g *installed) func() {
		f := filepath.Join(data, "fill")
		_ = exec.Command("dd", "if=/dev/zero", "of="+f, "bs=4k").Run()
		return func() { _ = os.Remove(f) }
	}, complaint: "cannot-connect", codes: []string{"status-disk"}})
}

// within does something on this thread in the gateway host's network.
func (g *installed) within(do func()) {
	g.t.Helper()
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	own, err := os.Open("/proc/thread-self/ns/net")
	require.NoError(g.t, err)
	defer own.Close()
	theirs, err := os.Open("/run/netns/" + g.Namespace(hosts.Gateway))
	require.NoError(g.t, err)
	defer theirs.Close()
	require.NoError(g.t, unix.Setns(int(theirs.Fd()), unix.CLONE_NEWNET))
	defer func() { require.NoError(g.t, unix.Setns(int(own.Fd()), unix.CLONE_NEWNET)) }()
	do()
}

// sources are mistakes about servers where people are kept: a real directory and a real RADIUS server stand beside the service.
func sources(t *testing.T) {
	g := install(t, "m5")
	g.password("dora")
	b, err := os.ReadFile(g.file("dora"))
	require.NoError(t, err)
	password := strings.TrimSpace(string(b))
	var ldap *directoryserver.Server
	var radius *radiusserver.Server
	g.within(func() {
		ldap, radius = directoryserver.Start(t), radiusserver.Start(t, "mschapv2")
		ldap.Add(directoryserver.Person("uid=dora", "dora", "Dora Directory", password) +
			directoryserver.Group("isle-researchers", "uid=dora,"+directoryserver.People))
	})
	secret := func(name, text string) {
		path := g.in(name)
		require.NoError(t, os.WriteFile(path, []byte(text+"\n"), 0o600))
		g.yl("secret", "keep", name, "--kind", "password", "--from-file", path, "--again")
	}
	ask := func(kind, base string) []string {
		of := fmt.Sprintf("    kind: ldap\n    servers: [%s]\n    authority: |\n      %s\n    account: %q\n    secret: mainland\n    base: %q\n    group-base: %q\n"+
			"    groups: [{from: isle-*}]\n", ldap.LDAPS, strings.ReplaceAll(strings.TrimSpace(ldap.Authority), "\n", "\n      "), directoryserver.Account,
			base, directoryserver.Groups)
		if kind == "radius" {
			of = fmt.Sprintf("    kind: radius\n    servers: [%s]\n    secret: mainland\n    groups: [{from: researchers}]\n", radius.UDP)
		}
		of = "\nsources:\n  - name: mainland\n" + of + "\npassages:\n"
		return []string{"login: eap-mschapv2", "login: eap-ttls", "\npassages:\n", of}
	}
	secret("mainland", directoryserver.AccountSecret)
	meet := mistake{user: "dora", complaint: "cannot-connect", group: "researchers"}
	right := meet
	right.plan, right.codes = ask("ldap", directoryserver.People), []string{"connected-after-all"} // no mistake
	g.meet(right)
	base := meet
	base.name, base.codes = "directory base", []string{"source-mistaken", "status-sources"}
	base.plan = ask("ldap", "ou=staff,dc=tern,dc=example")
	g.meet(base)
	secret("mainland", "not the secret")
	wrong := meet
	wrong.name, wrong.plan, wrong.codes = "RADIUS secret", ask("radius", ""), []string{"source-away", "status-sources"}
	g.meet(wrong)
}
