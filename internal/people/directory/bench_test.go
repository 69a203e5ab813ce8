package directory_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/people/source"
	"yellowlantern/internal/testkit/directoryserver"
)

// BenchmarkDirectory is logins against a real server, beside binds alone of the same person, in turn, and somebody among 10,000 people in
// groups that are nested ten deep.
func BenchmarkDirectory(b *testing.B) {
	s := directoryserver.Start(b)
	var ldif strings.Builder
	const many = 10_000
	for i := range many {
		uid := fmt.Sprintf("user%05d", i)
		fmt.Fprintf(&ldif, "dn: uid=%s,%s\nobjectClass: inetOrgPerson\nuid: %s\ncn: %s\nsn: %s\nuserPassword: %s\n\n",
			uid, directoryserver.People, uid, uid, uid, password)
	}
	for g := range 100 {
		var members []string
		for i := g; i < many; i += 100 {
			members = append(members, fmt.Sprintf("uid=user%05d,%s", i, directoryserver.People))
		}
		ldif.WriteString(directoryserver.Group(fmt.Sprintf("g%02d-0", g), members...))
		for depth := 1; depth < 10; depth++ {
			ldif.WriteString(directoryserver.Group(fmt.Sprintf("g%02d-%d", g, depth),
				fmt.Sprintf("cn=g%02d-%d,%s", g, depth-1, directoryserver.Groups)))
		}
	}
	s.Add(ldif.String())
	x := mainland(s)
	x.LDAP().Nested = true
	d := opened(b, x)
	direct := mainland(s)
	direct.LDAP().Account, direct.LDAP().BindAs = "", "uid={user},"+directoryserver.People
	bare := opened(b, direct)
	n := 0
	next := func() string { n++; return fmt.Sprintf("user%05d", n*7919%many) }
	b.Run("login, groups ten deep", func(b *testing.B) {
		for b.Loop() {
			p, err := d.Login(b.Context(), source.Call{User: next(), Password: password}, nil)
			require.NoError(b, err)
			require.Len(b, p.Groups, 10)
		}
	})
	b.Run("bind and own entry", func(b *testing.B) {
		for b.Loop() {
			_, err := bare.Login(b.Context(), source.Call{User: next(), Password: password}, nil)
			require.NoError(b, err)
		}
	})
	b.Run("look, groups ten deep", func(b *testing.B) {
		for b.Loop() {
			_, err := d.Look(b.Context(), next(), nil)
			require.NoError(b, err)
		}
	})
}
