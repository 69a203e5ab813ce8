package e2e

import (
	"fmt"
	"net"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/client"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/instance"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/testkit/radiusserver"
	"yellowlantern/internal/tour"
)

// judged is Tern Island with a RADIUS server that judges logins of people whom it does not have itself, by a way of logging in.
func judged(t *testing.T, s *radiusserver.Server, login, more string) (*tour.Demo, terminal) {
	return judgedAt(t, s, login, more, nil)
}

func judgedAt(t *testing.T, s *radiusserver.Server, login, more string, change func(*instance.Options)) (*tour.Demo, terminal) {
	d := island(t, change)
	x := newTerminal(t, d)
	x.did("secret", "keep", "mainland", "--kind", "password", "--from-file", write(t, radiusserver.Secret+"\n"))
	object := fmt.Sprintf("sources:\n  - name: mainland\n    kind: radius\n    servers: [%q]\n    secret: mainland\n    timeout: 3s\n%s\npassages:\n",
		s.UDP, more)
	recommit(t, d, "login: eap-mschapv2", "login: "+login, "\npassages:\n", "\n"+object)
	return d, x
}

// as is somebody of the server's, by the kit of somebody else: who they are nobody knows before they came.
func as(user, password string) func(*probe.Order, *probe.Options) {
	return func(r *probe.Order, o *probe.Options) { r.User, o.Password = user, password }
}

// People whom a RADIUS server vouches for come in by each way of logging in that it judges, beside the service's own; their address and
// limits are those that it gives.
func TestRADIUS(t *testing.T) {
	s := radiusserver.Start(t, "mschapv2")
	for _, login := range []string{"eap-mschapv2", "eap-ttls", "eap-relayed\n    also-login: [eap-mschapv2]"} {
		t.Run(strings.Fields(login)[0], func(t *testing.T) {
			t.Parallel()
			d, x := judged(t, s, login, "")
			tn, err := with(t, d, "rory.researcher", as("dora", radiusserver.Password))
			require.NoError(t, err)
			require.NoError(t, ping(t, tn, "10.20.30.5"))
			require.Contains(t, x.did("people", "list"), "mainland")
			require.Contains(t, x.did("people", "explain", "dora"), "research")
			_, err = with(t, d, "rory.researcher", nil)
			require.NoError(t, err, "the service's own people come in by the same tunnel")
			_, err = with(t, d, "rory.researcher", as("dora", "wrong"))
			require.Error(t, err)
			journaled(t, d, "refused", "source mainland refuses them")
			_, err = with(t, d, "rory.researcher", as("wanda.warden", radiusserver.Password))
			require.Error(t, err, "a name of the service's own is nobody's there")
			x.did("slowed", "lift") // it is the same name
			_, err = with(t, d, "rory.researcher", as("Wanda.Warden", radiusserver.Password))
			require.Error(t, err, "however it is written")
			journaled(t, d, "refused", "one of the service's own users has that name")
			x.did("slowed", "lift")

			recommit(t, d, "login: eap-mschapv2", "login: eap-ttls")
			_, err = with(t, d, "rory.researcher", as("dora", radiusserver.Password))
			require.Error(t, err, "the plan has no source any more")
		})
	}
}

// What the server says of a session holds: its address, how long it lasts. An address that cannot be had is told as such.
func TestRADIUSLimits(t *testing.T) {
	s := radiusserver.Start(t, "mschapv2")
	d, x := judged(t, s, "eap-mschapv2", "")
	_, _, err := x.run("probe", "kit", "--user", "bound", filepath.Join(t.TempDir(), "kit"))
	require.ErrorContains(t, err, "there is no active user")
	require.Contains(t, x.did("probe", "kit", "--user", "bound", "--group", "researchers", filepath.Join(t.TempDir(), "kit")), "bound")
	tn, err := with(t, d, "rory.researcher", as("bound", radiusserver.Password))
	require.NoError(t, err)
	require.Equal(t, "10.99.0.77", tn.Address4().String())
	_, err = with(t, d, "rory.researcher", as("bound", radiusserver.Password))
	require.Error(t, err)
	journaled(t, d, "refused", "which is leased to another session")
	require.Contains(t, x.did("people", "explain", "bound"), "10.99.0.77")
}

// told waits until the server was told of a session's beginning, state or end with some words, and gives what it was told.
func told(t *testing.T, s *radiusserver.Server, words ...string) (out string) {
	t.Helper()
	require.Eventually(t, func() bool {
		out = s.Told()
		for _, w := range words {
			if !strings.Contains(out, w) {
				return false
			}
		}
		return true
	}, 20*time.Second, 50*time.Millisecond, "%v in %s", words, out)
	return out
}

// Servers are told of the sessions of their people, with what they wanted to hear again, and of nobody else's; what could not be told is
// told once they are there again.
func TestRADIUSAccounting(t *testing.T) {
	s := radiusserver.Start(t, "mschapv2")
	var o instance.Options
	d, x := judgedAt(t, s, "eap-mschapv2", fmt.Sprintf("    accounting: [%q]\n", s.Accounting), func(x *instance.Options) { o = *x })
	tn, err := with(t, d, "rory.researcher", as("bound", radiusserver.Password))
	require.NoError(t, err)
	_, err = with(t, d, "rory.researcher", nil)
	require.NoError(t, err)
	out := told(t, s, "Acct-Status-Type = Start", "Framed-IP-Address = 10.99.0.77", "Class = 0x00ff10", `User-Name = "bound"`)
	require.NotContains(t, out, "rory", "of the service's own people they are told nothing")
	require.NoError(t, ping(t, tn, "10.20.30.5"))
	s.Stop()
	tn.Close()
	require.Eventually(t, func() bool {
		said, _, _ := x.run("status")
		return strings.Contains(said, "servers of mainland are not told of sessions, 1 wait")
	}, 20*time.Second, 200*time.Millisecond)
	d.Stop()
	i, err := instance.Start(t.Context(), o)
	require.NoError(t, err, "what could not be told outlives the service")
	defer i.Stop()
	s.Run()
	out = told(t, s, "Acct-Status-Type = Stop", "Acct-Terminate-Cause = User-Request")
	require.Regexp(t, `Acct-Input-Packets = [1-9]`, out)
	require.Regexp(t, `Acct-Output-Octets = [1-9]`, out)
	require.Equal(t, 1, strings.Count(out, "Acct-Status-Type = Start"))
	require.Equal(t, 1, strings.Count(out, "Acct-Status-Type = Stop"))
}

// A server ends a session of one of its people, or puts them into other groups, while they are connected; what is forged, recorded, about
// somebody of another's, or from another place changes nothing.
func TestRADIUSChanges(t *testing.T) {
	s := radiusserver.Start(t, "mschapv2")
	c, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	port := c.LocalAddr().(*net.UDPAddr).Port
	require.NoError(t, c.Close())
	d, _ := judged(t, s, "eap-mschapv2", fmt.Sprintf("    changes-at: 127.0.0.1\n    changes-port: %d\n    groups: [{from: researchers}, {from: wardens}]\n", port))
	come := func() gateway.Session {
		tn, err := with(t, d, "rory.researcher", as("dora", radiusserver.Password))
		require.NoError(t, err)
		t.Cleanup(tn.Close)
		for _, x := range live(t, d) {
			if x.User == "dora" {
				return x
			}
		}
		require.Fail(t, "no session")
		return gateway.Session{}
	}
	asks := func(kind, secret, from string, attributes ...string) string {
		cmd := exec.Command("radclient", "-x", "-r", "2", "-t", "1", fmt.Sprintf("127.0.0.1:%d", port), kind, secret)
		if from != "" {
			attributes = append(attributes, "Packet-Src-IP-Address="+from)
		}
		cmd.Stdin = strings.NewReader(strings.Join(attributes, "\n") + "\n")
		out, _ := cmd.CombinedOutput()
		return string(out)
	}
	gone := func(words string) {
		t.Helper()
		require.Eventually(t, func() bool { return len(live(t, d)) == 1 }, 30*time.Second, 50*time.Millisecond)
		journaled(t, d, "ended", words)
		for _, x := range live(t, d) {
			require.NotEqual(t, "dora", x.User)
		}
	}
	_, err = with(t, d, "rory.researcher", nil)
	require.NoError(t, err)
	x := come()
	require.Eventually(t, func() bool {
		return strings.Contains(asks("disconnect", radiusserver.Secret, "",
			"User-Name=nobody",
			`Event-Timestamp="`+now()+`"`), "Session-Context-Not-Found")
	}, 20*time.Second, 100*time.Millisecond)
	for name, ask := range map[string][]string{
		"another secret":      {"disconnect", "another one", "", "Acct-Session-Id=" + x.ID},
		"from elsewhere":      {"disconnect", radiusserver.Secret, "127.0.0.77", "Acct-Session-Id=" + x.ID},
		"a recorded one":      {"disconnect", radiusserver.Secret, "", "Acct-Session-Id=" + x.ID, `Event-Timestamp="Jan  1 2026 00:00:00 UTC"`},
		"whose time is open":  {"disconnect", radiusserver.Secret, "", "User-Name=dora"},
		"another's person":    {"disconnect", radiusserver.Secret, "", "User-Name=rory.researcher", `Event-Timestamp="` + now() + `"`},
		"another gateway":     {"disconnect", radiusserver.Secret, "", "Acct-Session-Id=" + x.ID, "NAS-Identifier=other"},
		"two that do not fit": {"disconnect", radiusserver.Secret, "", "Acct-Session-Id=" + x.ID, "User-Name=bound"},
		"no change":           {"coa", radiusserver.Secret, "", "Acct-Session-Id=" + x.ID, `Event-Timestamp="` + now() + `"`},
		"a change of no time": {"coa", radiusserver.Secret, "", "Acct-Session-Id=" + x.ID, "Session-Timeout=3600"},
	} {
		out := asks(ask[0], ask[1], ask[2], ask[3:]...)
		require.NotRegexp(t, "Received (CoA|Disconnect)-ACK", out, name)
		require.Len(t, live(t, d), 2, name)
	}
	require.Contains(t, asks("disconnect", radiusserver.Secret, "", "Acct-Session-Id="+x.ID), "Received Disconnect-ACK")
	gone("source mainland asked for its end")

	x = come()
	change := func(what string) string {
		return asks("coa", radiusserver.Secret, "", "Acct-Session-Id="+x.ID, what, `Event-Timestamp="`+now()+`"`)
	}
	require.Contains(t, change("Session-Timeout=3600"), "Received CoA-ACK")
	require.Len(t, live(t, d), 2)
	require.Contains(t, change("Filter-Id=wardens"), "Received CoA-ACK")
	gone("has them in other groups")

	x = come()
	require.Contains(t, change("Session-Timeout=1"), "Received CoA-ACK")
	gone("as long as the source where this person is kept lets it")
}

func live(t *testing.T, d *tour.Demo) []gateway.Session {
	ss, err := client.Get[[]gateway.Session](t.Context(), d.Client, "/sessions")
	require.NoError(t, err)
	return ss
}

func now() string { return time.Now().UTC().Format("Jan _2 2006 15:04:05") + " UTC" }

// A server that hangs, or is killed, in the middle of logins: nobody is told that their password is wrong, others come in meanwhile, the
// journal and the status name it, and its people come in once it is there again.
func TestRADIUSAway(t *testing.T) {
	s := radiusserver.Start(t, "mschapv2")
	d, x := judged(t, s, "eap-relayed\n    also-login: [eap-mschapv2]", "")
	_, err := with(t, d, "rory.researcher", as("dora", radiusserver.Password))
	require.NoError(t, err)
	for name, fault := range map[string]func(){
		"hangs":     func() { halt(t, s.Process()) },
		"is killed": s.Stop,
	} {
		fault()
		tried := make(chan error, 1)
		go func() {
			var err error
			for range 3 { // as a device does that a slow machine lets wait too long
				if _, err = with(t, d, "rory.researcher", as("dora", radiusserver.Password)); err == nil {
					break
				}
			}
			tried <- err
		}()
		_, err := with(t, d, "rory.researcher", nil)
		require.NoError(t, err, "others come in while it %s", name)
		require.Empty(t, tried, "the other one still waits")
		journaled(t, d, "refused", "source mainland does not answer")
		if name == "hangs" {
			require.NoError(t, syscall.Kill(s.Process(), syscall.SIGCONT))
		} else {
			require.Eventually(t, func() bool {
				said, _, _ := x.run("status")
				return strings.Contains(said, "mainland cannot be asked since")
			}, 20*time.Second, 100*time.Millisecond)
			s.Run()
		}
		require.NoError(t, <-tried, "the device tried again, for nobody told it that it was wrong")
	}
}
