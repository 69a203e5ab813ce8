package e2e

import (
	"bytes"
	"crypto/rand"
	"encoding/json"
	"errors"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/access"
	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/client"
	"yellowlantern/internal/core/eap"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/httpapi"
	"yellowlantern/internal/instance"
	"yellowlantern/internal/people"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/tour"
	"yellowlantern/internal/underlay"
)

// refused makes a call that must be refused, and gives status and words.
func refused(t *testing.T, c *client.Client, method, path string, in any) (int, string) {
	t.Helper()
	err := c.Do(t.Context(), method, path, in, nil)
	var e *client.Error
	require.ErrorAs(t, err, &e)
	return e.Status, e.Words
}

// Every refusal at login reaches the journal in plain words, and the caller as the protocol's own error.
func TestRefusalsReachTheJournal(t *testing.T) {
	d := island(t, nil)
	try := func(change func(*probe.Order, *probe.Options)) error {
		o, opt := order(t, d, "rory.researcher"), probe.Options{Password: d.Passwords["rory.researcher"]}
		change(&o, &opt)
		tn, err := probe.Open(t.Context(), home(t, d), o, opt)
		if err == nil {
			tn.Close()
		}
		return err
	}
	require.ErrorContains(t, try(func(_ *probe.Order, opt *probe.Options) { opt.Password = "not the password" }),
		"user or password is wrong")
	require.Equal(t, "rory.researcher", journaled(t, d, "refused", "wrong password").User)

	require.ErrorContains(t, try(func(o *probe.Order, _ *probe.Options) { o.User = "nobody.here" }), "user or password is wrong")
	journaled(t, d, "refused", "there is no such user")

	require.NoError(t, d.People.Add(t.Context(), people.User{Name: "new.comer"}, "a password long enough"))
	require.ErrorContains(t, try(func(o *probe.Order, opt *probe.Options) { o.User, opt.Password = "new.comer", "a password long enough" }),
		"AUTHENTICATION_FAILED")
	journaled(t, d, "refused", "no passage admits a group of this user")

	require.NoError(t, d.People.Change(t.Context(), people.User{Name: "new.comer", Off: true}))
	require.Error(t, try(func(o *probe.Order, opt *probe.Options) { o.User, opt.Password = "new.comer", "a password long enough" }))
	journaled(t, d, "refused", "switched off")

	other := island(t, nil)
	require.ErrorContains(t, try(func(o *probe.Order, _ *probe.Options) { o.Authority = order(t, other, "rory.researcher").Authority }),
		"certificate is not accepted")
	journaled(t, d, "refused", "does not accept the gateway's certificate")

	// Lines are found by their reason, not by its words.
	lines := func(pairs ...string) []gateway.Event {
		out, err := client.Get[[]gateway.Event](t.Context(), d.Client, client.Query("/journal", pairs...))
		require.NoError(t, err)
		return out
	}
	found := lines("code", "no-passage")
	require.Len(t, found, 1)
	require.Equal(t, "AUTHENTICATION_FAILED", found[0].With[reason.Notify])
	require.Equal(t, found[0].Reason.Words(), found[0].Words)
	require.NotEmpty(t, lines("with", "notify=AUTHENTICATION_FAILED"))
	require.Len(t, lines("with", "notify=AUTHENTICATION_FAILED", "with", "groups="+found[0].With[reason.Groups]), 1)
	require.Empty(t, lines("code", "no-passage", "with", `x" OR 1=1 --=1`))
	status, words := refused(t, d.Client, "GET", "/journal?with=passage", nil)
	require.Equal(t, 422, status)
	require.Contains(t, words, "write passage=staff")
}

func TestPoolExhausted(t *testing.T) {
	d, err := tour.Prepare(t.Context(), "", options(t))
	require.NoError(t, err)
	t.Cleanup(d.Stop)
	d.Scenario.Plan = strings.Replace(d.Scenario.Plan, "prefixes: [10.99.1.0/26]", "prefixes: [10.99.1.0/30]", 1)
	_, _, err = d.Commit(t.Context())
	require.NoError(t, err)
	connect(t, d, "vera.volunteer")
	connect(t, d, "curt.contractor")
	_, err = probe.Open(t.Context(), home(t, d), order(t, d, "vera.volunteer"), probe.Options{Password: d.Passwords["vera.volunteer"]})
	require.ErrorContains(t, err, "INTERNAL_ADDRESS_FAILURE")
	journaled(t, d, "refused", "pool guests has no free address")
}

// Hostile datagrams at both ports while somebody works: all are dropped and counted, nothing grows, the session goes on.
func TestHostileDatagrams(t *testing.T) {
	d := island(t, nil)
	tn := connect(t, d, "rory.researcher")
	send := func(natt bool, b []byte) {
		to := d.Sockets.IKE()
		if natt {
			to = d.Sockets.NATT()
		}
		c, err := net.DialUDP("udp", nil, net.UDPAddrFromAddrPort(to))
		require.NoError(t, err)
		_, _ = c.Write(b)
		_ = c.Close()
	}
	for n := range 400 {
		b := make([]byte, n*7%1900)
		_, _ = rand.Read(b)
		send(n%2 == 0, b)
		if len(b) > 40 {
			copy(b, make([]byte, 4)) // looks like IKE on UDP 4500
			send(true, b)
		}
	}
	c, err := tn.Stack.DialTCP(t.Context(), mustAddrPort("10.20.30.5:80"))
	require.NoError(t, err)
	_ = c.Close()
	var s gateway.Status
	require.Eventually(t, func() bool { // what waits in the sockets is read in time
		s, err = client.Get[gateway.Status](t.Context(), d.Client, "/status")
		return err == nil && s.Dropped["malformed"]+s.Dropped["out of state"]+s.Dropped["ESP of no session"]+s.Dropped["too short"] > 500
	}, 20*time.Second, 50*time.Millisecond)
	require.Equal(t, 1, s.Sessions, "%v", s.Dropped)
	require.Zero(t, s.LoggingIn)
	require.Positive(t, s.Rules["archive"].Flows)
}

// A replayed ESP packet is dropped and counted; one from a false source address goes nowhere.
func TestReplayAndFalseSource(t *testing.T) {
	d := island(t, nil)
	x := newTap(t, d.Lab.Vantages()[0].Link)
	u, err := underlay.Vantage(t.Context(), x.addr)
	require.NoError(t, err)
	defer u.Close()
	tn, err := probe.Open(t.Context(), u, order(t, d, "rory.researcher"), probe.Options{Password: d.Passwords["rory.researcher"]})
	require.NoError(t, err)
	defer tn.Close()
	_, err = tn.Stack.Ping(t.Context(), mustAddr("10.20.30.5"), tn.Send)
	require.NoError(t, err)
	forged := pingFrom(t, "10.99.0.77", "10.20.30.5")
	tn.Send(forged)
	require.Eventually(t, func() bool {
		ss, err := client.Get[[]gateway.Session](t.Context(), d.Client, "/sessions")
		return err == nil && len(ss) == 1 && ss[0].Lost["source"] == 1
	}, 20*time.Second, 30*time.Millisecond)

	x.mu.Lock()
	capture := bytes.Clone(x.capture.Bytes()[24:])
	x.mu.Unlock()
	out, err := net.DialUDP("udp", nil, net.UDPAddrFromAddrPort(d.Sockets.NATT()))
	require.NoError(t, err)
	defer out.Close()
	replayed := 0
	for len(capture) > 16 { // every ESP packet that the device sent, once more
		n := int(capture[8]) | int(capture[9])<<8
		p := capture[16 : 16+n]
		capture = capture[16+n:]
		if p[0]>>4 == 4 && p[9] == 17 && p[22] == 4500>>8 && p[23] == 4500&0xff && !bytes.Equal(p[28:32], make([]byte, 4)) {
			_, _ = out.Write(p[28:])
			replayed++
		}
	}
	require.Positive(t, replayed)
	require.Eventually(t, func() bool {
		s, err := client.Get[gateway.Status](t.Context(), d.Client, "/status")
		return err == nil && s.Dropped["ESP replayed"] >= uint64(replayed)
	}, 20*time.Second, 30*time.Millisecond)
}

// accept accepts warnings by their names.
func accept(names ...string) []plans.Acceptance {
	out := []plans.Acceptance{}
	for _, n := range names {
		out = append(out, plans.Acceptance{Finding: n, Reason: "the office comes next month"})
	}
	return out
}

// Drafts and commits: stale changes are refused, a refused commit changes nothing, other drafts are rebased, a restored
// revision runs again, and live sessions end only where their device must be told anew.
func TestDraftsAndCommits(t *testing.T) {
	d := island(t, nil)
	c, ctx := d.Client, t.Context()
	text := d.Scenario.Plan
	save := func(name, text string, version int) plans.Draft {
		var out plans.Draft
		require.NoError(t, c.Do(ctx, "PUT", "/drafts/"+name, map[string]any{"text": text, "version": version}, &out))
		return out
	}
	save("mine", text, 0)
	other := strings.Replace(text, "services: [controls, ping], log: true}", "services: [controls, ping], log: false}", 1)
	status, words := refused(t, c, "PUT", "/drafts/mine", map[string]any{"text": other, "version": 7})
	require.Equal(t, 409, status, words)
	require.Contains(t, words, "is version 1 since")
	require.Contains(t, words, "rules/turbine/log: set rules/turbine/log to true", "what changed is told")
	status, words = refused(t, c, "PUT", "/drafts/mine", map[string]any{"text": text, "version": 0})
	require.Equal(t, 409, status, words)

	// Refused: the line and the mend are told, and nothing changes.
	save("broken", strings.Replace(text, "pool: guests", "pool: gests", 1), 0)
	status, words = refused(t, c, "POST", "/drafts/broken/commit", map[string]any{"message": "x"})
	require.Equal(t, 422, status)
	require.Contains(t, words, `there is no pool "gests"`)
	require.Regexp(t, `line \d+`, words)
	newest, err := client.Get[plans.Revision](ctx, c, "/revisions/0")
	require.NoError(t, err)
	require.Equal(t, 1, newest.Number)
	require.NoError(t, c.Do(ctx, "DELETE", "/drafts/broken", nil, nil))

	// A warning wants a word of acceptance.
	save("warned", strings.Replace(text, "services: [web, files, ping]", "services: [any]", 1), 0)
	status, words = refused(t, c, "POST", "/drafts/warned/commit", map[string]any{"message": "x"})
	require.Equal(t, 422, status)
	require.Contains(t, words, "any-service@rules/wardens-inside/services")
	require.NoError(t, c.Do(ctx, "DELETE", "/drafts/warned", nil, nil))

	// A setting that cannot be carried out yet says so.
	save("early", strings.Replace(text, "kind: ikev2", "kind: masque", 1), 0)
	_, words = refused(t, c, "POST", "/drafts/early/commit", map[string]any{"message": "x"})
	require.Contains(t, words, "cannot be carried out yet")
	require.NoError(t, c.Do(ctx, "DELETE", "/drafts/early", nil, nil))

	stays, ends := connect(t, d, "rory.researcher"), connect(t, d, "vera.volunteer")
	save("mine", strings.Replace(text, "name: Tern Island Observatory", "name: Tern Island Bird Observatory", 1), 1)
	save("theirs", strings.Replace(text, "routes: {split: [names, nestcams]}", "routes: {split: [names, nestcams, office]}\n    # for later", 1), 0)
	_, words = refused(t, c, "POST", "/drafts/theirs/commit", map[string]any{"message": "x", "accept": []any{}})
	require.Contains(t, words, "routed-for-nothing")
	review, err := client.Get[plans.Review](ctx, c, "/drafts/theirs/review")
	require.NoError(t, err)
	require.Equal(t, []string{"vera.volunteer"}, review.Ends)
	var done struct {
		Revision int      `json:"revision"`
		Ended    []string `json:"ended"`
	}
	require.NoError(t, c.Do(ctx, "POST", "/drafts/theirs/commit",
		map[string]any{"message": "office for later", "accept": accept("routed-for-nothing@passages/volunteers/routes/split/2")}, &done))
	require.Equal(t, 2, done.Revision)
	require.Equal(t, []string{"vera.volunteer"}, done.Ended)
	require.Eventually(t, func() bool { return ends.Ended() != nil }, 20*time.Second, 20*time.Millisecond)
	require.NoError(t, stays.Ended())
	rev, err := client.Get[plans.Revision](ctx, c, "/revisions/2")
	require.NoError(t, err)
	require.Len(t, rev.Accepted, 1)
	require.Equal(t, "the office comes next month", rev.Accepted[0].Reason)
	require.Contains(t, rev.Accepted[0].Problem, "no rule permits anything there")

	// The other draft is rebased beside that: both changes are in it.
	var mine plans.Draft
	require.Eventually(t, func() bool {
		mine, err = client.Get[plans.Draft](ctx, c, "/drafts/mine")
		return err == nil && mine.Base == 2
	}, 20*time.Second, 20*time.Millisecond)
	require.False(t, mine.Behind)
	require.Contains(t, mine.Text, "Bird Observatory")
	require.Contains(t, mine.Text, "# for later")

	// Two drafts that change the same line: the second is shown the conflict, and cannot be committed meanwhile.
	save("left", strings.Replace(mine.Text, "Bird Observatory", "Tern Observatory", 1), 0)
	require.NoError(t, c.Do(ctx, "POST", "/drafts/left/commit",
		map[string]any{"message": "name", "accept": accept("routed-for-nothing@passages/volunteers/routes/split/2")}, nil))
	status, words = refused(t, c, "POST", "/drafts/mine/commit",
		map[string]any{"message": "name", "accept": accept("routed-for-nothing@passages/volunteers/routes/split/2")})
	require.Equal(t, 409, status)
	require.Contains(t, words, "rebase it first (yl plan rebase --draft mine)")
	require.Contains(t, words, "name: change name from Tern Island Observatory to Tern Island Tern Observatory")
	var rebased struct {
		Conflicts []struct{ Ours, Theirs string } `json:"conflicts"`
	}
	require.NoError(t, c.Do(ctx, "POST", "/drafts/mine/rebase", nil, &rebased))
	require.Len(t, rebased.Conflicts, 1)
	require.Contains(t, rebased.Conflicts[0].Theirs, "Tern Observatory")
	status, _ = refused(t, c, "POST", "/drafts/mine/rebase", map[string]any{"take": []string{"nobody's"}})
	require.Equal(t, 422, status)
	require.NoError(t, c.Do(ctx, "POST", "/drafts/mine/rebase", map[string]any{"take": []string{"ours"}}, &rebased))
	require.Empty(t, rebased.Conflicts)
	mine, err = client.Get[plans.Draft](ctx, c, "/drafts/mine")
	require.NoError(t, err)
	require.Equal(t, 3, mine.Base)
	require.Contains(t, mine.Text, "Bird Observatory")

	// An earlier revision is restored by committing it again.
	first, err := client.Get[plans.Revision](ctx, c, "/revisions/1")
	require.NoError(t, err)
	save("back", first.Text, 0)
	require.NoError(t, c.Do(ctx, "POST", "/drafts/back/commit", map[string]any{"message": "as it was"}, nil))
	newest, err = client.Get[plans.Revision](ctx, c, "/revisions/0")
	require.NoError(t, err)
	require.Equal(t, 4, newest.Number)
	require.Equal(t, text, newest.Text)
	all, err := client.Get[[]plans.Revision](ctx, c, "/revisions")
	require.NoError(t, err)
	require.Len(t, all, 4)
}

// Who is not signed in gets nothing; the first administrator needs the setup code; a page elsewhere cannot act for a browser.
func TestSigningIn(t *testing.T) {
	i, err := instance.Start(t.Context(), options(t))
	require.NoError(t, err)
	defer i.Stop()
	c := client.New(i.URL(), "")
	status, _ := refused(t, c, "GET", "/users", nil)
	require.Equal(t, 401, status)
	in := map[string]string{"name": "ada.admin", "password": "a long enough password", "code": "guess"}
	for range 50 { // strangers cannot keep the right code from being taken
		status, _ = refused(t, c, "POST", "/start", in)
		require.Equal(t, 403, status)
	}
	in["code"] = i.App.Access.SetupCode
	in["password"] = "short"
	_, words := refused(t, c, "POST", "/start", in)
	require.Contains(t, words, "at least 12")
	in["password"] = "a long enough password"
	require.NoError(t, c.Do(t.Context(), "POST", "/start", in, nil))
	status, _ = refused(t, c, "POST", "/start", in)
	require.Equal(t, 409, status)
	require.Error(t, c.SignIn(t.Context(), "ada.admin", "wrong wrong wrong", "test"))
	status, words = refused(t, c, "POST", "/sign-in", map[string]string{"name": "ada.admin", "password": "again"})
	require.Equal(t, 429, status, words)
	time.Sleep(1100 * time.Millisecond)
	require.NoError(t, c.SignIn(t.Context(), "ada.admin", in["password"], "test"))
	_, err = client.Get[people.Page](t.Context(), c, "/users")
	require.NoError(t, err)

	// Whoever looks on does so for as long as the token is worth something.
	watch, _ := http.NewRequestWithContext(t.Context(), "GET", i.URL()+"/api/v1/watch", nil)
	watch.Header.Set("Authorization", "Bearer "+c.Token)
	stream, err := http.DefaultClient.Do(watch)
	require.NoError(t, err)
	defer stream.Body.Close()
	require.NoError(t, c.Do(t.Context(), "DELETE", "/tokens/own", nil, nil))
	over := make(chan error, 1)
	go func() { _, err := io.Copy(io.Discard, stream.Body); over <- err }()
	select {
	case <-over:
	case <-time.After(time.Second):
		t.Fatal("the stream goes on under a revoked token")
	}
	status, _ = refused(t, c, "GET", "/users", nil)
	require.Equal(t, 401, status)
	require.NoError(t, c.SignIn(t.Context(), "ada.admin", in["password"], "test"))

	// A new password ends every other session and token of that administrator's; expired tokens are worth nothing.
	other := client.New(i.URL(), "")
	require.NoError(t, other.SignIn(t.Context(), "ada.admin", in["password"], "other"))
	status, _ = refused(t, c, "PUT", "/me/password", map[string]string{"password": "not the password", "new": "another long password"})
	require.Equal(t, 401, status)
	time.Sleep(1100 * time.Millisecond)
	browsers, err := client.Get[[]access.OwnSession](t.Context(), c, "/me/sessions")
	require.NoError(t, err)
	require.NotEmpty(t, browsers)
	var n httpapi.Ended
	require.NoError(t, c.Do(t.Context(), "PUT", "/me/password",
		map[string]string{"password": in["password"], "new": "another long password"}, &n))
	require.Equal(t, len(browsers)+1, n.Ended)
	status, _ = refused(t, other, "GET", "/users", nil)
	require.Equal(t, 401, status)
	browsers, err = client.Get[[]access.OwnSession](t.Context(), c, "/me/sessions")
	require.NoError(t, err)
	require.Empty(t, browsers)
	require.Error(t, other.SignIn(t.Context(), "ada.admin", in["password"], "old"))
	time.Sleep(1100 * time.Millisecond)
	require.NoError(t, other.SignIn(t.Context(), "ada.admin", "another long password", "new"))

	// What is wrong with a password's field is told without what stood there.
	for _, wrong := range []any{
		map[string]any{"name": "x", "password": map[string]string{"is": "hush-hush-1"}},
		map[string]any{"name": "x", "password": "hush-hush-2" + strings.Repeat("x", 300)},
		map[string]any{"name": "x", "passwort": "hush-hush-3", "password": 7},
		[]string{"hush-hush-4"},
	} {
		for _, path := range []string{"/users", "/sign-in", "/start"} {
			b, _ := json.Marshal(wrong)
			req, _ := http.NewRequest("POST", i.URL()+"/api/v1"+path, bytes.NewReader(b))
			req.Header.Set("Authorization", "Bearer "+c.Token)
			req.Header.Set("Content-Type", "application/json")
			resp, err := http.DefaultClient.Do(req)
			require.NoError(t, err)
			answer, _ := io.ReadAll(resp.Body)
			require.GreaterOrEqual(t, resp.StatusCode, 400)
			require.NotContains(t, string(answer), "hush")
		}
	}

	// What would act on a terminal is refused wherever it comes in, with the field that holds it.
	for path, in := range map[string]any{
		"/users":           map[string]any{"name": "x", "full-name": "R.\x1b[2J", "groups": []string{}, "password": "eight terns on the jetty"},
		"/tokens":          map[string]any{"name": "back\u202ewards"},
		"/drafts/d/commit": map[string]any{"message": "two\nlines"},
		"/certificates/x":  map[string]any{"for": []string{"gate\u009b.example"}},
	} {
		status, words = refused(t, c, "POST", path, in)
		require.Equal(t, 422, status, path)
		require.Contains(t, words, "acts on a terminal", path)
	}

	status, _ = refused(t, c, "GET", "/journal/lines?after=18446744073709551615", nil)
	require.Equal(t, 422, status)

	req, _ := http.NewRequest("GET", i.URL()+"/api/v1/start", nil)
	req.Host = "evil.example"
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	require.Equal(t, 421, resp.StatusCode)

	req, _ = http.NewRequest("POST", i.URL()+"/api/v1/sign-out", strings.NewReader("{}"))
	req.Header.Set("Sec-Fetch-Site", "cross-site")
	resp, err = http.DefaultClient.Do(req)
	require.NoError(t, err)
	require.Equal(t, 403, resp.StatusCode)
	resp, err = http.Get(i.URL() + "/plan")
	require.NoError(t, err)
	require.Equal(t, 503, resp.StatusCode, "no console is built into this one")
}

// The store keeps no password and no NT hash in the clear, and the API never gives one out.
func TestSecretsStayInside(t *testing.T) {
	o := options(t)
	d, err := tour.Prepare(t.Context(), "", o)
	require.NoError(t, err)
	password := "eight terns on the jetty"
	hash := eap.NTHash(password)
	require.NoError(t, d.Client.Do(t.Context(), "POST", "/users",
		map[string]any{"name": "secret.keeper", "groups": []string{"wardens"}, "password": password}, nil))
	req, _ := http.NewRequest("GET", d.URL()+"/api/v1/users", nil)
	req.Header.Set("Authorization", "Bearer "+d.Client.Token)
	resp, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	answer, _ := io.ReadAll(resp.Body)
	require.Contains(t, string(answer), "secret.keeper")
	d.Stop()
	files, err := filepath.Glob(filepath.Join(o.Data, "*"))
	require.NoError(t, err)
	for _, f := range files {
		b, err := os.ReadFile(f)
		require.NoError(t, err)
		for _, secret := range [][]byte{hash[:], []byte(password), []byte(d.Admin), []byte(d.Client.Token)} {
			require.False(t, bytes.Contains(b, secret), "%s holds a secret", f)
			require.False(t, bytes.Contains(answer, secret))
		}
		info, err := os.Stat(f)
		require.NoError(t, err)
		require.Zero(t, info.Mode().Perm()&0o077, "%s can be read by others", f)
	}
	require.NoError(t, os.WriteFile(filepath.Join(o.Data, "key"), bytes.Repeat([]byte{1}, 32), 0o600))
	_, err = instance.Start(t.Context(), o)
	require.ErrorContains(t, err, "is not the one that this database was sealed under")
}

// A service that is killed comes back with everything that it had said was done, and runs the newest revision.
func TestKilledServiceComesBack(t *testing.T) {
	o := options(t)
	bin := filepath.Join(t.TempDir(), "yl")
	build := exec.Command("go", "build", "-o", bin, "yellowlantern/cmd/yl")
	out, err := build.CombinedOutput()
	require.NoError(t, err, "%s", out)
	site := filepath.Join("..", "..", "demo", "site.yaml")
	plan, err := os.ReadFile(filepath.Join("..", "..", "demo", "plan.yaml"))
	require.NoError(t, err)
	access := filepath.Join(t.TempDir(), "access.json")
	start := func(first bool) (*exec.Cmd, string, string) {
		cmd := exec.Command(bin, "serve", "--data", o.Data, "--listen", "127.0.0.1:0", "--udp-ike", "127.0.0.1:0", "--udp-natt",
			"127.0.0.1:0", "--site-lab", site)
		pipe, err := cmd.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		t.Cleanup(func() { _ = cmd.Process.Kill() })
		buf := make([]byte, 4096)
		text := ""
		for !strings.Contains(text, "gateway: UDP") || first && !strings.Contains(text, "--setup-code") || !strings.HasSuffix(text, "\n") {
			n, err := pipe.Read(buf)
			require.NoError(t, err)
			text += string(buf[:n])
		}
		url := strings.Fields(text[strings.Index(text, "http://"):])[0]
		code := ""
		if i := strings.Index(text, "--setup-code "); i >= 0 {
			code = strings.Fields(text[i+len("--setup-code "):])[0]
		}
		return cmd, url, code
	}
	yl := func(want int, stdin string, args ...string) string {
		cmd := exec.Command(bin, append([]string{"--access", access}, args...)...)
		cmd.Stdin = strings.NewReader(stdin)
		out, err := cmd.CombinedOutput()
		var exit *exec.ExitError
		if errors.As(err, &exit) {
			require.Equal(t, want, exit.ExitCode(), "yl %v: %s", args, out)
		} else {
			require.NoError(t, err)
			require.Zero(t, want, "yl %v: %s", args, out)
		}
		return string(out)
	}
	yl(3, "", "users", "list")
	cmd, url, code := start(true)
	yl(0, "a long enough password\n", "sign-in", "--setup-code", code, "--password-file", "-", url)
	yl(0, "", "certificate", "make", "gate", "--for", "gate.tern.example")
	for user, group := range map[string]string{
		"wanda": "wardens", "rory": "researchers", "vera": "volunteers",
		"curt": "turbine-contractor",
	} {
		yl(0, "tern "+user+" tern tern\n", "users", "add", user, "--group", group, "--password-file", "-")
	}
	require.Contains(t, yl(0, string(plan), "plan", "load", "-"), "0 stop")
	require.Contains(t, yl(0, "", "plan", "commit", "-m", "first"), "revision 1 runs")
	yl(3, "not this one\n", "sign-in", "--name", "admin", "--password-file", "-", url)
	time.Sleep(1500 * time.Millisecond) // it is written down each second
	slowed := yl(0, "", "slowed", "list")
	require.Contains(t, slowed, "admin")
	require.NoError(t, cmd.Process.Kill())
	_ = cmd.Wait()

	_, url2, _ := start(false)
	b, err := os.ReadFile(access)
	require.NoError(t, err)
	var a map[string]string
	require.NoError(t, json.Unmarshal(b, &a))
	a["url"] = url2
	b, _ = json.Marshal(a)
	require.NoError(t, os.WriteFile(access, b, 0o600))
	require.Equal(t, slowed, yl(0, "", "slowed", "list"), "who had to wait still has to")
	require.Contains(t, yl(0, "", "plan", "history"), "first")
	require.Equal(t, string(plan), yl(0, "", "plan", "show"))
	require.Contains(t, yl(0, "", "prove"), "✓ holds")
	require.Contains(t, yl(0, "tern rory tern tern\n", "probe", "--user", "rory", "--password-file", "-"),
		"81 of 81 as expected; computed and tried agree")
	require.Contains(t, yl(1, "", "journey", "--from", "rory", "--to", "turbine-control:502"), "lost at device")
	require.Contains(t, yl(0, "", "board", "--filter", "researchers"), "as expected")
	require.Contains(t, yl(2, "", "journey", "--from", "rory"), "to")
	require.Contains(t, yl(2, "", "plan", "load", "/nowhere.yaml"), "no such file")
	require.Contains(t, yl(1, "format: 1\nname: x\ngatewys: []\n", "plan", "load", "--draft", "typo", "-"), `unknown field "gatewys"`)
	require.Contains(t, yl(4, "", "sessions", "end", "nobody"), "no live session")
}
