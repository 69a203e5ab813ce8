package plan

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"os"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

const small = `# a comment that stays
format: 1
name: Small
gateways:
  - name: gw
    dial: gw.example
    outside: {addresses: [192.0.2.1]}
pools:
  - {name: staff, prefixes: [10.99.0.0/24]}
rules:
  - {name: one, action: permit, to: [any], services: [ping]}
  - {name: two, action: refuse, to: [any], services: [tcp/22], log: true}
`

// Every fault names line, column, setting and what was expected; all are told at once.
func TestFaults(t *testing.T) {
	cases := []struct{ find, put, place, says string }{
		{"name: Small", "nmae: Small", "line 3, column 1", `unknown field "nmae"; expected one of format, name, time-zone, kits-at`},
		{"name: Small", "name: Small\nname: Twice", "line 4, column 1", `"name" is given twice`},
		{"format: 1\n", "", "line 2, column 1", `field "format" is missing`},
		{"format: 1", "format: 2", "line 2, column 9", "format 2 is not one this version reads; expected 1"},
		{"format: 1", "format: one", "line 2, column 9", "expected a whole number"},
		{"10.99.0.0/24", "10.99.0.0/33", "line 9, column 30", `pools/staff/prefixes/0: "10.99.0.0/33" will not do; expected a prefix`},
		{"[192.0.2.1]", "[192.0.2.256]", "line 7, column 27", "expected an address"},
		{"[192.0.2.1]", "192.0.2.1", "line 7, column 26", "expected a list"},
		{"[192.0.2.1]", "[\"::ffff:192.0.2.1\"]", "line 7", "expected the IPv4 address by itself, 192.0.2.1"},
		{"[192.0.2.1]", "[\"fe80::1%eth0\"]", "line 7", "without a zone"},
		{"action: permit", "action: allow", "line 11, column 25", `"allow" will not do; expected one of permit, refuse`},
		{"log: true", "log: perhaps", "line 12", "expected true or false"},
		{"name: two", "name: one", "line 12, column 12", `the name "one" is used twice in rules`},
		{"name: two", "name: internet", "line 12", "has a meaning of its own"},
		{"name: two", "name: Two Rules", "line 12", "cannot be a name"},
		{"{addresses: [192.0.2.1]}", "&x {addresses: [192.0.2.1]}", "line 7", "anchors and aliases are not read"},
		{"outside: {addresses: [192.0.2.1]}", "outside: [1]", "line 7", "expected fields: addresses, changes, update, calls, in-front"},
		{"to: [any], services: [ping]", "to: [any]", "line 11", `rules/one/services: field "services" is missing`},
		{"name: Small", "name: [", "line 4", "expected YAML"},
	}
	for _, c := range cases {
		require.Equal(t, 1, strings.Count(small, c.find), c.find)
		_, err := Read(strings.Replace(small, c.find, c.put, 1))
		require.ErrorContains(t, err, c.place, c.put)
		require.ErrorContains(t, err, c.says, c.put)
	}
	_, err := Read(strings.NewReplacer("name: Small", "nmae: Small", "log: true", "log: no way").Replace(small))
	fs, ok := AsFaults(err)
	require.True(t, ok)
	require.Len(t, fs, 3, "all faults at once: %v", fs)
	for _, text := range []string{"", "   \n", "[]", "5", "a: {b: [c", strings.Repeat("[", 20000), strings.Repeat("x", MaxSize+1)} {
		_, err := Read(text)
		require.Error(t, err)
	}
}

func TestPlaces(t *testing.T) {
	d, err := Read(small)
	require.NoError(t, err)
	require.Equal(t, Pos{12, 5}, d.Place("rules/two"))
	require.Equal(t, Pos{11, 54}, d.Place("rules/one/services"))
	require.Equal(t, Pos{12, 5}, d.Place("rules/two/groups/0"), "what is not there is placed at the nearest setting around it")
	require.Equal(t, small, d.Text)
}

func TestDifference(t *testing.T) {
	read := func(old ...string) Plan {
		d, err := Read(strings.NewReplacer(old...).Replace(small))
		require.NoError(t, err)
		return d.Plan
	}
	before := read()
	require.Empty(t, Difference(before, read("# a comment that stays\n", "")))
	var got []string
	for _, c := range Difference(before, read("name: Small", "name: Large", "10.99.0.0/24", "10.98.0.0/24, 10.97.0.0/24",
		"  - {name: one, action: permit, to: [any], services: [ping]}\n", "  - {name: zero, action: permit, to: [any], services: [ping]}\n", ", log: true", "", "dial: gw.example", "internet: true\n    dial: gw.example")) {
		got = append(got, c.String())
	}
	require.Equal(t, []string{
		"change name from Small to Large", "set gateways/gw/internet to true", "change pools/staff/prefixes from 10.99.0.0/24 to 10.98.0.0/24, 10.97.0.0/24",
		"rename rules/one to zero", "remove rules/two/log (was true)",
	}, got)
}

// Merging brings both sides' changes together; lines that both changed differently are conflicts, and only those.
func TestMerge(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 12).Draw(t, "lines")
		base := make([]string, n)
		for i := range base {
			// all different: where lines repeat, which of them was changed can be unclear, and is then a conflict
			base[i] = fmt.Sprintf("line %d\n", i)
		}
		ours, theirs := append([]string{}, base...), append([]string{}, base...)
		who := make([]int, n)
		for i := range who {
			switch who[i] = rapid.IntRange(0, 6).Draw(t, "who"); {
			case who[i] == 1 && (i == 0 || who[i-1] != 2):
				ours[i] = "ours " + string(rune('0'+i)) + "\n"
			case who[i] == 2 && (i == 0 || who[i-1] != 1):
				theirs[i] = "theirs " + string(rune('0'+i)) + "\n"
			default:
				who[i] = 0
			}
		}
		merged, conflicts := Merge(strings.Join(base, ""), strings.Join(ours, ""), strings.Join(theirs, ""))
		require.Empty(t, conflicts)
		for i := range base {
			want := map[int]string{0: base[i], 1: ours[i], 2: theirs[i]}[who[i]]
			require.Contains(t, merged, want)
		}
		require.Equal(t, n, strings.Count(merged, "\n"))
	})
	// However much lines repeat: where one side changed nothing, the other side's text is the outcome.
	rapid.Check(t, func(t *rapid.T) {
		some := rapid.Custom(func(t *rapid.T) string {
			return strings.Join(rapid.SliceOfN(rapid.SampledFrom([]string{"a\n", "b\n", "c\n"}), 0, 12).Draw(t, "lines"), "")
		})
		base, other := some.Draw(t, "base"), some.Draw(t, "other")
		for _, sides := range [][2]string{{base, other}, {other, base}, {other, other}} {
			merged, conflicts := Merge(base, sides[0], sides[1])
			require.Empty(t, conflicts)
			require.Equal(t, other, merged)
		}
	})
	_, conflicts := Merge("a\nb\nc\n", "a\nx\nc\n", "a\ny\nc\n")
	require.Equal(t, []Conflict{{2, "b\n", "x\n", "y\n"}}, conflicts)
	same, conflicts := Merge("a\nb\n", "a\nx\n", "a\nx\n")
	require.Empty(t, conflicts)
	require.Equal(t, "a\nx\n", same)
}

func TestPoolLeavesOutEdges(t *testing.T) {
	p := Pool{Prefixes: []netip.Prefix{
		netip.MustParsePrefix("10.99.0.0/29"), netip.MustParsePrefix("10.99.1.0/31"),
		netip.MustParsePrefix("fd00::/126"),
	}, Exclude: []Range{RangeOf(netip.MustParseAddr("10.99.0.2"), netip.MustParseAddr("10.99.0.2"))}}
	require.Equal(t, "10.99.0.1, 10.99.0.3-10.99.0.6, 10.99.1.0/31, fd00::1-fd00::3", p.Addresses().String())
}

// A document that would act on a terminal is none, whether its characters stand there or are written as YAML's escapes.
func TestHiddenCharacters(t *testing.T) {
	text := demoText(t)
	for _, c := range []struct{ note, problem string }{
		{"watch \x1b[2J the nests", "U+001B"},
		{"watch \u202e the nests", "U+202E"},
		{"watch \u009b31m", "U+009B"},
		{`"watch \x1b[2J the nests"`, "U+001B"},
		{`"\u202egpj"`, "U+202E"},
		{"nests # \u2066 a comment", "U+2066"},
		{`"\x9b"`, "U+009B"},
	} {
		_, err := Read(strings.Replace(text, "note: watch the nest cameras", "note: "+c.note, 1))
		require.ErrorContains(t, err, c.problem, c.note)
		require.NotContains(t, err.Error(), "\x1b")
		var faults Faults
		require.ErrorAs(t, err, &faults)
		require.Equal(t, 1+strings.Count(text[:strings.Index(text, "note: watch the nest cameras")], "\n"), faults[0].Line)
	}
}

// A text that is no plan gets a small answer, soon, and for little memory, however large it is.
func TestFaultsAreBounded(t *testing.T) {
	for _, c := range []struct{ member, problem string }{
		{"{}", "more faults than are told at once"},
		{"{name: [], x: y}", "more faults than are told at once"},
		{"7", "more faults than are told at once"},
	} {
		text := "format: 1\nname: Small\nrules: [" + strings.Repeat(c.member+",", MostInList) + "]\n"
		_, err := Read(text)
		fs, ok := AsFaults(err)
		require.True(t, ok)
		require.Len(t, fs, MostFaults)
		require.ErrorContains(t, fs[MostFaults-1], c.problem)
		written, err := json.Marshal(fs)
		require.NoError(t, err)
		require.Less(t, len(written), 100<<10)
	}
	_, err := Read("format: 1\nname: Small\n" + strings.Repeat("a:\n", mostValues))
	require.ErrorContains(t, err, "lines and members of lists in the document; expected at most 500000")
	_, err = Read("format: 1\nname: " + strings.Repeat("ü", MaxSize/3) + "\n" + strings.Repeat("y", 3*mostWords) + ": 1\n")
	require.Error(t, err)
	require.Less(t, len(err.Error()), 4*mostWords)
	require.True(t, utf8.ValidString(err.Error()))
	_, err = Read("format: 1\nname: Small\nrules: [" + strings.Repeat("{},", MostInList+1) + "]\n")
	require.ErrorContains(t, err, "rules: there are 50001 in this list; expected at most 50000")
	begun := make(chan error)
	for range 8 { // more than are read at once, each to its end
		go func() { _, err := Read(small + "#" + strings.Repeat("x", large)); begun <- err }()
	}
	for range 8 {
		require.NoError(t, <-begun)
	}
}

func FuzzRead(f *testing.F) {
	f.Add(small)
	f.Add("format: 1\nname: {a: b}\ngateways: [[]]\n")
	f.Fuzz(func(t *testing.T, text string) {
		d, err := Read(text)
		if err != nil {
			fs, ok := AsFaults(err)
			require.True(t, ok)
			require.NotEmpty(t, fs)
			return
		}
		require.Empty(t, Difference(d.Plan, d.Plan))
		Index(&d.Plan)
	})
}

// docs/plan.md says what the types say.
func TestReferenceIsCurrent(t *testing.T) {
	page, err := os.ReadFile("../../../docs/plan.md")
	require.NoError(t, err)
	require.True(t, Reference() == string(page), "docs/plan.md is stale: make docs")
	require.NotContains(t, Reference(), "|  *", "every field has words")
}
