package judge

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

type mutation struct{ name, file, old, new string }

// mutations are mistakes that somebody could make in either side; the judge must notice each.
var mutations = []mutation{
	{"a permission wins over a refusal", "site/rules.go", "if r := firstOf(s.refusals, peer, p.Service, when); r != nil {", "if r := firstOf(s.refusals, peer, p.Service, when); r != nil && firstOf(s.permits, peer, p.Service, when) == nil {"},
	{"computed reach forgets refusals", "site/rules.go", "return unionOf(s.permits, when).Subtract(unionOf(s.refusals, when)).Intersect(opening)", "return unionOf(s.permits, when).Intersect(opening)"},
	{"any ICMP opens a flow", "netset/services.go", "s := AnyService.Subtract(Protocol(own)).Subtract(Protocol(foreign))", "s := AnyService.Subtract(Protocol(foreign))"},
	{"the last passage takes a person", "site/admission.go", "			c.Passage = &m.passages[i]\n			break", "			c.Passage = &m.passages[i]"},
	{"a passage whose tunnels are off lets people in", "site/admission.go", "c.Passage != nil && c.Passage.shut", "c.Passage != nil && c.Passage.shut && len(groups) < 0"},
	{"a prefix is found by its first address alone", "session/table.go", "if s := t.byAddress[a]; s != nil || len(t.byPrefix) == 0 || a.Is4() {", "if s := t.byAddress[a]; true {"},
	{"a prefix is not its session's", "session/session.go", "netset.OfAddrs(s.Addresses...).Union(netset.OfPrefixes(s.Prefixes...))", "netset.OfAddrs(s.Addresses...)"},
	{"the source is not checked", "forward/forward.go", "if ok, ref := class.Leases(p, s.leased); !ok {", "if ok, ref := class.Leases(p, s.leased); !ok && info.Src.Is6() {"},
	{"the shortest prefix routes", "site/longest.go", "return b.prefix().Bits() - a.prefix().Bits()", "return a.prefix().Bits() - b.prefix().Bits()"},
	{"people reach each other", "site/route.go", "case m.pools.Contains(p.Dst):", "case m.pools.Contains(p.Dst) && p.Dst.Is4():"},
	{"the last translation decides", "site/translation.go", "		if e := &m.nat[i]; ", "		if e := &m.nat[len(m.nat)-1-i]; "},
	{"the set side ignores the way out", "site/translation.go", "			if e.Out != \"\" && e.Out != w.out {\n				continue\n			}\n", ""},
	{"answers are not translated back", "forward/forward.go", "	f.toPerson(b, &info)\n", ""},
	{"a neighbour on the link answers for anybody", "site/surroundings.go", "		if m.own.Contains(src) {", "		if m.own.Contains(src) || src.Is4() {"},
	{"the way back is not asked for", "reach/reach.go", "part.Dst.Intersect(c.Model.ReturnSet(part.Src))", "part.Dst"},
	{"hours are not asked for", "site/rules.go", "if r.acts(when) && r.Traffic.Contains", "if r.Traffic.Contains"},
	{"computed reach takes some hour for every hour", "reach/reach.go", "always4, always6 = let(site.When{})", "always4, always6 = let(site.Ever)"},
	{"a night ends at midnight", "plan/values.go", "on(yesterday) && minute < h.To.Minutes", "on(yesterday) && minute < 0"},
	{"an empty list of routes takes the default", "plan/settle.go", "return r.Full || r.Split != nil", "return r.Full || len(r.Split) > 0"},
	{"the last address of a row of hosts is left out", "plan/names.go", "return netset.OfAddrs(h.Addresses...).Union(spansOf(h.Ranges))", "return netset.OfAddrs(h.Addresses...)"},
	{"the segment size changes and the checksum does not", "packet/mss.go", "	binary.BigEndian.PutUint16(b[t+16:], ^uint16(sum))", "	_ = sum"},
	{"a rule of one direction acts in the other", "site/admission.go", "		if r.Inward() {", "		if r.Inward() && len(r.To) == 0 {"},
	{"whoever sends from inside is believed to be anybody", "forward/flow.go", "if !m.Comes(p.Src, outside) {", "if !m.Comes(p.Src, outside) && outside {"},
	{"what belongs to a flow may come by any link", "forward/forward.go", "if f != nil && !e.ByKernel && !m.Comes(info.Src, outside) {", "if f != nil && false {"},
	{"of several ways back only the first counts", "site/inward.go", "k == 0 || !slices.Contains(out, network)", "k == 0"},
	{"answers are believed by whatever link they come", "site/surroundings.go", "if !c.OK || m.leads(source, c.by) {", "if true {"},
	{"computed reach believes them so", "site/returns.go", "if back.OK && slices.Contains(g.links, back.by) {", "if back.OK && (true || slices.Contains(g.links, back.by)) {"},
	{"hosts ask their router for neighbours", "site/returns.go", "for _, n := range r.holding(src) {", "for _, n := range r.holding(src)[:0] {"},
	{"a source that became the gateway's is covered by rules", "site/rules.go", "	if m.own.Contains(p.Src) { // by translation", "	if false { // by translation"},
	{"what is opened from inside is not translated", "site/translation.go", "return m.sourceBy(m.entryFor(p, Egress{}), p, Egress{})", "return p.Src, true, Ref{}"},
	{"computed reach from inside forgets translation", "site/translation.go", "		if e.Out != \"\" || !e.to.Contains(dst) {", "		if true {"},
	{"answers to what was opened from inside go to the translated source", "forward/flow.go", "		packet.SetDst(b, i, f.back.dst, f.back.peerPort())", "		_ = i"},
	{"any rule lets people use the gateway's machine", "site/rules.go", "!slices.Contains(r.To, plan.Itself) {", "!slices.Contains(r.To, plan.Itself) && r.Off {"},
	{"a report goes to anybody", "forward/forward.go", "err != nil || info.Dst != in.Src { // else", "err != nil { // else"},
	{"an answered question lets the person ask", "forward/flow.go", "			k.dstPort = asked | inwardICMP", "			k.dstPort = asked"},
	{"what comes from inside needs no way to the gateway", "reach/reach.go", "back: onward.Intersect(c.Model.ReturnSet(atom[0].From))", "back: onward"},
	{"what comes from inside is not held to the routes", "forward/flow.go", "if ok, _ := class.Selects(site.Packet{Src: p.Dst, Dst: p.Src, Service: p.Service}); !ok {", "if ok, _ := class.Selects(site.Packet{Src: p.Dst, Dst: p.Src, Service: p.Service}); !ok && p.Src.Is6() {"},
	{"a home network hides nothing", "site/admission.go", "c.sent = c.sent.Subtract(at)", "_ = at"},
	{"a home network hides what is routed by smaller prefixes", "site/admission.go", "c.Routes.Covers(at) {", "c.Routes.Overlaps(at) {"},
	{"anybody asks the gateway's own services", "site/own.go", "if p.Service == dhcpServer && leased.Contains(p.Src) {", "if p.Service == dhcpServer {"},
	{"what is for the gateway's own services goes on", "forward/forward.go", "if own := s.owned(m, class, p); own != site.NoOwn {", "if own := s.owned(m, class, p); own == site.OwnDHCP {"},
	{"a session that is held is not", "forward/forward.go", "	if s.IsHeld() {", "	if s.IsHeld() && info.Src.Is6() {"},
	{"a session that is held is reached from inside", "forward/flow.go", "	if s.IsHeld() {", "	if false {"},
	{"parts are not held", "forward/forward.go", "	if s.IsHeld() {", "	if s.IsHeld() && !info.Fragment {"},
	{"a session that is held asks any name server", "site/held.go", "			if a == p.Dst {", "			if a.Is4() == p.Dst.Is4() {"},
	{"the code page is looked for inside", "site/route.go", "m.never = neverRouted.Union(m.page)", "m.never = neverRouted"},
	{"what asks for a second factor does not lead to the code page", "site/admission.go", "		if p.Factor.Asked {", "		if false {"},
	{"rules with hours are not asked", "site/decision.go", "if t.parts[k].Contains(service) && r.acts(when) {", "if t.parts[k].Contains(service) && r.acts(when) && false {"},
	{"of several rules about a service the last is taken", "site/decision.go", "open = slices.Insert(open, find(x.rule), x.rule)", "open = slices.Insert(open, 0, x.rule)"},
	{"a destination beside those that rules are about is one of them", "site/decision.go", "if i < 0 || d.stretches[i].To.Less(a) || d.stretches[i].To.Is4() != a.Is4() {", "if i < 0 {"},
	{"what must not be cut is cut", "forward/size.go", "if i.DontFragment && largest > mtu {", "if i.DontFragment && largest > 2*mtu {"},
	{"a checksum is left as it was", "packet/packet.go", "		put(sum, adjust(binary.BigEndian.Uint16(sum), was, port))", "		_ = was"},
}

// kernelMutations are mistakes in what a kernel is told.
var kernelMutations = []mutation{
	{"exemptions are left out", "kernel/rules.go", "if in == \"\" || out == \"\" || !t.Exempt && !t.As.IsValid() {", "if in == \"\" || out == \"\" || t.Exempt || !t.As.IsValid() {"},
	{"every way out has the same address", "site/host.go", "t.As = m.translated(e, to.way, v4)", "t.As = m.translated(e, \"\", v4)"},
	{"whoever comes by a wrong link is believed", "kernel/rules.go", "Rule{Count: true, Do: Drop, Why: \"it comes by a link", "Rule{Count: true, Do: Return, Why: \"it comes by a link"},
	{"people and the machine itself are believed from anywhere", "site/host.go", "believed := m.OriginSet()", "believed := netset.Everywhere"},
	{"translation asks for no source", "kernel/rules.go", "			In: in, Out: out, From: b.set(t.Entry+\"-from\", v6, t.From), To: b.set(t.Entry+\"-to\", v6, t.To), V6: v6, Family: true, Do: SourceSame,", "			In: in, Out: out, To: b.set(t.Entry+\"-to\", v6, t.To), V6: v6, Family: true, Do: SourceSame,"},
	{"translation asks for no destination", "kernel/rules.go", "			In: in, Out: out, From: b.set(t.Entry+\"-from\", v6, t.From), To: b.set(t.Entry+\"-to\", v6, t.To), V6: v6, Family: true, Do: SourceSame,", "			In: in, Out: out, From: b.set(t.Entry+\"-from\", v6, t.From), V6: v6, Family: true, Do: SourceSame,"},
	{"only a pool's first prefix is routed", "kernel/kernel.go", "for _, to := range p.Prefixes {", "for _, to := range p.Prefixes[:min(1, len(p.Prefixes))] {"},
	{"inside routes are not made", "kernel/kernel.go", "link != \"\" && !r.Spare {", "link != \"\" && r.Spare {"},
	{"what cannot be translated leaves as it is", "kernel/rules.go", "r.Fresh, r.Count, r.Do = true, true, Drop", "r.Fresh, r.Count, r.Do = true, true, Return"},
	{"what has no address to be translated to is lost for ever", "kernel/rules.go", "r.Fresh, r.Count, r.Do = true, true, Drop", "r.Fresh, r.Count, r.Do = false, true, Drop"},
	{"what is opened from inside is not translated by the kernel", "site/host.go", "			if in.way == internet && to.way != inside.Tunnels {", "			if to.way == inside.Tunnels {"},
	{"IPv6 is not forwarded", "kernel/kernel.go", "s.Sixth = s.Sixth || to.Addr().Is6()", "s.Sixth = false"},
	{"of an entry's two families the rules of one are for the other", "kernel/rules.go", "		v6 := t.To[0].From.Is6()\n		r := Rule{\n			In: in, Out: out, From: b.set(t.Entry+\"-from\", v6, t.From), To: b.set(t.Entry+\"-to\", v6, t.To), V6: v6, Family: true, Do: SourceSame,", "		v6 := false\n		r := Rule{\n			In: in, Out: out, From: b.set(t.Entry+\"-from\", v6, t.From), To: b.set(t.Entry+\"-to\", v6, t.To), V6: v6, Family: true, Do: SourceSame,"},
}

// Each mutation is put into a copy of its file by the compiler's overlay, and the judge is run on it.
func TestJudgeNoticesMutations(t *testing.T) {
	if os.Getenv("YL_MUTATED") != "" {
		t.Skip("this is a mutated run")
	}
	for _, m := range mutations {
		t.Run(m.name, func(t *testing.T) {
			noticed(t, m, "TestJudge", "-rapid.checks=3000", "-rapid.nofailfile", "-rapid.shrinktime=0s")
		})
	}
}

// The same with a real kernel, of what it is told.
func TestKernelNoticesMutations(t *testing.T) {
	if os.Getenv("YL_MUTATED") != "" || os.Getenv("YL_KERNEL_MUTATIONS") == "" {
		t.Skip("make check runs it: each mutation is compiled, and tried in a kernel")
	}
	for _, m := range kernelMutations {
		t.Run(m.name, func(t *testing.T) { noticed(t, m, "TestKernelAgrees") })
	}
}

// noticed puts a mutation into a copy of its file by the compiler's overlay, and runs a test on it, which must fail.
func noticed(t *testing.T, m mutation, test string, args ...string) {
	t.Parallel()
	file, err := filepath.Abs(filepath.Join("..", "core", m.file))
	require.NoError(t, err)
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Equal(t, 1, strings.Count(string(text), m.old), "the mutation no longer fits %s", m.file)
	folder := t.TempDir()
	mutated := filepath.Join(folder, "mutated.go")
	require.NoError(t, os.WriteFile(mutated, []byte(strings.Replace(string(text), m.old, m.new, 1)), 0o600))
	overlay, err := json.Marshal(map[string]any{"Replace": map[string]string{file: mutated}})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "overlay.json"), overlay, 0o600))
	cmd := exec.Command("go", append([]string{
		"test", "-count=1", "-vet=off", "-overlay", filepath.Join(folder, "overlay.json"), "-run", "^" + test + "$", ".",
	}, args...)...)
	cmd.Env = append(os.Environ(), "YL_MUTATED=1", "YL_KERNEL_PLANS=400") // it ends at the first that fails
	out, err := cmd.CombinedOutput()
	require.Error(t, err, "it was not noticed:\n%s", out)
	require.Contains(t, string(out), "--- FAIL: "+test, "it must be the test that fails, not the compiler:\n%.2000s", out)
}
