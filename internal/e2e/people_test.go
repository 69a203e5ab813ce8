package e2e

import (
	"encoding/json"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/eap"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/instance"
	"yellowlantern/internal/people"
	"yellowlantern/internal/probe"
)

// A first password is made and shown once. Whoever has a device that can chooses another in the login itself; others by a link, once.
func TestFirstPasswords(t *testing.T) {
	d := island(t, nil)
	x := newTerminal(t, d)
	out := x.did("users", "add", "nell.newcomer", "--group", "researchers", "--mail", "nell@tern.example", "--make-password")
	first := regexp.MustCompile(`[a-z]{5}(-[a-z]{5}){3}`).FindString(out)
	require.NotEmpty(t, first, out)
	require.Contains(t, x.did("users", "list", "--filter", "nell@tern"), "must choose a password")

	login := func(password, next string) (*probe.Tunnel, error) {
		return with(t, d, "nell.newcomer", func(_ *probe.Order, o *probe.Options) { o.Password, o.NextPassword = password, next })
	}
	_, err := login(first, "")
	require.ErrorIs(t, err, eap.ErrMustChange)
	_, err = login(first, "Nell-Newcomer-1")
	require.ErrorContains(t, err, "the new password will not do")
	const chosen = "gannet lantern mosaic ferry"
	_, err = login(first, chosen)
	require.NoError(t, err)
	_, err = login(chosen, "")
	require.NoError(t, err)
	_, err = login(first, "")
	require.ErrorContains(t, err, "user or password is wrong")
	x.did("slowed", "lift", "nell.newcomer")
	journaled(t, d, "refused", "the password that was chosen will not do: the password is among the first that are guessed")

	// By a link.
	link := x.did("users", "password-link", "nell.newcomer")
	path := regexp.MustCompile(`/password/\S+`).FindString(link)
	require.NotEmpty(t, path, link)
	page := func(method string, form url.Values) (int, string) {
		r, err := http.NewRequestWithContext(t.Context(), method, d.URL()+path, strings.NewReader(form.Encode()))
		require.NoError(t, err)
		r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		resp, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		defer resp.Body.Close()
		b, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return resp.StatusCode, string(b)
	}
	both := func(p, again string) url.Values { return url.Values{"password": {p}, "again": {again}} }
	const another = "puffin ledger tunnel biscuit"
	for range 2 { // whoever scans mail opens links
		status, text := page("GET", nil)
		require.Equal(t, http.StatusOK, status)
		require.NotContains(t, text, "nell")
	}
	for _, wrong := range []struct {
		form url.Values
		says string
	}{
		{both(another, "another"), "not the same"},
		{both("short", "short"), "at least 12"},
		{both("Summer-2026!!", "Summer-2026!!"), "first that are guessed"},
	} {
		status, text := page("POST", wrong.form)
		require.Equal(t, http.StatusUnprocessableEntity, status)
		require.Contains(t, text, wrong.says)
	}
	status, text := page("POST", both(another, another))
	require.Equal(t, http.StatusOK, status)
	require.Contains(t, text, "It is your password now")
	status, _ = page("POST", both(chosen, chosen))
	require.Equal(t, http.StatusGone, status)
	_, err = login(another, "")
	require.NoError(t, err)
	x.did("users", "password-link", "nell.newcomer")
	journaled(t, d, "trust", "chose a password by a link, from 127.0.0.1")
}

// A person's own limits hold at the login and afterwards, each beside those of the passage.
func TestOwnLimits(t *testing.T) {
	d := island(t, nil)
	set := func(change func(*people.User)) {
		u := people.User{Name: "rory.researcher", Groups: []string{"researchers"}}
		change(&u)
		require.NoError(t, d.Client.Do(t.Context(), "PUT", "/users/rory.researcher", u, nil))
	}
	set(func(u *people.User) { u.Sessions = 2; u.Tunnels = []string{"main"} })
	one, err := with(t, d, "rory.researcher", nil)
	require.NoError(t, err)
	two, err := with(t, d, "rory.researcher", nil)
	require.NoError(t, err)
	_, err = with(t, d, "rory.researcher", nil)
	require.Error(t, err)
	journaled(t, d, "refused", "this person has 2 sessions already, as many as they may")
	// What is changed of a person without narrowing what they may leaves their sessions alone.
	set(func(u *people.User) { u.Sessions = 3; u.FullName = "Rory R."; u.Until = time.Now().Add(time.Hour) })
	time.Sleep(300 * time.Millisecond)
	require.NoError(t, one.Ended())
	require.NoError(t, two.Ended())
	require.NoError(t, ping(t, one, "10.20.30.5"))
	set(func(u *people.User) { u.Tunnels = []string{"another"} })
	ends(t, one)
	ends(t, two)
	journaled(t, d, "ended", "may not come by tunnel main any more")
	set(func(u *people.User) { u.Until = time.Now().Add(6 * time.Second) })
	one, err = with(t, d, "rory.researcher", nil)
	require.NoError(t, err)
	require.Eventually(t, func() bool { return one.Ended() != nil }, 20*time.Second, 50*time.Millisecond,
		"their time is over, and nobody looks")
	var live []gateway.Session
	require.NoError(t, d.Client.Do(t.Context(), "GET", "/sessions", nil, &live))
	require.Empty(t, live)
}

// A table is looked at, taken, and written again.
func TestPeopleTable(t *testing.T) {
	d := island(t, nil)
	x := newTerminal(t, d)
	const right = "user,groups,until\nrory.researcher,researchers,2031-01-31\nnew.nestling,researchers,\n"
	file := write(t, right+"nobody.here,no-such-group,\n")
	out, exit, err := x.run("users", "import", file)
	require.Error(t, err)
	require.Equal(t, 4, exit)
	require.Contains(t, out, "1 to add, 1 to change, 0 the same, 1 refused")
	require.Contains(t, out, "the running plan has no group")
	file = write(t, right)
	require.Contains(t, x.did("users", "import", file), "say --take to take it")
	_, exit, err = x.run("users", "import", file, "--take")
	require.ErrorContains(t, err, "--passwords FILE")
	require.Equal(t, 2, exit)
	passwords := filepath.Join(t.TempDir(), "passwords.csv")
	out = x.did("users", "import", file, "--take", "--passwords", passwords)
	require.Contains(t, out, "taken")
	b, err := os.ReadFile(passwords)
	require.NoError(t, err)
	require.Regexp(t, `^user,password\nnew.nestling,[a-z-]{23}\n$`, string(b))
	info, err := os.Stat(passwords)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	table := x.did("users", "export")
	require.Contains(t, table, "rory.researcher,Rory Researcher,,researchers,no,2031-02-01T00:00:00Z,,,\n")
	require.NotContains(t, table, strings.TrimSpace(strings.Split(string(b), ",")[2]))
	var again people.Table
	require.NoError(t, json.Unmarshal([]byte(x.did("--json", "users", "import", write(t, table))), &again))
	require.Zero(t, again.Added+again.Changed+again.Refused)
}

// Somebody whose rights were changed while the gateway was away loses their session once it is reached again.
func TestSettledLater(t *testing.T) {
	var w wire
	d := island(t, func(o *instance.Options) { o.Wire = w.between })
	tn, err := with(t, d, "rory.researcher", nil)
	require.NoError(t, err)
	w.cut.Store(true)
	nowhere := people.User{Name: "rory.researcher", Groups: []string{}}
	require.NoError(t, d.Client.Do(t.Context(), "PUT", "/users/rory.researcher", nowhere, nil))
	require.NoError(t, tn.Ended())
	w.cut.Store(false)
	d.App.Members.Keep(t.Context())
	ends(t, tn)
}
