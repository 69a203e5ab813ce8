package e2e

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/running"
	"yellowlantern/internal/client"
	"yellowlantern/internal/instance"
	"yellowlantern/internal/tour"
)

// A newest revision that cannot run at a start: console and API come up and say why; the one before it runs in its place where it lets
// nobody reach more, and otherwise nobody is admitted; and it can be mended.
func TestNewestThatCannotRun(t *testing.T) {
	for name, c := range map[string]struct {
		change []string
		runs   int
		says   string
	}{
		"as narrow": {[]string{"certificate: gate\n", "certificate: other\n"}, 1, "revision 1 runs in its place, which lets nobody reach more"},
		"wider": {
			[]string{"certificate: gate\n", "certificate: other\n", "services: [web, files, ping]}", "services: [web, files]}"},
			0, "revision 1 is not run in its place, for it lets wardens reach",
		},
	} {
		t.Run(name, func(t *testing.T) {
			o := options(t)
			d, err := tour.Prepare(t.Context(), "", o)
			require.NoError(t, err)
			t.Cleanup(d.Stop)
			_, _, err = d.Commit(t.Context())
			require.NoError(t, err)
			require.NoError(t, d.Client.Do(t.Context(), "POST", "/certificates/other", map[string]any{"for": []string{"gate.tern.example"}},
				nil))
			text := strings.Replace(d.Scenario.Plan, c.change[0], c.change[1], 1)
			if len(c.change) > 2 {
				text = strings.Replace(text, c.change[2], c.change[3], 1)
			}
			require.NotEqual(t, d.Scenario.Plan, text)
			require.NoError(t, d.Client.Do(t.Context(), "PUT", "/drafts/next", map[string]any{"text": text, "version": 0}, nil))
			require.NoError(t, d.Client.Do(t.Context(), "POST", "/drafts/next/commit", map[string]any{"message": "next"}, nil))
			status, words := refused(t, d.Client, "DELETE", "/certificates/other", nil)
			require.Equal(t, 409, status)
			require.Contains(t, words, "tunnels/main/certificate of the running plan names certificate other")
			status, words = refused(t, d.Client, "DELETE", "/certificates/gate", nil)
			require.Equal(t, 409, status)
			require.Contains(t, words, "revisions 1 need this certificate")

			token := d.Client.Token
			require.NoError(t, d.Store.RemoveCertificate(t.Context(), "other")) // as by somebody with the database in hand
			d.Stop()
			o.SiteLab = d.Scenario.Site
			i, err := instance.Start(t.Context(), o)
			require.NoError(t, err)
			defer i.Stop()
			cl := client.New(i.URL(), token)
			s, err := client.Get[running.Status](t.Context(), cl, "/status")
			require.NoError(t, err)
			require.Equal(t, 2, s.Newest)
			require.Equal(t, c.runs, s.Runs)
			require.Contains(t, s.Problem, "revision 2 cannot run")
			require.Contains(t, s.Problem, c.says)

			mended := strings.Replace(text, "certificate: other\n", "certificate: gate\n", 1)
			require.NoError(t, cl.Do(t.Context(), "PUT", "/drafts/mended", map[string]any{"text": mended, "version": 0}, nil))
			require.NoError(t, cl.Do(t.Context(), "POST", "/drafts/mended/commit", map[string]any{"message": "mended"}, nil))
			s, err = client.Get[running.Status](context.Background(), cl, "/status")
			require.NoError(t, err)
			require.Equal(t, running.State{Newest: 3, Runs: 3}, s.State)
		})
	}
}
