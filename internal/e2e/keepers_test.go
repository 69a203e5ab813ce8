package e2e

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/testkit/directoryserver"
	"yellowlantern/internal/testkit/mailserver"
)

// Administrators are people of a directory where the plan says so: by a group there, with that group's role, until the directory says
// otherwise. The one of last resort signs in when it is away, which raises an alarm; nobody else of the service's own does.
func TestAdministratorsOfADirectory(t *testing.T) {
	t.Parallel()
	post := mailserver.Start(t, true)
	d, s, x := mainland(t, "    look-again: 30s\n    timeout: 2s\n")
	dora, nogroup := "uid=dora,"+directoryserver.People, "uid=nogroup,"+directoryserver.People
	s.Add(directoryserver.Group("lantern-keepers", dora) + directoryserver.Group("lantern-readers", nogroup))
	keeper, _ := hire(t, d, x, "keeper", "administrator")
	keeper.did("tokens", "remove", "own")
	text := x.did("plan", "show") + "\nadministrators:\n  - {name: keepers, source: mainland, groups: [lantern-keepers], role: administrator}\n" +
		"  - {name: readers, source: mainland, groups: [lantern-*], role: auditor}\nlast-resort: keeper\nalarm-to: [keepers@tern.example]\n" +
		mailserver.Settings(post)
	x.did("plan", "load", write(t, text))
	x.did("plan", "commit", "-m", "administrators", "--accept", "all", "--because", "this is a test")
	signIn := func(name, password string) (terminal, error) {
		y := terminal{t, t.TempDir() + "/access"}
		_, _, err := y.run("sign-in", d.URL(), "--name", name, "--password-file", write(t, password))
		x.did("slowed", "lift")
		return y, err
	}
	hers, err := signIn("DORA", herPassword)
	require.NoError(t, err)
	hers.did("administrators", "list")
	out := squeezed(x.did("administrators", "list"))
	require.Contains(t, out, "dora administrator mainland no second factor")
	for _, says := range []string{"does not sign in", "last resort", "admin administrator here"} {
		require.Contains(t, out, says)
	}
	hers.did("users", "change", "rory.researcher", "--mail", "rory@tern.example")
	journaled(t, d, "change", "dora, by token")
	for name, password := range map[string]string{
		"dora": "wrong", "rory.researcher": d.Passwords["rory.researcher"],
		"admin": "wrong", "*": herPassword,
	} {
		_, err = signIn(name, password)
		require.ErrorContains(t, err, "name or password is wrong", name)
	}
	journaled(t, d, "refused", "was not let into the console")
	_, err = signIn("admin", d.Admin)
	require.ErrorContains(t, err, "administrators are people of source mainland here")
	_, _, err = x.run("administrators", "role", "dora", "--role", "auditor")
	require.ErrorContains(t, err, "follows from their groups")
	_, _, err = x.run("administrators", "password", "dora")
	require.ErrorContains(t, err, "it is changed there")
	reads, err := signIn("nogroup", herPassword)
	require.NoError(t, err)
	require.NotContains(t, reads.did("status"), "last resort")
	_, _, err = reads.run("users", "remove", "rory.researcher")
	require.ErrorContains(t, err, "auditor")

	older := func(name string, by time.Duration) {
		a, err := d.Store.Administrator(t.Context(), name)
		require.NoError(t, err)
		a.Checked = a.Checked.Add(-by)
		require.NoError(t, d.Store.SaveElsewhere(t.Context(), a))
	}
	// Who is taken out of the group is an administrator no more, and again once they are back in it.
	s.Change("dn: cn=lantern-readers," + directoryserver.Groups + "\nchangetype: delete\n")
	older("nogroup", time.Minute)
	d.App.Access.Keep(t.Context())
	_, _, err = reads.run("status")
	require.ErrorContains(t, err, "sign in first")
	journaled(t, d, "trust", "is no administrator any more, as source mainland says: no group of theirs")
	s.Add(directoryserver.Group("lantern-readers", nogroup))
	older("nogroup", time.Minute)
	d.App.Access.Keep(t.Context())
	reads.did("status")

	// What the directory said counts on for an hour while it is away. Then, and to sign in, there is the one of last resort.
	s.Stop()
	older("dora", time.Minute)
	d.App.Access.Keep(t.Context())
	hers.did("administrators", "list")
	older("dora", time.Hour)
	_, _, err = hers.run("administrators", "list")
	require.ErrorContains(t, err, "sign in first")
	_, err = signIn("dora", herPassword)
	require.ErrorContains(t, err, "source mainland does not answer")
	require.ErrorContains(t, err, "of last resort")
	require.NotContains(t, x.did("journal", "--kind", "trust"), "ALARM")
	_, err = signIn("KEEPER", "four unrelated words for keeper")
	require.NoError(t, err, "however it is written, that password goes to no source")
	journaled(t, d, "trust", "ALARM: the administrator of last resort signed in")
	require.Eventually(t, func() bool { return strings.Contains(strings.Join(post.Messages(), ""), "keepers@tern.example") },
		10*time.Second, 20*time.Millisecond)
	out, _, _ = x.run("status")
	require.Contains(t, squeezed(out), "keeper, the administrator of last resort, has a browser signed in, or a token, since")
	s.Run()
	hers.did("administrators", "list")
}
