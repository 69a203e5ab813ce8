package e2e

import (
	"encoding/json"
	"io"
	"net/http"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/handover"
)

// A link tells nothing of its person until the button on its page is pressed, which uses it up: of many who press at once one is given the
// kit. Guessed, used, withdrawn or of somebody who is gone, it says that it does not count, and no more.
func TestKitLinks(t *testing.T) {
	d := island(t, nil)
	x := newTerminal(t, d)
	link := func(user, platform string) (l handover.NewLink) {
		out, _, err := x.run("--json", "users", "kit-links", "make", user, "--platform", platform)
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal([]byte(out), &l))
		return l
	}
	fetch := func(method, path string) (int, string, http.Header) {
		r, err := http.NewRequestWithContext(t.Context(), method, d.URL()+path, nil)
		require.NoError(t, err)
		resp, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		defer resp.Body.Close()
		b, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return resp.StatusCode, string(b), resp.Header
	}
	refused := func(method, path string) {
		t.Helper()
		code, text, head := fetch(method, path)
		require.Equal(t, http.StatusGone, code, text)
		require.Contains(t, text, "does not count")
		require.Equal(t, "no-store", head.Get("Cache-Control"))
		for _, told := range []string{"rory", "wanda", "Tern Island"} {
			require.NotContains(t, text, told)
		}
	}
	l := link("rory.researcher", "apple")
	for range 3 { // scanners open it
		code, text, head := fetch("GET", l.Path)
		require.Equal(t, 200, code)
		require.Contains(t, text, "Tern Island Observatory")
		require.NotContains(t, text, "rory")
		require.Contains(t, head.Get("Content-Security-Policy"), "default-src 'none'")
	}
	refused("POST", l.Path[:len(l.Path)-1]+map[bool]string{true: "y", false: "x"}[strings.HasSuffix(l.Path, "x")])
	refused("GET", "/kit/"+strings.Repeat("a", 32))

	var given atomic.Pointer[string]
	var count atomic.Int32
	var all sync.WaitGroup
	for range 12 {
		all.Go(func() {
			if code, text, _ := fetch("POST", l.Path); code == 200 {
				count.Add(1)
				given.Store(&text)
			}
		})
	}
	all.Wait()
	require.EqualValues(t, 1, count.Load())
	page := *given.Load()
	require.Contains(t, page, "rory.researcher")
	require.NotContains(t, page, d.Passwords["rory.researcher"])
	href := regexp.MustCompile(`href="(/kit/file/[^"]+)"`).FindStringSubmatch(page)
	require.Len(t, href, 2)
	code, file, head := fetch("GET", href[1])
	require.Equal(t, 200, code)
	require.Equal(t, "application/x-apple-aspen-config", head.Get("Content-Type"))
	require.Contains(t, file, "com.apple.vpn.managed")
	refused("GET", href[1]+"x")
	refused("GET", l.Path)
	refused("POST", l.Path)
	out, _, err := x.run("journal", "--code", "kit-fetched")
	require.NoError(t, err)
	require.Contains(t, out, "rory.researcher")
	require.NotContains(t, out, strings.TrimPrefix(l.Path, "/kit/"))

	withdrawn := link("rory.researcher", "windows")
	_, _, err = x.run("users", "kit-links", "withdraw", withdrawn.ID)
	require.NoError(t, err)
	refused("POST", withdrawn.Path)
	_, _, err = x.run("users", "kit-links", "withdraw", withdrawn.ID)
	require.ErrorContains(t, err, "counts no more")
	_, _, err = x.run("users", "kit-links", "withdraw", withdrawn.ID[:1])
	require.ErrorContains(t, err, "no such link", "a part of one stands for none")

	// Whoever has a password that was made for them chooses another from the page of their kit.
	x.did("users", "password", "vera.volunteer", "--make-password")
	_, page, _ = fetch("POST", link("vera.volunteer", "android").Path)
	choose := regexp.MustCompile(`href="(/password/[A-Z0-9]+)">Choose your own`).FindStringSubmatch(page)
	require.Len(t, choose, 2, page)
	code, page, _ = fetch("GET", choose[1])
	require.Equal(t, 200, code)
	require.Contains(t, page, "Choose a password")
	require.NotContains(t, page, "vera")

	off := link("wanda.warden", "android")
	_, page, _ = fetch("POST", link("wanda.warden", "android").Path)
	hers := regexp.MustCompile(`href="(/kit/file/[^"]+)"`).FindStringSubmatch(page)
	code, _, _ = fetch("GET", hers[1])
	require.Equal(t, 200, code)
	_, _, err = x.run("users", "change", "wanda.warden", "--off")
	require.NoError(t, err)
	refused("POST", off.Path)
	refused("GET", hers[1])
	out, _, err = x.run("users", "kit-links", "list")
	require.NoError(t, err)
	for _, state := range []string{"used", "withdrawn", "counts"} {
		require.Contains(t, out, state)
	}
	_, _, err = x.run("users", "remove", "wanda.warden")
	require.NoError(t, err)
	refused("GET", off.Path)
	_, _, err = x.run("users", "kit-links", "make", "wanda.warden", "--platform", "apple")
	require.ErrorContains(t, err, "no active user")
	_, _, err = x.run("users", "kit-links", "make", "rory.researcher", "--platform", "apple", "--hours", "9999")
	require.Error(t, err)
}

// Somebody else may have had a password that an administrator replaces: sessions from before it end, unless they are to be kept.
func TestNewPasswordEndsSessions(t *testing.T) {
	t.Parallel()
	d := island(t, nil)
	x := newTerminal(t, d)
	password := func(text string, more ...string) string {
		args := append([]string{"users", "password", "rory.researcher", "--password-file", write(t, text)}, more...)
		d.Passwords["rory.researcher"] = text
		return x.did(args...)
	}
	tn := connect(t, d, "rory.researcher")
	other := connect(t, d, "vera.volunteer")
	require.NotContains(t, password("four gannets in a lantern", "--keep-sessions"), "sessions")
	time.Sleep(200 * time.Millisecond)
	require.NoError(t, ping(t, tn, "10.20.30.5"))
	require.Contains(t, password("five gannets in a lantern"), "sessions from before it end")
	ends(t, tn)
	journaled(t, d, "ended", "an administrator set a new password")
	require.NoError(t, other.Ended())

	again := connect(t, d, "rory.researcher")
	d.App.Members.Keep(t.Context())
	require.NoError(t, ping(t, again, "10.20.30.5"), "who logs in by the new one stays")
}
