package e2e

import (
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/client"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/dial"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/store"
	"yellowlantern/internal/testkit/directoryserver"
	"yellowlantern/internal/tour"
)

const herPassword = "gannet lantern mosaic"

// mainland is Tern Island with a tunnel that hands passwords over, and a directory of the mainland's people.
func mainland(t *testing.T, more string) (*tour.Demo, *directoryserver.Server, terminal) {
	s := directoryserver.Start(t)
	dora := "uid=dora," + directoryserver.People
	s.Add(directoryserver.Person("uid=dora", "dora", "Dora Directory", herPassword) +
		directoryserver.Person("uid=nogroup", "nogroup", "No Group", herPassword) +
		directoryserver.Person("uid=wanda.warden", "wanda.warden", "Another Wanda", herPassword) +
		directoryserver.Group("isle-researchers", dora))
	d := island(t, nil)
	x := newTerminal(t, d)
	secret := filepath.Join(t.TempDir(), "secret")
	require.NoError(t, os.WriteFile(secret, []byte(directoryserver.AccountSecret+"\n"), 0o600))
	x.did("secret", "keep", "mainland-account", "--kind", "password", "--from-file", secret)
	object := fmt.Sprintf("sources:\n  - name: mainland\n    kind: ldap\n    servers: [%s]\n    authority: |\n      %s\n    account: %s\n"+
		"    secret: mainland-account\n    base: %s\n    group-base: %s\n    groups: [{from: isle-*}]\n%s\npassages:\n", s.LDAPS,
		strings.ReplaceAll(strings.TrimSpace(s.Authority), "\n",
			"\n      "), `"`+directoryserver.Account+`"`, `"`+directoryserver.People+`"`,
		`"`+directoryserver.Groups+`"`, more)
	recommit(t, d, "login: eap-mschapv2", "login: eap-ttls", "\npassages:\n", "\n"+object)
	return d, s, x
}

func asHer(user, password string) func(*probe.Order, *probe.Options) {
	return func(_ *probe.Order, o *probe.Options) { o.Password = password }
}

// Somebody of the directory comes in by a group of it, beside the service's own people; is tried before; is told apart when she does not.
func TestDirectory(t *testing.T) {
	d, s, x := mainland(t, "    timeout: 10s\n")
	out := x.did("sources", "try", "mainland", "dora")
	require.Contains(t, out, "found uid=dora,ou=people,dc=tern,dc=example")
	require.Contains(t, out, "dora is found, in researchers, and comes in by passage research")
	password := write(t, herPassword+"\n")
	require.Contains(t, x.did("sources", "try", "mainland", "dora", "--password-file", password), "bound as uid=dora")
	_, exit, err := x.run("sources", "try", "mainland", "nobody-of-that-name")
	require.ErrorContains(t, err, "0 entries below ou=people,dc=tern,dc=example, the filter was (uid=nobody-of-that-name)")
	require.Equal(t, 1, exit)
	_, _, err = x.run("sources", "try", "mainland", "nogroup")
	require.ErrorContains(t, err, "none of their groups (none) is one of the plan's")

	// Who was never here is given what a device needs.
	require.Equal(t, "dora", order(t, d, "DORA").User)
	_, err = client.Get[probe.Order](t.Context(), d.Client, "/probes/order?user=nobody-of-that-name")
	require.ErrorContains(t, err, "there is no active user")

	tn, err := with(t, d, "dora", asHer("dora", herPassword))
	require.NoError(t, err)
	require.NoError(t, ping(t, tn, "10.20.30.5"))
	_, err = with(t, d, "rory.researcher", nil)
	require.NoError(t, err, "the service's own people come in by the same tunnel")
	// A name of the service's own is nobody's there, however it is written.
	_, err = with(t, d, "WANDA.WARDEN", asHer("", herPassword))
	require.Error(t, err)
	journaled(t, d, "refused", "one of the service's own users has that name")
	_, err = with(t, d, `TERN\dora`, asHer("", herPassword))
	require.NoError(t, err)
	_, err = with(t, d, "dora", asHer("dora", "wrong"))
	require.Error(t, err)
	journaled(t, d, "refused", "wrong password")
	x.did("slowed", "lift")

	out = x.did("people", "explain", "dora")
	for _, says := range []string{
		"✓ mainland: uid=dora", "local: no user of that name", "✓ passage research: it admits researchers",
		"records", "sessions now: 2",
	} {
		require.Contains(t, out, says)
	}
	require.Contains(t, x.did("people", "list", "--filter", "mainland"), "dora")
	out, exit, err = x.run("people", "explain", "nogroup")
	require.Error(t, err)
	require.Equal(t, 1, exit)
	require.Contains(t, out, "✗ no passage admits somebody in no group")
	_, _, err = x.run("people", "explain", "nobody-of-that-name")
	require.ErrorContains(t, err, "0 entries below")
	require.Contains(t, x.did("people", "explain", "--all"), "people who match no passage")

	// A directory that is away, or hangs, is no wrong password, and keeps nobody else waiting.
	halt(t, s.Process())
	slow := make(chan error, 1)
	go func() {
		_, err := with(t, d, "dora", asHer("dora", herPassword))
		slow <- err
	}()
	time.Sleep(300 * time.Millisecond)
	_, err = with(t, d, "rory.researcher", nil)
	require.NoError(t, err)
	select {
	case err := <-slow:
		t.Fatalf("somebody was judged by a server that is stopped: %v", err)
	default:
	}
	require.NoError(t, syscall.Kill(s.Process(), syscall.SIGCONT))
	require.NoError(t, <-slow, "it answered before the time was over")
	s.Stop()
	ctx, stop := context.WithTimeout(t.Context(), 12*time.Second) // it begins anew by itself, and would try on
	defer stop()
	o := order(t, d, "rory.researcher")
	o.User, o.TCPPort = "dora", 0
	u := from(t, d, "home")
	go func() {
		_, err := probe.Open(ctx, u, o, probe.Options{Password: herPassword})
		slow <- err
	}()
	journaled(t, d, "refused", "not judged: source mainland does not answer")
	err = <-slow
	require.ErrorContains(t, err, "the gateway answered, and nobody can judge the login there", "nothing on the way drops it")
	var fault *dial.Fault
	require.ErrorAs(t, err, &fault)
	require.Equal(t, reason.FaultStopped, fault.Code)
	require.NoError(t, tn.Ended(), "who is connected stays so")
	out, exit, _ = x.run("status")
	require.Equal(t, 1, exit)
	require.Contains(t, out, "mainland cannot be asked since")
	out, _, err = x.run("diagnose", "dora", "--complaint", "cannot-connect", "--no-trial")
	require.NoError(t, err)
	require.Contains(t, out, "1. ")
	require.Contains(t, out, "the source where dora is kept does not answer")
	require.Contains(t, out, "sources/mainland/servers")
}

// halt stops a process, and returns once each of its threads has stopped: the signal goes to one of them, and until that one has its turn
// the others go on.
func halt(t *testing.T, process int) {
	t.Helper()
	require.NoError(t, syscall.Kill(process, syscall.SIGSTOP))
	require.Eventually(t, func() bool {
		threads, err := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/stat", process))
		require.NoError(t, err)
		for _, path := range threads {
			b, err := os.ReadFile(path)
			_, after, _ := strings.Cut(string(b), ") ")
			if err == nil && !strings.HasPrefix(after, "T") {
				return false
			}
		}
		return len(threads) > 0
	}, 30*time.Second, 5*time.Millisecond)
}

// Where the plan says so, somebody who was let in lately comes in while the directory is away, by the same password alone.
func TestDirectoryRemembered(t *testing.T) {
	d, s, _ := mainland(t, "    remember: 1h\n    timeout: 1s\n")
	_, err := with(t, d, "dora", asHer("dora", herPassword))
	require.NoError(t, err)
	s.Stop()
	byPassword := func(password string) func(*probe.Order, *probe.Options) {
		return func(o *probe.Order, p *probe.Options) { byUDP(o, p); p.Password = password }
	}
	tn, err := with(t, d, "dora", byPassword(herPassword))
	require.NoError(t, err)
	require.NoError(t, ping(t, tn, "10.20.30.5"))
	ctx, stop := context.WithTimeout(t.Context(), 30*time.Second)
	defer stop()
	o := order(t, d, "rory.researcher")
	o.User, o.TCPPort = "dora", 0
	for range 2 {
		_, err = probe.Open(ctx, from(t, d, "home"), o, probe.Options{Password: "another one"})
		require.Error(t, err)
	}
	journaled(t, d, "refused", "wrong password")
	journaled(t, d, "refused", "not judged: wrong passwords came from there")
	newTerminal(t, d).did("slowed", "lift")
	rec, err := d.Store.SourcePerson(t.Context(), "dora")
	require.NoError(t, err)
	require.NotContains(t, rec.Hash, herPassword)
	rec.At = rec.At.Add(-time.Hour)
	require.NoError(t, d.Store.SaveSourcePerson(t.Context(), rec))
	_, err = probe.Open(ctx, from(t, d, "home"), o, probe.Options{Password: herPassword})
	require.Error(t, err, "its time is over")
}

// Who is switched off in the directory, or taken out of a group, loses their session within the time that the plan says.
func TestDirectoryTakesBack(t *testing.T) {
	d, s, _ := mainland(t, "    look-again: 30s\n")
	tn, err := with(t, d, "dora", asHer("dora", herPassword))
	require.NoError(t, err)
	s.Change("dn: uid=dora," + directoryserver.People + "\nchangetype: modify\nreplace: shadowExpire\nshadowExpire: 1\n")
	require.NoError(t, tn.Ended())
	rec, err := d.Store.SourcePerson(t.Context(), "dora")
	require.NoError(t, err)
	require.Equal(t, "researchers", rec.Groups)
	rec.Checked = rec.Checked.Add(-30 * time.Second) // as if that time were over
	require.NoError(t, d.Store.SaveSourcePerson(t.Context(), rec))
	d.App.Members.Keep(t.Context())
	d.App.Members.Keep(t.Context())
	ends(t, tn)
	journaled(t, d, "ended", "source mainland says that they may no longer come in")
	_, err = with(t, d, "dora", asHer("dora", herPassword))
	require.Error(t, err)
	journaled(t, d, "refused", "source mainland does not let them in: their account ended there on 1970-01-02")
}

// A password that counts only to choose another with is changed in the login itself, where the device is asked once more: in the directory,
// with what it says of the new one, and of the service's own people by the same tunnel.
func TestDirectoryChangesPassword(t *testing.T) {
	t.Parallel()
	d, s, x := mainland(t, "    change-passwords: true\n")
	s.Change("dn: uid=dora," + directoryserver.People + "\nchangetype: modify\nreplace: pwdPolicySubentry\npwdPolicySubentry: cn=made for them," +
		directoryserver.Base + "\n-\nreplace: pwdReset\npwdReset: TRUE\n")
	made := strings.TrimSpace(x.did("users", "password", "rory.researcher", "--make-password"))
	made = made[strings.LastIndexAny(made, " \n")+1:]
	for user, old := range map[string]string{"dora": herPassword, "rory.researcher": made} {
		choosing := func(old, next string) error {
			o := order(t, d, "wanda.warden")
			o.User, o.TCPPort = user, 0
			ctx, stop := context.WithTimeout(t.Context(), 30*time.Second)
			defer stop()
			tn, err := probe.Open(ctx, from(t, d, "home"), o, probe.Options{Password: old, NextPassword: next})
			if err != nil {
				return err
			}
			defer tn.Close()
			require.True(t, tn.Given.Changed || next == "" || old == next)
			return ping(t, tn, "10.20.30.5")
		}
		const next = "four gannets in a lantern"
		require.Error(t, choosing(old, ""))
		journaled(t, d, "refused", "counts only to choose another with")
		require.Error(t, choosing(old, "password"), "it will not do")
		journaled(t, d, "refused", "will not do")
		require.NoError(t, choosing(old, next), user)
		require.Error(t, choosing(old, ""), "the former one counts no more")
		x.did("slowed", "lift")
		require.NoError(t, choosing(next, ""), user)
	}
	require.Contains(t, x.did("sources", "try", "mainland", "dora"), "comes in by passage research")
}

// What the service proves itself with is sent to the servers alone that it was stored for: an administrator whose draft names others has to
// give it again, or to have the draft approved by somebody else; and cannot commit it.
func TestSecretsStayWithTheirServers(t *testing.T) {
	d, s, x := mainland(t, "")
	mallory, _ := hire(t, d, x, "mallory", "administrator")
	hanna, _ := hire(t, d, x, "hanna.helpdesk", "help-desk")
	var asked atomic.Int32
	elsewhere, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer elsewhere.Close()
	go func() {
		for {
			c, err := elsewhere.Accept()
			if err != nil {
				return
			}
			asked.Add(1)
			_ = c.Close()
		}
	}()
	server := "ldaps://" + elsewhere.Addr().String()
	text := mallory.did("plan", "show")
	require.Contains(t, text, s.LDAPS)
	save := func(text string) {
		_, _, _ = mallory.run("plan", "load", write(t, text), "--draft", "mine") // it has a finding that stops a commit
	}
	try := func(x terminal, more ...string) error {
		_, _, err := x.run(append([]string{"sources", "try", "mainland", "dora", "--draft", "mine"}, more...)...)
		return err
	}
	authority := strings.Split(strings.TrimSpace(s.Authority), "\n")[1]
	for what, change := range map[string]string{
		"another server":    strings.Replace(text, s.LDAPS, server, 1),
		"a further server":  strings.Replace(text, "servers: ["+s.LDAPS, "servers: ["+server+", "+s.LDAPS, 1),
		"another authority": strings.Replace(strings.Replace(text, authority, strings.Repeat("A", len(authority)), 1), s.LDAPS, s.LDAPS, 1),
	} {
		require.NotEqual(t, text, change, what)
		save(change)
		require.ErrorContains(t, try(mallory), "was stored for other servers, or another authority", what)
		_, _, err := mallory.run("plan", "commit", "--draft", "mine", "-m", "mine")
		require.Error(t, err, what)
	}
	require.Zero(t, asked.Load(), "nothing was sent")
	save(strings.Replace(text, s.LDAPS, server, 1))
	_, _, err = mallory.run("plan", "commit", "--draft", "mine", "-m", "mine")
	require.ErrorContains(t, err, "give it again (yl secret keep mainland-account --again --kind password --from-file FILE)")
	require.ErrorContains(t, try(hanna), "is not for you (help-desk)")
	journaled(t, d, "change", "mallory tried source mainland at "+server+", of draft mine, with dora, without its secret")

	own := write(t, "a word of mallory's own\n")
	require.Error(t, try(mallory, "--secret-file", own))
	require.NotZero(t, asked.Load(), "what they gave themselves is sent")
	asked.Store(0)
	draft, err := d.Store.Draft(t.Context(), "mine")
	require.NoError(t, err)
	later := store.Approval{Digest: plans.Digest(draft), By: "admin", At: time.Now().Add(25 * time.Hour)} // mallory was made just now
	require.NoError(t, d.Store.AddApproval(t.Context(), later))
	require.Error(t, try(mallory))
	require.NotZero(t, asked.Load(), "another administrator approved where it is sent")

	// One that somebody gave, and nothing has sent yet, is theirs.
	x.did("secret", "keep", "fresh", "--kind", "password", "--from-file", own)
	asked.Store(0)
	save(strings.Replace(strings.Replace(text, s.LDAPS, server, 1), "secret: mainland-account", "secret: fresh", 1))
	require.ErrorContains(t, try(mallory), "secret fresh was given by admin, and no revision sends it anywhere yet")
	require.Zero(t, asked.Load())
	require.Error(t, try(x))
	require.NotZero(t, asked.Load())
}
