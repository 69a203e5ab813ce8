package reach_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/demo"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/site"
	"yellowlantern/internal/testkit/bigplan"
	"yellowlantern/internal/testkit/island"
)

var people = []reach.Person{
	{User: "wanda", Groups: []string{"wardens"}},
	{User: "rory", Groups: []string{"researchers"}},
	{User: "vera", Groups: []string{"volunteers"}},
	{User: "curt", Groups: []string{"turbine-contractor"}},
	{User: "both", Groups: []string{"researchers", "volunteers"}},
	{User: "guest", Groups: []string{"campers"}},
}

// surpluses are what every class reaches beyond what is expected, and what could be pinned of it.
func surpluses(m *site.Model, people []reach.Person) ([]reach.Surplus, []reach.Pin) {
	b := reach.Compute(m, people).Beyond()
	for i := range b.Steps() {
		b.Do(i)
	}
	p := b.Pinning()
	for i := range p.Steps() {
		p.Do(i)
	}
	return b.Surplus(), p.Pins()
}

func result(t *testing.T, p reach.Proof, expectation, class string) reach.Result {
	i := slices.IndexFunc(p.Results, func(r reach.Result) bool { return r.Expectation == expectation && r.Class == class })
	require.GreaterOrEqual(t, i, 0)
	return p.Results[i]
}

// Each outcome of an expectation, with what is wrong, one packet, the station and setting at fault, and the mend.
func TestProof(t *testing.T) {
	sound := reach.Prove(island.Model(t), people)
	require.Zero(t, sound.Failed)
	require.Len(t, sound.Results, 22, "everyone means everyone whom a passage admits")

	cases := []struct {
		change              []string
		expectation, class  string
		outcome             string
		wrong               reach.Line
		station, says, mend string
	}{
		{
			[]string{"groups: [volunteers], to: [nestcams], services: [web]", "groups: [volunteers], to: [nestcams], services: [tcp/443]"},
			"volunteers-watch-nests", "volunteers", reach.Fails,
			reach.Line{To: "nestcams", Services: "tcp/80"},
			"rules", "no rule permits tcp/80 to nestcams", "add a rule that permits tcp/80 to nestcams for volunteers",
		},
		{
			[]string{"to: [records, nestcams], services: [web, ping]}\n  - {name: cam", "to: [records, nestcams], services: [tcp/80, ping]}\n  - {name: cam"},
			"researchers-read-the-archive", "researchers", reach.InPart,
			reach.Line{To: "records, nestcams", Services: "tcp/443"},
			"rules", "reaches it only in part", "tcp/443",
		},
		{
			[]string{"split: [station, archive]", "split: [station]"},
			"researchers-read-the-archive", "researchers", reach.Fails,
			reach.Line{To: "records, nestcams", Services: "ping, tcp/80, tcp/443"},
			"device", "not among the routes", "add records to passages/research/routes/split",
		},
		{
			[]string{"{to: 0.0.0.0/0, via: 10.20.0.1}", "{to: 0.0.0.0/0, via: 10.20.0.9}"},
			"contractor-runs-the-turbine", "turbine-contractor", reach.Fails,
			reach.Line{To: "turbine-control", Services: "ping, tcp/502"},
			"return", "no router of the plan", "route that leads to the gateway",
		},
		{
			[]string{"split: [names, turbine]", "split: [turbine]"},
			"contractor-runs-the-turbine", "turbine-contractor", reach.Fails,
			reach.Line{To: "names (10.20.0.53)", Services: "udp/53"},
			"device", "no name server", "add names",
		},
		{
			[]string{"groups: [turbine-contractor], to: [turbine-control], services: [controls, ping]", "groups: [turbine-contractor], to: [turbine-control, office], services: [controls, ping]"},
			"no-guests-in-the-office", "turbine-contractor", reach.Fails,
			reach.Line{To: "office", Services: "ping, tcp/502"},
			"rules", "rule turbine permits tcp/502 to office", "narrow rules/turbine",
		},
		{
			[]string{"groups: [turbine-contractor], to: [turbine-control], services: [controls, ping]", "groups: [turbine-contractor], to: [turbine], services: [controls, ping]"},
			"contractor-nothing-else", "turbine-contractor", reach.Fails,
			reach.Line{},
			"rules", "no expectation asks for", "narrow rules/turbine",
		},
	}
	for _, c := range cases {
		t.Run(c.expectation, func(t *testing.T) {
			r := result(t, reach.Prove(island.Model(t, c.change...), people), c.expectation, c.class)
			require.Equal(t, c.outcome, r.Outcome)
			require.Contains(t, r.Words, c.says)
			if c.wrong.To != "" {
				require.Contains(t, r.Wrong, c.wrong)
			}
			require.NotNil(t, r.Example)
			require.Equal(t, c.station, r.Example.Station)
			require.Contains(t, r.Example.Fix, c.mend)
			require.NotEmpty(t, r.Example.Journey.Steps)
		})
	}
}

// A missing split route never proves a prohibition: the rules must hold it.
func TestProhibitionDoesNotHangOnRoutes(t *testing.T) {
	m := island.Model(t, "{name: hands-off-the-turbine, action: refuse, groups: [wardens, researchers, volunteers]",
		"{name: open, action: permit, groups: [volunteers]")
	r := result(t, reach.Prove(m, people), "only-the-contractor", "volunteers")
	require.Equal(t, reach.Fails, r.Outcome, "the device does not route it, and that is no protection")
	require.Contains(t, r.Words, "rule open permits")
}

// What a change does for whom, in words; somebody who loses everything is told apart.
func TestChanges(t *testing.T) {
	before := island.Model(t)
	require.Empty(t, reach.Changes(before, before, people))
	after := island.Model(t, "groups: [volunteers], to: [nestcams], services: [web]",
		"groups: [volunteers], to: [nestcams, records], services: [tcp/80]",
		"groups: [turbine-contractor]\n    tunnels", "groups: [wardens]\n    tunnels")
	got := map[string]reach.Change{}
	for _, c := range reach.Changes(before, after, people) {
		got[c.Class] = c
	}
	require.Equal(t, []reach.Line{{To: "records (10.20.30.5)", Services: "tcp/80"}}, got["volunteers"].Gains)
	require.Equal(t, []reach.Line{{To: "nestcams", Services: "tcp/443"}}, got["volunteers"].Loses)
	require.True(t, got["turbine-contractor"].Shut)
	require.Equal(t, "contractor", got["turbine-contractor"].Before)
	require.NotContains(t, got, "researchers")
	first := reach.Changes(nil, before, people)
	require.Len(t, first, 5, "nobody is admitted who was not")
}

// The board and the trials tell the same story as the proof.
func TestBoardAndTrials(t *testing.T) {
	m := island.Model(t)
	b := reach.MakeBoard(m, people)
	cell := func(class, destination string) reach.Cell {
		for _, r := range b.Rows {
			for i, d := range b.Destinations {
				if r.Class == class && d.Name == destination {
					return r.Cells[i]
				}
			}
		}
		t.Fatal("no such cell")
		return reach.Cell{}
	}
	require.Equal(t, "ping, tcp/80, tcp/443", cell("researchers", "records").Computed)
	require.Equal(t, reach.CellReach, cell("researchers", "records").State)
	require.Equal(t, reach.CellRefused, cell("wardens", "turbine-control").State)
	require.Equal(t, reach.CellUnasked, cell("wardens", "records").State)
	require.Equal(t, reach.CellNothing, cell("campers", "records").State)
	require.Equal(t, reach.CellReach, cell("wardens", plan.Internet).State)
	b = reach.MakeBoard(island.Model(t, "groups: [volunteers], to: [nestcams], services: [web]",
		"groups: [volunteers], to: [nestcams, office], services: [tcp/443]"), people)
	require.Equal(t, reach.CellMissing, cell("volunteers", "nestcams").State)
	require.Equal(t, reach.CellBreach, cell("volunteers", "office").State)

	c := reach.NewComputer(m)
	for _, class := range reach.Classes(m, people) {
		r := c.Of(class.Class)
		trials := reach.Trials(m, class, r)
		if class.Passage == nil {
			require.Empty(t, trials)
			continue
		}
		for _, trial := range trials {
			require.Equal(t, trial.Want, trial.Computed, "a sound plan computes what it expects: %+v", trial)
			require.True(t, class.Passage.Pool.HasFamily(trial.Dst.Is4()))
		}
	}
}

// On large plans: a permission more never takes reach away, a refusal more never gives any, and full reach is within enforced reach.
func TestRulesAreMonotonic(t *testing.T) {
	p, persons := bigplan.Make(bigplan.Size{Groups: 12, Destinations: 40, Rules: 120, Users: 24})
	r := rand.New(rand.NewPCG(7, 7))
	all := func(p *plan.Plan) (out []netset.Traffic) {
		m, err := site.Compile(p, "gw")
		require.NoError(t, err)
		c := reach.NewComputer(m)
		for _, class := range reach.Classes(m, persons) {
			x := c.Of(class.Class)
			for i := range x.Full {
				require.True(t, x.Enforced[i].Traffic.Covers(x.Full[i].Traffic))
			}
			out = append(out, reach.Everywhere(x.Enforced))
		}
		return out
	}
	whole := all(p)
	for range 25 {
		i := r.IntN(len(p.Rules))
		fewer := *p
		fewer.Rules = slices.Delete(slices.Clone(p.Rules), i, i+1)
		for k, without := range all(&fewer) {
			if p.Rules[i].Action == plan.Permit {
				require.True(t, whole[k].Covers(without), "permission %s", p.Rules[i].Name)
			} else {
				require.True(t, without.Covers(whole[k]), "refusal %s", p.Rules[i].Name)
			}
		}
	}
}

// Services are said the short way.
func TestWords(t *testing.T) {
	parse := func(words ...string) (out netset.Services) {
		for _, w := range words {
			s, err := netset.ParseServices(w)
			require.NoError(t, err)
			out = out.Union(s)
		}
		return out
	}
	some := parse("tcp/80", "tcp/443", "ping", "udp/53")
	require.Equal(t, "ping, tcp/80, tcp/443, udp/53", reach.Words{Set: some}.String())
	require.Equal(t, "any", reach.Words{Set: netset.Opening4}.String())
	require.Equal(t, "everything but ping, tcp/80, tcp/443, udp/53", reach.Words{Set: netset.Opening4.Subtract(some)}.String())
	ping, _ := netset.ParseServices("ping")
	require.Equal(t, "everything but ping", reach.Words{Set: netset.AnyService.Subtract(ping)}.String())
	require.Equal(t, "everything but ping, tcp/80, tcp/443, udp/53", reach.Words{Set: netset.Opening6.Subtract(some)}.String())
	require.Equal(t, "tcp/1-9", reach.Words{Set: parse("tcp/1-9")}.String())
}

// Reach as data says all of it and nothing more: read back, it is the same set.
func TestReachAsData(t *testing.T) {
	known := reach.Compute(island.Model(t, "services: [web, ping]}\n  - {name: cameras", "services: [any]}\n  - {name: cameras"), people)
	read := func(sets []reach.Set) (all netset.Traffic) {
		for _, s := range sets {
			var services netset.Services
			for _, word := range s.Services {
				one, err := netset.ParseServices(word)
				require.NoError(t, err)
				services = services.Union(one)
			}
			var to netset.Addrs
			for _, word := range s.Peers {
				one, ok := known.Model.Names.Destination(word)
				require.True(t, ok, word)
				to = to.Union(one)
			}
			all = all.Union(netset.Of(to, services))
		}
		return all
	}
	for i, r := range known.Reaches {
		d := known.Data(i, netset.Everywhere)
		require.True(t, read(d.Outward.Enforced).Equal(reach.Everywhere(r.Enforced)), d.Class)
		require.True(t, read(d.Outward.Full).Equal(reach.Everywhere(r.Full)), d.Class)
		require.True(t, read(d.Inward.Enforced).Equal(reach.Everywhere(r.InEnforced)), d.Class)
		office := netset.OfAddrs(known.Model.Names.Hosts["office"].First())
		require.True(t, read(known.Data(i, office).Outward.Full).Equal(reach.Everywhere(r.Full).To(office)), d.Class)
	}
}

// A change's trial is judged by what it touches: what is opened from inside no trial sees, what names no host either, and what stays as it
// was needs none.
func TestUnjudged(t *testing.T) {
	before := reach.Compute(island.Model(t), people)
	of := func(only []string, change ...string) (out []string) {
		for _, u := range before.Unjudged(reach.Compute(island.Model(t, change...), people), only) {
			for _, class := range u.Classes {
				out = append(out, u.Expectation+" "+class)
			}
		}
		return out
	}
	require.Empty(t, of(nil))
	require.Empty(t, of(nil, "name: Tern Island Observatory", "name: Tern Island"))
	require.Empty(t, of(nil, "groups: [researchers], to: [records, nestcams], services: [web, ping]}\n  - {name: cam",
		"groups: [researchers], to: [records], services: [web, ping]}\n  - {name: cam"), "trials see that")
	require.Contains(t, of([]string{"wardens"},
		"groups: [researchers], to: [records, nestcams], services: [web, ping]}\n  - {name: cam",
		"groups: [researchers], to: [records], services: [web, ping]}\n  - {name: cam"), "researchers-read-the-archive researchers")
	require.Contains(t, of(nil, "prefixes: [10.99.0.0/24,", "prefixes: [10.98.0.0/24,"), "the-office-helps-researchers researchers")
	require.Equal(t, []string{"the-office-helps-researchers researchers", "the-office-helps-researchers researchers + volunteers"},
		of(nil, "from: [office], services: [remote-help, ping]}", "from: [office], services: [ping]}"))
	require.Equal(t, []string{"quiet researchers + volunteers", "quiet volunteers"}, of(nil, "expectations:\n",
		"expectations:\n  - {name: quiet, groups: [volunteers], must: not-reach, to: [10.20.77.0/24], services: [any]}\n"))
}

// What is reached and not asked for is listed in few lines; what rules permit of it can be pinned, and then it is gone from the list and
// every expectation still holds.
func TestSurplusAndPins(t *testing.T) {
	scenario, err := demo.Load("")
	require.NoError(t, err)
	people := []reach.Person{
		{User: "w", Groups: []string{"wardens"}},
		{User: "r", Groups: []string{"researchers"}},
		{User: "v", Groups: []string{"volunteers"}},
		{User: "c", Groups: []string{"turbine-contractor"}},
	}
	model := func(text string) *site.Model {
		d, err := plan.Read(text)
		require.NoError(t, err)
		m, err := site.Compile(&d.Plan, "jetty")
		require.NoError(t, err)
		return m
	}
	of := func(list []reach.Surplus, class string) string {
		for _, s := range list {
			if s.Class == class {
				words := make([]string, len(s.Lines))
				for i, l := range s.Lines {
					words[i] = l.String()
				}
				return strings.Join(words, "; ")
			}
		}
		return ""
	}
	text := scenario.Plan
	surplus, pins := surpluses(model(text), people)
	require.Equal(t, "tcp/443 at nestcams", of(surplus, "volunteers"))
	require.Empty(t, of(surplus, "turbine-contractor"))
	require.Contains(t, of(surplus, "wardens"), "internet (IPv4) but for")
	require.Contains(t, of(surplus, "wardens"), "station (10.20.0.0/24) but for")
	var rules []string
	for _, p := range pins {
		rules = append(rules, p.Rule)
		if text, err = plan.Apply(text, plan.Edit{Op: "add", Path: "expectations", Value: p.Expectation}); err != nil {
			t.Fatal(p.Expectation, err)
		}
	}
	require.Equal(t, []string{"wardens-out", "cameras", "help-desk"}, rules, "what quiet nights refuse is not got at every hour")
	after, left := surpluses(model(text), people)
	require.Empty(t, left)
	require.Empty(t, of(after, "volunteers"))
	require.Zero(t, reach.Prove(model(text), people).Failed)
}

// Every rule, NAT entry and route of Tern Island has something that depends on it, but for one that is there in case; another that is
// made to no purpose is named.
func TestDependences(t *testing.T) {
	of := func(m *site.Model) map[string]reach.Dependence {
		out := map[string]reach.Dependence{}
		depending := reach.Compute(m, people).Depending(nil)
		for i := range depending.Steps() {
			depending.Do(i)
		}
		for _, d := range depending.Dependences() {
			out[d.Setting] = d
		}
		return out
	}
	ds := of(island.Model(t, "rules:\n", "rules:\n  - {name: twice, action: permit, groups: [volunteers], to: [nestcams], services: [tcp/80]}\n"))
	require.True(t, ds["rules/twice"].Idle, "%+v", ds["rules/twice"])
	require.Equal(t, []string{"researchers", "researchers + volunteers"}, ds["rules/archive"].Classes)
	require.Equal(t, []string{"researchers-read-the-archive"}, ds["rules/archive"].Fails)
	require.Equal(t, []string{"the-office-helps-researchers"}, ds["rules/help-desk"].Fails)
	require.Contains(t, ds["gateways/jetty/routes/2"].Fails, "contractor-runs-the-turbine")
	require.Contains(t, ds["passages/volunteers/routes/split/1"].Fails, "volunteers-watch-nests")
	require.Equal(t, []string{"wardens-reach-the-internet"}, ds["nat/way-out"].Fails)
	require.Equal(t, []string{"the-office-helps-researchers"}, ds["nat/keep-inside"].Fails)
	var idle []string
	for setting, d := range ds {
		if d.Idle {
			idle = append(idle, setting)
		}
	}
	require.ElementsMatch(t, []string{"rules/twice", "rules/hands-off-the-turbine"}, idle)
}

// The board's part about what is opened from inside: expected and so, unasked, missing, and where it should not be.
func TestInwardBoard(t *testing.T) {
	of := func(class string, change ...string) reach.InwardRow {
		for _, r := range reach.MakeBoard(island.Model(t, change...), people).Inward {
			if r.Class == class {
				return r
			}
		}
		return reach.InwardRow{}
	}
	sound := of("researchers")
	require.Equal(t, reach.CellReach, sound.State)
	require.Equal(t, "[tcp/5900 from office towards their devices]", fmt.Sprint(sound.Expected))
	require.Equal(t, "[ping, tcp/5900 from office towards their devices]", fmt.Sprint(sound.Computed))
	require.Equal(t, reach.CellRefused, of("turbine-contractor").State, "nothing else is said of both directions")
	require.Empty(t, of("wardens").Class, "there is nothing to say")
	open := []string{"{name: help-desk, action: permit, groups: [researchers],", "{name: help-desk, action: permit,"}
	require.Equal(t, reach.CellUnasked, of("wardens", open...).State)
	breach := of("turbine-contractor", open...)
	require.Equal(t, reach.CellBreach, breach.State)
	require.Equal(t, "[ping, tcp/5900 from office towards their devices]", fmt.Sprint(breach.Wrong))
	missing := of("researchers", "{split: [station, archive]}", "{split: [archive, names]}")
	require.Equal(t, reach.CellMissing, missing.State, "the device does not answer into the tunnel")
	require.Equal(t, "[tcp/5900 from office towards their devices]", fmt.Sprint(missing.Wrong))
}

// People whom a source may have are a class before anybody of them was seen, by each group that its mapping makes possible and a passage
// admits: expectations are proved for them, and the board says that nobody was seen.
func TestPossiblePeople(t *testing.T) {
	const source = "sources:\n  - {name: mainland, kind: ldap, servers: ['ldaps://10.20.0.9'], base: 'dc=tern,dc=example'%s}\n\npassages:\n"
	for _, c := range []struct{ groups, want string }{
		{", off: true", "researchers"},
		{"", "researchers turbine-contractor volunteers wardens"},
		{", groups: [{from: isle-*}]", "researchers turbine-contractor volunteers wardens"},
		{", groups: [{from: nest-watchers, to: volunteers}, {from: wardens}, {from: RESEARCHERS}, {from: nobody}]", "researchers volunteers wardens"},
	} {
		m := island.Model(t, "\npassages:\n", "\n"+fmt.Sprintf(source, c.groups))
		k := reach.Compute(m, people[1:2])
		var names []string
		for _, row := range k.Board().Rows {
			names = append(names, row.Class)
			require.Equal(t, row.Class != "researchers", row.Unseen)
			require.NotNil(t, row.Users)
		}
		require.Equal(t, c.want, strings.Join(names, " "), c.groups)
		if strings.Contains(c.want, "volunteers") {
			require.Equal(t, reach.Holds, result(t, k.Proof, "no-guests-in-the-office", "volunteers").Outcome)
			require.Empty(t, result(t, k.Proof, "volunteers-watch-nests", "volunteers").Users)
		}
	}
	m := island.Model(t, "\npassages:\n", "\n"+fmt.Sprintf(source, ""),
		"{name: cameras, action: permit, groups: [volunteers], to: [nestcams], services: [web]}",
		"{name: cameras, action: permit, groups: [wardens], to: [nestcams], services: [web]}")
	require.Equal(t, reach.Fails, result(t, reach.Prove(m, people[1:2]), "volunteers-watch-nests", "volunteers").Outcome)
}

// shuffled does steps at once and in an order of its own.
func shuffled(r *rand.Rand, n int, do func(int)) {
	var all sync.WaitGroup
	for _, i := range r.Perm(n) {
		all.Go(func() { do(i) })
	}
	all.Wait()
}

// However a computation's steps are done, several at once and in any order, what comes of them is the same; and what is told of a board
// without drawing it is what is drawn: which cells are not as they should be, and of whom there is something to say of what comes from
// inside.
func TestStepsInAnyOrder(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	large, crowd := bigplan.Make(bigplan.Size{Groups: 30, Destinations: 60, Rules: 200, Users: 60})
	whole, err := site.Compile(large, "gw")
	require.NoError(t, err)
	for name, of := range map[string]struct {
		m      *site.Model
		people []reach.Person
	}{
		"island": {island.Model(t), people},
		"island, which lacks and has too much": {island.Model(t, "groups: [volunteers], to: [nestcams], services: [web]",
			"groups: [volunteers], to: [office], services: [web]"), people},
		"generated": {whole, crowd},
	} {
		t.Run(name, func(t *testing.T) {
			want := reach.Compute(of.m, of.people)
			w := (*reach.Known)(nil).Begin(of.m, of.people)
			shuffled(r, w.Steps(), w.Do)
			k := w.Known()
			require.Equal(t, want.Proof, k.Proof)
			require.Equal(t, want.Reaches, k.Reaches)
			require.Equal(t, want.Board(), k.Board())

			wantSurplus, wantPins := surpluses(of.m, of.people)
			b := k.Beyond()
			shuffled(r, b.Steps(), b.Do)
			p := b.Pinning()
			shuffled(r, p.Steps(), p.Do)
			require.Equal(t, wantSurplus, b.Surplus())
			require.Equal(t, wantPins, p.Pins())

			inward := map[string]reach.InwardRow{}
			for _, row := range k.Board().Inward {
				inward[row.Class] = row
			}
			for i, row := range k.Board().Rows {
				var bad []int
				for n, c := range row.Cells {
					if c.State == reach.CellMissing || c.State == reach.CellBreach {
						bad = append(bad, n)
					}
				}
				require.Equal(t, bad, k.Wrong()[i], row.Class)
				told, amiss := k.Inward(i)
				require.Equal(t, inward[row.Class].Class != "", told)
				require.Equal(t, len(inward[row.Class].Wrong) > 0, amiss)
			}
		})
	}
}

// What a fault kept from being computed is nobody's proof: neither who asks for that class again nor who asks for all of it is told that
// nothing is wrong.
func TestFaultIsNoProof(t *testing.T) {
	w := (*reach.Known)(nil).Begin(island.Model(t), people)
	class := w.Classes[2].Class
	w.Classes[2].Class = nil
	require.Panics(t, func() { w.Do(2) })
	w.Classes[2].Class = class
	for i := range w.Steps() {
		if i != 2 {
			w.Do(i)
		}
	}
	for range 2 {
		require.PanicsWithValue(t, "the reach of a class was not computed: "+class.Name(), func() { w.Do(2) })
	}
	require.Panics(t, func() { w.Row(2, w.Columns().Destinations) })
	require.Panics(t, func() { w.Known() })
}
