package e2e

import (
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/instance"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/testkit/mailserver"
)

// People without a second factor of their own have a code sent to their mail address; who forgot their password has a link sent. Whoever
// asks for somebody else learns nothing, and nobody is sent much. A server that is away is told, and keeps nobody else waiting.
func TestMail(t *testing.T) {
	t.Parallel()
	s := mailserver.Start(t, false)
	d := island(t, func(o *instance.Options) { o.KitsAt = "https://kits.tern.example" })
	x := newTerminal(t, d)
	x.did("secret", "keep", "mail", "--kind", "password", "--from-file", write(t, "plover-mosaic-ferry\n"))
	askFor(t, d, x, "", "\npassages:\n", "\n"+mailserver.Settings(s)+"mail-account: gateway\nmail-secret: mail\n"+
		"password-help: true\ncodes-by-mail: true\nkits-at: https://kits.tern.example\n\npassages:\n")
	mailed := func(n int) string {
		require.Eventually(t, func() bool { return len(s.Messages()) == n }, 10*time.Second, 20*time.Millisecond)
		return s.Messages()[n-1]
	}
	tn, err := with(t, d, "rory.researcher", nil)
	require.NoError(t, err)
	b := browser(t, d, tn)
	post := func(form string) (string, int) {
		r, err := http.NewRequestWithContext(t.Context(), "POST", "https://code.tern.example/", strings.NewReader(form))
		require.NoError(t, err)
		r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		return fetched(t, b, r)
	}
	page, status := post("mail=yes")
	require.Equal(t, 403, status)
	require.Contains(t, page, "no mail address of theirs is known")
	x.did("users", "change", "rory.researcher", "--mail", "rory@tern.example")
	page, status = post("mail=yes")
	require.Equal(t, 200, status)
	require.Contains(t, page, "on its way to your mail address")
	text := mailed(1)
	require.Contains(t, text, "rory@tern.example")
	code := regexp.MustCompile(`is (\d{6})`).FindStringSubmatch(text)[1]
	page, _ = post("mail=yes")
	require.Contains(t, page, "less than a minute ago")
	_, status = give(t, b, "000000")
	require.Equal(t, 403, status)
	x.did("slowed", "lift")
	require.Error(t, ping(t, tn, "10.20.30.5"))
	_, status = give(t, b, code)
	require.Equal(t, 200, status)
	require.NoError(t, ping(t, tn, "10.20.30.5"))
	again, err := with(t, d, "rory.researcher", nil)
	require.NoError(t, err)
	_, status = give(t, browser(t, d, again), code)
	require.Equal(t, 403, status, "it counts once")

	ask := func(user string) string {
		r, err := http.PostForm(d.URL()+"/forgotten", url.Values{"user": {user}})
		require.NoError(t, err)
		defer r.Body.Close()
		require.Equal(t, 200, r.StatusCode)
		b := make([]byte, 8<<10)
		n, _ := r.Body.Read(b)
		return string(b[:n])
	}
	made := regexp.MustCompile(`/password/\w+`).FindString(x.did("users", "password-link", "rory.researcher"))
	counts := func(link string) bool {
		r, err := http.Get(d.URL() + link)
		require.NoError(t, err)
		require.NoError(t, r.Body.Close())
		return r.StatusCode == 200
	}
	known := ask("rory.researcher")
	require.Contains(t, known, "Look into your mail")
	text = mailed(2)
	link := regexp.MustCompile(`https://kits\.tern\.example(/password/\w+)`).FindStringSubmatch(strings.ReplaceAll(text, "=\r\n", ""))[1]
	require.True(t, counts(made), "whoever asks takes no link away that an administrator has made")
	r, err := http.PostForm(d.URL()+link, url.Values{
		"password": {"four unrelated words of rory"},
		"again":    {"four unrelated words of rory"},
	})
	require.NoError(t, err)
	require.NoError(t, r.Body.Close())
	require.Equal(t, 200, r.StatusCode)
	require.False(t, counts(link))
	require.False(t, counts(made), "one password is chosen by all of them")
	_, err = with(t, d, "rory.researcher", func(_ *probe.Order, o *probe.Options) { o.Password = "four unrelated words of rory" })
	require.NoError(t, err)
	require.Equal(t, known, ask("nobody.at.all"), "the same for whoever")
	require.Equal(t, known, ask("rory.researcher"))
	require.Len(t, s.Messages(), 2, "and not again so soon")
	journaled(t, d, "trust", "was sent a link by mail")

	s.Close()
	x.did("users", "change", "both.birdwatcher", "--mail", "both@tern.example")
	tn, err = with(t, d, "both.birdwatcher", nil)
	require.NoError(t, err)
	b = browser(t, d, tn)
	page, status = post("mail=yes")
	require.Equal(t, 403, status)
	require.Contains(t, page, "the mail did not go")
	journaled(t, d, "machine", "people are not sent mail: "+s.URL())
	out, _, _ := x.run("status")
	require.Contains(t, squeezed(out), "people are not sent mail")
	_, err = with(t, d, "vera.volunteer", nil)
	require.NoError(t, err, "others come in meanwhile")
}
