package check

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/demo"
	"yellowlantern/internal/core/plan"
)

// Each mistake that keeps administrators of a directory out, or the one of last resort, is found; without one nothing is.
func TestFindingsOfAdministrators(t *testing.T) {
	s, err := demo.Load("")
	require.NoError(t, err)
	const right = "sources:\n  - {name: mainland, kind: ldap, servers: ['ldaps://10.20.0.9'], base: 'dc=tern,dc=example', account: 'cn=a,dc=tern,dc=example', secret: kept}\n" +
		"administrators:\n  - {name: keepers, source: mainland, groups: ['cn=vpn-keepers,dc=tern,dc=example'], role: administrator}\n" +
		"last-resort: keeper\nalarm-to: [keepers@tern.example]\nmail-server: smtps://mail.tern.example\nmail-from: gate@tern.example\n"
	for _, c := range []struct{ was, is, want string }{
		{"", "", ""},
		{"groups: ['cn=vpn-keepers,dc=tern,dc=example']", "groups: []", "administrators-of-no-group@administrators/keepers/groups"},
		{"groups: ['cn=vpn-keepers,dc=tern,dc=example']", "groups: ['*']", "administrators-of-any-group@administrators/keepers/groups"},
		{"'cn=vpn-keepers,dc=tern,dc=example'", "vpn-keepers", "administrators-by-common-name@administrators/keepers/groups/0"},
		{"'cn=vpn-keepers,dc=tern,dc=example'", "vpn-*", "administrators-by-common-name@administrators/keepers/groups/0"},
		{", account: 'cn=a,dc=tern,dc=example'", "", "administrators-source@administrators/keepers/source"},
		{"secret: kept}", "secret: kept, off: true}", "administrators-source@administrators/keepers/source"},
		{"role: administrator", "role: auditor", "administrators-none-whole@administrators"},
		{"last-resort: keeper\n", "", "last-resort-none@administrators"},
		{"last-resort: keeper", "last-resort: ada", "last-resort-nobody@last-resort"},
		{"keepers@tern.example", "keepers", "alarm-address@alarm-to/0"},
		{"mail-server: smtps://mail.tern.example\n", "", "mail-nowhere@alarm-to"},
		{"role: administrator}", "role: administrator, off: true}", "last-resort-unused@last-resort"},
	} {
		require.Contains(t, right, c.was)
		in := input(t, s.Plan+"\n"+strings.Replace(right, c.was, c.is, 1))
		in.Secrets = map[string]bool{"kept": true}
		in.Administrators = []Administrator{{Name: "keeper", Role: "administrator"}, {
			Name: "dora", Role: "administrator",
			Source: "mainland",
		}}
		if c.want == "last-resort-none@administrators" { // who only reads will not do
			in.Administrators = append(in.Administrators, Administrator{Name: "auditor", Role: "auditor"})
			all := Run(in)
			i := slices.IndexFunc(all, func(f Finding) bool { return f.Code == "last-resort-none" })
			require.Equal(t, []plan.Edit{{Op: "set", Path: "last-resort", Value: "keeper"}}, all[i].Mend)
		}
		found := strings.Join(ids(Run(in)), " ")
		if c.want != "" {
			require.Contains(t, found, c.want)
			continue
		}
		for _, none := range []string{"administrators", "last-resort", "alarm"} {
			require.NotContains(t, found, none)
		}
		in.Administrators = append(in.Administrators, Administrator{Name: "ada", Role: "auditor"})
		require.Contains(t, ids(Run(in)), "own-administrators@administrators")
	}
}
