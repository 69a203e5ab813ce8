package plan

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func demoText(t require.TestingT) string {
	b, err := os.ReadFile("../../../demo/plan.yaml")
	require.NoError(t, err)
	return string(b)
}

// Each edit changes its lines and no other.
func TestEdits(t *testing.T) {
	text := demoText(t)
	for _, c := range []struct {
		edit       Edit
		lost, made string // lines of the text before and after, in order
	}{
		{Edit{"set", "pools/guests/prefixes/0", "10.99.2.0/26"}, "  - {name: guests, prefixes: [10.99.1.0/26]}\n", "  - {name: guests, prefixes: [10.99.2.0/26]}\n"},
		{Edit{"set", "pools/staff/prefixes/1", `"fd00:98::/112"`}, `  - {name: staff, prefixes: [10.99.0.0/24, "fd00:99::/112"]}` + "\n", `  - {name: staff, prefixes: [10.99.0.0/24, "fd00:98::/112"]}` + "\n"},
		{Edit{"set", "gateways/jetty/internet", "false"}, "    internet: true\n", "    internet: false\n"},
		{Edit{"set", "networks/station/router", "ridge"}, "    router: jetty\n", "    router: ridge\n"},
		{Edit{"set", "tunnels/main/liveness", "40s"}, "", "    liveness: 40s\n"},
		{Edit{"set", "passages/research/routes", "{full: true}"}, "    routes: {split: [station, archive]}\n", "    routes: {full: true}\n"},
		{Edit{"set", "rules/cameras/log", "true"}, "  - {name: cameras, action: permit, groups: [volunteers], to: [nestcams], services: [web]}\n", "  - {name: cameras, action: permit, groups: [volunteers], to: [nestcams], services: [web], log: true}\n"},
		{Edit{"add", "passages/contractor/routes/split", "office"}, "    routes: {split: [names, turbine]}\n", "    routes: {split: [names, turbine, office]}\n"},
		{Edit{"add", "rules", "{name: new, action: permit, to: [office], services: [ping]}"}, "", "  - {name: new, action: permit, to: [office], services: [ping]}\n"},
		{Edit{"add", "gateways/jetty/routes", "{to: 10.20.50.0/24, via: 10.20.0.2}"}, "", "      - {to: 10.20.50.0/24, via: 10.20.0.2}\n"},
		{Edit{"add", "pools/guests/exclude", "10.99.1.8/29"}, "  - {name: guests, prefixes: [10.99.1.0/26]}\n", "  - {name: guests, prefixes: [10.99.1.0/26], exclude: [10.99.1.8/29]}\n"},
		{Edit{"remove", "rules/cameras", ""}, "  - {name: cameras, action: permit, groups: [volunteers], to: [nestcams], services: [web]}\n", ""},
		{Edit{"remove", "rules/turbine/log", ""}, "  - {name: turbine, action: permit, groups: [turbine-contractor], to: [turbine-control], services: [controls, ping], log: true}\n", "  - {name: turbine, action: permit, groups: [turbine-contractor], to: [turbine-control], services: [controls, ping]}\n"},
		{Edit{"remove", "rules/archive/to/0", ""}, "  - {name: archive, action: permit, groups: [researchers], to: [records, nestcams], services: [web, ping]}\n", "  - {name: archive, action: permit, groups: [researchers], to: [nestcams], services: [web, ping]}\n"},
		{Edit{"remove", "rules/archive/to/1", ""}, "  - {name: archive, action: permit, groups: [researchers], to: [records, nestcams], services: [web, ping]}\n", "  - {name: archive, action: permit, groups: [researchers], to: [records], services: [web, ping]}\n"},
		{Edit{"remove", "passages/wardens/dns", ""}, "    dns: {servers: [10.20.0.53], search: [tern.example]}\n", ""},
		{Edit{"remove", "networks/turbine", ""}, "  - name: turbine        # wind turbine and its controls\n    prefixes: [10.20.40.0/24]\n    router: ridge\n    zone: field\n", ""},
	} {
		got, err := Apply(text, c.edit)
		require.NoError(t, err, "%s", c.edit)
		var lost, made []string
		a, b := lines(text), lines(got)
		for i, j := range align(a, b) {
			if j < 0 {
				lost = append(lost, a[i])
			}
		}
		for i, j := range align(b, a) {
			if j < 0 {
				made = append(made, b[i])
			}
		}
		require.Equal(t, c.lost, strings.Join(lost, ""), "%s", c.edit)
		require.Equal(t, c.made, strings.Join(made, ""), "%s", c.edit)
	}
	for _, c := range []struct {
		edit Edit
		says string
	}{
		{Edit{"set", "rules/nothing/log", "true"}, "there is no rules/nothing"},
		{Edit{"set", "pools/guests/prefixes/0", "10.99.1.0/99"}, "expected a prefix"},
		{Edit{"set", "pools/guests/colour", "blue"}, `unknown field "colour"`},
		{Edit{"set", "name", "a\nformat: 7"}, "more than one line"},
		{Edit{"set", "name", "[unclosed"}, "is no value"},
		{Edit{"add", "name", "x"}, "no list"},
		{Edit{"add", "rules", "{name: cameras, action: permit, to: [any], services: [any]}"}, "used twice"},
		{Edit{"remove", "name", ""}, `field "name" is missing`},
		{Edit{"remove", "rules/none", ""}, "not there"},
		{Edit{"turn", "name", "x"}, "no edit"},
		{Edit{"set", "gateways", "none"}, "several lines"},
		{Edit{"remove", "gateways/jetty/name", ""}, "dash"},
	} {
		_, err := Apply(text, c.edit)
		require.ErrorContains(t, err, c.says, "%s", c.edit)
	}
}

// Whatever is added to a document, however it is laid out, is there afterwards, with all comments; removing it again gives back the text.
func TestAddAndRemove(t *testing.T) {
	text := demoText(t)
	rapid.Check(t, func(t *rapid.T) {
		list := rapid.SampledFrom([]string{"rules", "pools", "services", "groups", "hosts", "nat"}).Draw(t, "list")
		value := map[string]string{
			"rules": "{name: zz%d, action: permit, to: [any], services: [ping]}", "pools": "{name: zz%d, prefixes: [10.98.0.0/24]}", "services": "{name: zz%d, ports: [tcp/9]}",
			"groups": "{name: zz%d}", "hosts": "{name: zz%d, addresses: [10.20.0.99]}", "nat": "{name: zz%d, gateway: jetty, action: exempt}",
		}[list]
		before := text
		if rapid.Bool().Draw(t, "no last newline") {
			before = strings.TrimRight(text, "\n")
		}
		at := before
		n := rapid.IntRange(1, 3).Draw(t, "how many")
		var err error
		for i := range n {
			at, err = Apply(at, Edit{"add", list, fmt.Sprintf(value, i)})
			require.NoError(t, err)
		}
		a, err := Read(before)
		require.NoError(t, err)
		b, err := Read(at)
		require.NoError(t, err)
		changes := Difference(a.Plan, b.Plan)
		require.Len(t, changes, n)
		for i, c := range changes {
			require.Equal(t, fmt.Sprintf("make %s/zz%d", list, i), c.String())
		}
		require.Equal(t, strings.Count(before, "#"), strings.Count(at, "#"))
		for i := range n {
			at, err = Apply(at, Edit{"remove", fmt.Sprintf("%s/zz%d", list, i), ""})
			require.NoError(t, err)
		}
		require.Equal(t, strings.TrimRight(before, "\n"), strings.TrimRight(at, "\n"))
	})
}

func FuzzApply(f *testing.F) {
	text := demoText(f)
	f.Add("set", "name", "x")
	f.Add("add", "rules", "{name: a}")
	f.Add("remove", "pools/staff/prefixes/0", "")
	f.Add("put", "hosts/records", `{"name": "records", "ranges": ["10.20.30.1-10.20.30.9"]}`)
	f.Add("put", "gateways/jetty", "{name: jetty}")
	f.Add("rename", "pools/staff", "crew")
	f.Add("move", "passages/contractor", "wardens")
	f.Fuzz(func(t *testing.T, op, path, value string) {
		if got, err := Apply(text, Edit{op, path, value}); err == nil {
			_, err := Read(got)
			require.NoError(t, err)
		}
	})
}
