package begin

import (
	"fmt"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yellowlantern/internal/core/check"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
)

// Whatever is answered, the proposal is a plan that works: nothing stops it but the certificate that is not made yet, its
// expectations hold, and every reason is about a setting that is there.
func TestProposals(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a := Answers{
			Site: rapid.SampledFrom([]string{"Tern Island", "a: b # c", `say "hi"`}).Draw(t, "site"), Dial: rapid.SampledFrom([]string{"gate.tern.example", "192.0.2.10"}).Draw(t, "dial"),
			Outside: []netip.Addr{netip.MustParseAddr("192.0.2.10")}, Full: rapid.Bool().Draw(t, "full"), People: rapid.SampledFrom([]int{0, 3, 500, 20000}).Draw(t, "people"),
		}
		prefixes := rapid.Permutation([]string{"10.20.0.0/24", "10.99.0.0/16", "192.168.1.0/24", "172.24.0.0/13", "10.96.0.0/15"}).Draw(t,
			"prefixes")
		for i := range rapid.IntRange(1, 4).Draw(t, "networks") {
			n := Network{Name: fmt.Sprintf("net%d", i), Prefix: netip.MustParsePrefix(prefixes[i])}
			if i > 0 {
				n.Gateway = a.Networks[0].Prefix.Addr().Next().Next()
			}
			a.Networks = append(a.Networks, n)
		}
		a.Devices = rapid.SliceOfDistinct(rapid.SampledFrom([]string{"windows", "apple", "android", "own-client"}),
			rapid.ID[string]).Draw(t, "devices")
		a.Factor = rapid.Bool().Draw(t, "second factor")
		if a.Factor || rapid.Bool().Draw(t, "dns") {
			a.DNS = []netip.Addr{a.Networks[len(a.Networks)-1].Prefix.Addr().Next().Next().Next()}
			a.Search = "tern.example"
		}
		var people []reach.Person
		for i := range rapid.IntRange(1, 3).Draw(t, "groups") {
			g := Group{
				Name: fmt.Sprintf("group%d", i), Reach: []string{a.Networks[i%len(a.Networks)].Name},
				Services: []string{"tcp/443", "ping"},
			}
			a.Groups = append(a.Groups, g)
			people = append(people, reach.Person{User: "u" + g.Name, Groups: []string{g.Name}})
		}
		p, err := Plan(a)
		require.NoError(t, err)
		d, err := plan.Read(p.Text)
		require.NoError(t, err, p.Text)
		require.Equal(t, a.Site, d.Plan.Name)
		for _, f := range check.Run(check.Input{Doc: d, People: people}) {
			require.NotEqual(t, "single-factor", f.Code)
			if f.Code != "no-certificate" && f.Code != "pool-too-small" {
				require.NotEqual(t, check.Stop, f.Severity, "%+v\n%s", f, p.Text)
			}
		}
		require.GreaterOrEqual(t, len(p.Reasons), 4)
		for _, r := range p.Reasons {
			require.NotEmpty(t, r.Why)
			require.Greater(t, d.Place(r.Path).Line, 1, r.Path)
		}
	})
}

func TestAnswersThatWillNotDo(t *testing.T) {
	good := Answers{
		Site: "x", Dial: "gate.tern.example", Outside: []netip.Addr{netip.MustParseAddr("192.0.2.10")},
		Networks: []Network{{Name: "lan", Prefix: netip.MustParsePrefix("10.20.0.0/24")}}, Groups: []Group{{"all", []string{"lan"}, []string{"ping"}}},
	}
	_, err := Plan(good)
	require.NoError(t, err)
	for says, spoil := range map[string]func(*Answers){
		"what people dial": func(a *Answers) { a.Dial = " " },
		"one group":        func(a *Answers) { a.Groups = nil },
		"say 10.20.0.0/24": func(a *Answers) { a.Networks[0].Prefix = netip.MustParsePrefix("10.20.0.9/24") },
		"cannot be a name": func(a *Answers) { a.Networks[0].Name = "My LAN" },
		"fill all private": func(a *Answers) {
			a.Networks = append(a.Networks, Network{Name: "all", Prefix: netip.MustParsePrefix("0.0.0.0/0")})
		},
	} {
		bad := good
		bad.Networks = append([]Network{}, good.Networks...)
		spoil(&bad)
		_, err := Plan(bad)
		require.ErrorContains(t, err, says)
	}
}
