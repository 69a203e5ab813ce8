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

// mutations are mistakes that somebody could make in either side; the judge must notice each.
var mutations = []struct{ name, file, old, new string }{
	{"a permission wins over a refusal", "site/rules.go", "if r := firstOf(s.refusals, peer, p.Service, when); r != nil {", "if r := firstOf(s.refusals, peer, p.Service, when); r != nil && firstOf(s.permits, peer, p.Service, when) == nil {"},
	{"computed reach forgets refusals", "site/rules.go", "return unionOf(s.permits, when).Subtract(unionOf(s.refusals, when)).Intersect(opening)", "return unionOf(s.permits, when).Intersect(opening)"},
	{"any ICMP opens a flow", "netset/services.go", "s := AnyService.Subtract(Protocol(own)).Subtract(Protocol(foreign))", "s := AnyService.Subtract(Protocol(foreign))"},
	{"the last passage takes a person", "site/admission.go", "			c.Passage = &m.passages[i]\n			break", "			c.Passage = &m.passages[i]"},
	{"the source is not checked", "forward/forward.go", "if ok, ref := class.Leases(p, s.leased); !ok {", "if ok, ref := class.Leases(p, s.leased); !ok && info.Src.Is6() {"},
	{"the shortest prefix routes", "site/model.go", "return b.prefix().Bits() - a.prefix().Bits()", "return a.prefix().Bits() - b.prefix().Bits()"},
	{"people reach each other", "site/route.go", "case m.pools.Contains(p.Dst):", "case m.pools.Contains(p.Dst) && p.Dst.Is4():"},
	{"the last translation decides", "site/translation.go", "		if e := &m.nat[i]; ", "		if e := &m.nat[len(m.nat)-1-i]; "},
	{"the set side ignores the way out", "site/translation.go", "			if e.Out != \"\" && e.Out != way {\n				continue\n			}\n", ""},
	{"answers are not translated back", "forward/forward.go", "		packet.SetDst(b, &info, f.key.src, f.key.srcPort)\n	}\n	return Result{Session: s", "	}\n	return Result{Session: s"},
	{"a neighbour on the link answers for anybody", "site/surroundings.go", "		if m.own.Contains(src) {", "		if m.own.Contains(src) || src.Is4() {"},
	{"the way back is not asked for", "reach/reach.go", "part.Dst.Intersect(c.Model.ReturnSet(part.Src))", "part.Dst"},
	{"hours are not asked for", "site/rules.go", "if r.acts(when) && r.Traffic.Contains", "if r.Traffic.Contains"},
	{"computed reach takes some hour for every hour", "reach/reach.go", "always4, always6 = let(site.When{})", "always4, always6 = let(site.Ever)"},
	{"a night ends at midnight", "plan/values.go", "on(yesterday) && minute < h.To.Minutes", "on(yesterday) && minute < 0"},
	{"an empty list of routes takes the default", "plan/settle.go", "return r.Full || r.Split != nil", "return r.Full || len(r.Split) > 0"},
	{"the last address of a row of hosts is left out", "plan/names.go", "return netset.OfAddrs(h.Addresses...).Union(spansOf(h.Ranges))", "return netset.OfAddrs(h.Addresses...)"},
	{"the segment size changes and the checksum does not", "packet/mss.go", "	binary.BigEndian.PutUint16(b[t+16:], ^uint16(sum))", "	_ = sum"},
	{"a rule of one direction acts in the other", "site/admission.go", "		if r.Inward() {", "		if r.Inward() && len(r.To) == 0 {"},
	{"whoever sends from inside is believed to be anybody", "forward/flow.go", "outside != (out.Network == plan.Internet) {", "outside != (out.Network == plan.Internet) && outside {"},
	{"an answered question lets the person ask", "forward/flow.go", "			k.dstPort = asked | inwardICMP", "			k.dstPort = asked"},
	{"what comes from inside needs no way to the gateway", "reach/reach.go", "back: onward.Intersect(c.Model.ReturnSet(atom[0].From))", "back: onward"},
	{"what comes from inside is not held to the routes", "forward/flow.go", "if ok, _ := class.Selects(site.Packet{Src: p.Dst, Dst: p.Src, Service: p.Service}); !ok {", "if ok, _ := class.Selects(site.Packet{Src: p.Dst, Dst: p.Src, Service: p.Service}); !ok && p.Src.Is6() {"},
	{"a home network hides nothing", "site/admission.go", "c.sent = c.sent.Subtract(at)", "_ = at"},
	{"a home network hides what is routed by smaller prefixes", "site/admission.go", "c.Routes.Covers(at) {", "c.Routes.Overlaps(at) {"},
	{"a checksum is left as it was", "packet/packet.go", "		put(sum, adjust(binary.BigEndian.Uint16(sum), was, port))", "		_ = was"},
}

// Each mutation is put into a copy of its file by the compiler's overlay, and the judge is run on it.
func TestJudgeNoticesMutations(t *testing.T) {
	if os.Getenv("YL_MUTATED") != "" {
		t.Skip("this is a mutated run")
	}
	for _, m := range mutations {
		t.Run(m.name, func(t *testing.T) {
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
			cmd := exec.Command("go", "test", "-count=1", "-vet=off", "-overlay", filepath.Join(folder, "overlay.json"), "-run",
				"^TestJudge$", ".",
				"-rapid.checks=3000", "-rapid.nofailfile", "-rapid.shrinktime=0s")
			cmd.Env = append(os.Environ(), "YL_MUTATED=1")
			out, err := cmd.CombinedOutput()
			require.Error(t, err, "the judge did not notice:\n%s", out)
			require.Contains(t, string(out), "--- FAIL: TestJudge", "it must be the judge that fails, not the compiler:\n%.2000s", out)
		})
	}
}
