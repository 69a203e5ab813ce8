package directory_test

import (
	"context"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/people/directory"
	"yellowlantern/internal/people/source"
)

// inside is set in the namespace, where the test runs itself once more.
const inside = "YL_CORPORATE_FOLDER"

const (
	adminPassword = "Mosaic-Ferry-2031"
	controller    = "dc1.tern.example"
)

// A corporate directory is a real domain controller (Samba's), in a network namespace of its own.
func TestCorporate(t *testing.T) {
	if folder := os.Getenv(inside); folder != "" {
		corporate(t, folder)
		return
	}
	if _, err := exec.LookPath("samba-tool"); err != nil || os.Geteuid() != 0 {
		if os.Getenv("CI") != "" {
			t.Fatal("samba is missing, or this is not root: make apt-test installs it")
		}
		t.Skip("samba is missing, or this is not root")
	}
	folder, err := os.MkdirTemp("", "yl-dc-") // short: sockets have names of their folder in them
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(folder) })
	ns := fmt.Sprintf("yl-dc-%d", os.Getpid())
	run := func(name string, args ...string) string {
		out, err := exec.CommandContext(t.Context(), name, args...).CombinedOutput()
		require.NoError(t, err, "%s %v: %s", name, args, out)
		return string(out)
	}
	run("ip", "netns", "add", ns)
	t.Cleanup(func() { _ = exec.Command("ip", "netns", "del", ns).Run() })
	t.Cleanup(func() {
		pids, _ := exec.Command("ip", "netns", "pids", ns).Output()
		for _, pid := range strings.Fields(string(pids)) {
			_ = exec.Command("kill", "-9", pid).Run()
		}
	})
	run("ip", "-n", ns, "link", "set", "lo", "up")
	run("ip", "-n", ns, "link", "add", "d0", "type", "veth", "peer", "name", "d1")
	run("ip", "-n", ns, "addr", "add", "10.53.0.1/24", "dev", "d0")
	run("ip", "-n", ns, "link", "set", "d0", "up")
	run("ip", "-n", ns, "link", "set", "d1", "up")
	run("ip", "netns", "exec", ns, "samba-tool", "domain", "provision", "--realm=TERN.EXAMPLE", "--domain=TERN", "--server-role=dc", "--dns-backend=NONE",
		"--adminpass="+adminPassword, "--targetdir="+folder, "--host-name=dc1", "--host-ip=10.53.0.1", "--option=interfaces=lo d0",
		"--option=bind interfaces only=yes")
	ca, err := cert.NewAuthority(rand.Reader, time.Now(), "Tern Island directory")
	require.NoError(t, err)
	pair, err := ca.NewGatewayWith(rand.Reader, time.Now(), "rsa", controller)
	require.NoError(t, err)
	key, err := pair.KeyDER()
	require.NoError(t, err)
	for name, b := range map[string][]byte{
		"dc.pem": pair.PEM(), "ca.pem": ca.PEM(),
		"dc.key": pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: key}),
	} {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), b, 0o600))
	}
	conf := filepath.Join(folder, "etc/smb.conf")
	text, err := os.ReadFile(conf)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(conf, []byte(strings.Replace(string(text), "[global]\n", fmt.Sprintf(
		"[global]\n\ttls certfile = %[1]s/dc.pem\n\ttls keyfile = %[1]s/dc.key\n\ttls cafile = %[1]s/ca.pem\n\tdns update command = /bin/true\n", folder), 1)), 0o600))
	serve := exec.Command("ip", "netns", "exec", ns, "samba", "-i", "-s", conf, "--no-process-group")
	log, err := os.Create(filepath.Join(folder, "log"))
	require.NoError(t, err)
	defer log.Close()
	serve.Stdout, serve.Stderr = log, log
	require.NoError(t, serve.Start())
	t.Cleanup(func() { _ = serve.Process.Kill(); _ = serve.Wait() })
	again := exec.CommandContext(t.Context(), "ip", "netns", "exec", ns, os.Args[0], "-test.run", "^TestCorporate$", "-test.v",
		"-test.timeout", "3m")
	again.Env = append(os.Environ(), inside+"="+folder)
	out, err := again.CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.Contains(t, string(out), "--- PASS: TestCorporate")
}

func corporate(t *testing.T, folder string) {
	require.Eventually(t, func() bool {
		c, err := net.DialTimeout("tcp", "127.0.0.1:636", time.Second)
		if err == nil {
			_ = c.Close()
		}
		return err == nil
	}, time.Minute, 100*time.Millisecond, "the controller does not answer")
	tool := func(args ...string) {
		out, err := exec.CommandContext(t.Context(), "samba-tool",
			append(args, "-s", filepath.Join(folder, "etc/smb.conf"))...).CombinedOutput()
		require.NoError(t, err, "samba-tool %v: %s", args, out)
	}
	const users = "cn=Users,dc=tern,dc=example"
	for _, name := range []string{"dora", "off", "ended", "must", "lantern"} {
		tool("user", "create", name, password+"-D1")
	}
	tool("user", "disable", "off")
	tool("user", "setexpiry", "ended", "--days=-1")
	tool("user", "setpassword", "must", "--newpassword="+password+"-D2", "--must-change-at-next-login")
	for _, name := range []string{"researchers", "outer", "outermost"} {
		tool("group", "add", name)
	}
	tool("group", "addmembers", "researchers", "dora")
	tool("group", "addmembers", "outer", "researchers")
	tool("group", "addmembers", "outermost", "outer")
	authority, err := os.ReadFile(filepath.Join(folder, "ca.pem"))
	require.NoError(t, err)
	ask := func(change func(*plan.Source)) *directory.Directory {
		s := plan.Source{
			Name: "corporate", Kind: plan.KindLDAP, Servers: []string{"ldaps://" + controller}, Authority: string(authority),
			Own: &plan.LDAP{
				Account: "lantern@tern.example", Base: "dc=tern,dc=example", LoginBy: "sAMAccountName", Filter: "(objectClass=user)", Nested: true,
			},
		}
		change(&s)
		d, err := directory.New(s, func(context.Context) (string, error) { return password + "-D1", nil })
		require.NoError(t, err)
		d.Dial = func(ctx context.Context, network, address string) (net.Conn, error) {
			_, port, _ := net.SplitHostPort(address)
			return (&net.Dialer{}).DialContext(ctx, network, "127.0.0.1:"+port) // no name is looked up here
		}
		return d
	}
	for name, change := range map[string]func(*plan.Source){
		"by its short name":     func(*plan.Source) {},
		"by its principal name": func(s *plan.Source) { s.LDAP().LoginBy = "userPrincipalName" },
		"by StartTLS":           func(s *plan.Source) { s.Servers = []string{"ldap://" + controller} },
		"directly":              func(s *plan.Source) { s.LDAP().Account, s.LDAP().BindAs = "", "{user}@tern.example" },
	} {
		d := ask(change)
		user := "dora"
		if strings.Contains(name, "principal") {
			user = "dora@tern.example"
		}
		p, err := d.Login(t.Context(), source.Call{User: user, Password: password + "-D1"}, nil)
		require.NoError(t, err, name)
		require.Equal(t, strings.ToLower("cn=dora,"+users), strings.ToLower(p.Name))
		require.Equal(t, []string{"Domain Users", "outer", "outermost", "researchers"}, names(p.Groups), name)
		_, err = d.Login(t.Context(), source.Call{User: user, Password: "wrong"}, nil)
		require.Equal(t, source.Wrong, source.KindOf(err), "%s: %v", name, err)
		d.Close()
	}
	d := ask(func(*plan.Source) {})
	for user, says := range map[string]string{
		"off": "switched off", "ended": "account ended there",
		"must": "must change their password|password has expired",
	} {
		_, err := d.Login(t.Context(), source.Call{
			User: user,
			Password: password + map[bool]string{
				true:  "-D2",
				false: "-D1",
			}[user == "must"],
		}, nil)
		require.Equal(t, map[bool]source.Kind{true: source.Expired, false: source.Barred}[user == "must"], source.KindOf(err),
			"%s: %v", user, err)
		require.Regexp(t, says, err.Error())
	}
	d = ask(func(s *plan.Source) { s.LDAP().Changes = true })
	require.True(t, d.Changes())
	must := source.Call{User: "must", Password: "wrong"}
	require.Equal(t, source.Wrong, source.KindOf(d.Change(t.Context(), must, password+"-D3")), "who does not know the former one")
	must.Password = password + "-D2"
	require.Equal(t, source.Unfit, source.KindOf(d.Change(t.Context(), must, "short")))
	require.NoError(t, d.Change(t.Context(), must, password+"-D3"))
	must.Password = password + "-D3"
	who, err := d.Login(t.Context(), must, nil)
	require.NoError(t, err)
	require.Equal(t, "must", who.Login)
	// A directory that is asked from its top end refers elsewhere for other parts; that is not followed.
	p, err := d.Look(t.Context(), "dora", nil)
	require.NoError(t, err)
	require.Equal(t, "dora", p.Login)
	tool("user", "disable", "dora")
	_, err = d.Look(t.Context(), "dora", nil)
	require.Equal(t, source.Barred, source.KindOf(err), "%v", err)
}
