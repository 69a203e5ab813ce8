package e2e

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/client"
	"yellowlantern/internal/instance"
	"yellowlantern/internal/tour"
)

// A revision on trial goes back by itself, also when the service was killed meanwhile, and stays when it is kept.
func TestTrialOfARevision(t *testing.T) {
	o := options(t)
	d, err := tour.Prepare(t.Context(), "", o)
	require.NoError(t, err)
	t.Cleanup(d.Stop)
	commit := func(c *client.Client, name, text string, seconds int) error {
		require.NoError(t, c.Do(t.Context(), "PUT", "/drafts/"+name, map[string]any{"text": text, "version": 0}, nil))
		return c.Do(t.Context(), "POST", "/drafts/"+name+"/commit", map[string]any{"message": name, "for": seconds}, nil)
	}
	text := d.Scenario.Plan
	shut := strings.Replace(text, "services: [web, files, ping]}", "services: [web, files]}", 1)
	require.ErrorContains(t, commit(d.Client, "first", text, 60), "nothing to go back to")
	require.NoError(t, d.Client.Do(t.Context(), "POST", "/drafts/first/commit", map[string]any{"message": "first"}, nil))

	tn := connect(t, d, "wanda.warden")
	require.NoError(t, ping(t, tn, "10.20.0.20"))
	require.NoError(t, commit(d.Client, "shut", shut, 5))
	require.Error(t, ping(t, tn, "10.20.0.20"), "it runs at once")
	require.ErrorContains(t, commit(d.Client, "other", text, 0), "on trial until")
	newest := func(c *client.Client) plans.Revision {
		r, err := client.Get[plans.Revision](context.Background(), c, "/revisions/0")
		require.NoError(t, err)
		return r
	}
	require.Eventually(t, func() bool { return newest(d.Client).Number == 3 }, 8*time.Second, 100*time.Millisecond)
	require.Equal(t, text, newest(d.Client).Text)
	require.Contains(t, newest(d.Client).Message, "went back to revision 1 by itself")
	require.NoError(t, ping(t, tn, "10.20.0.20"), "the session went on through both")
	require.NoError(t, tn.Ended())
	journaled(t, d, "commit", "was not kept")

	// Kept in time, it stays.
	require.NoError(t, commit(d.Client, "again", shut, 3))
	require.NoError(t, d.Client.Do(t.Context(), "POST", "/revisions/0/keep", nil, nil))
	require.ErrorContains(t, d.Client.Do(t.Context(), "POST", "/revisions/0/keep", nil, nil), "not on trial")
	time.Sleep(3500 * time.Millisecond)
	require.Equal(t, 4, newest(d.Client).Number)

	// Stopped before its time and started after it, it goes back before anything runs.
	require.NoError(t, commit(d.Client, "last", text, 1))
	token := d.Client.Token
	d.Stop()
	time.Sleep(1200 * time.Millisecond)
	o.SiteLab = d.Scenario.Site
	i, err := instance.Start(t.Context(), o)
	require.NoError(t, err)
	defer i.Stop()
	r := newest(client.New(i.URL(), token))
	require.Equal(t, 6, r.Number)
	require.Equal(t, shut, r.Text)
}
