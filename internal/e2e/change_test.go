package e2e

import (
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/plans"
)

// One edit is one call: version and edits in; text, findings, objects and version out. If a part of it is refused nothing is kept, and an
// edit of an older version is refused with what changed.
func TestOneEditIsOneCall(t *testing.T) {
	d := island(t, nil)
	change := func(in map[string]any) (out plans.Changed, err error) {
		err = d.Client.Do(t.Context(), "POST", "/drafts/mine/change", in, &out)
		return out, err
	}
	edit := func(op, path, value string) map[string]string {
		return map[string]string{"op": op, "path": path, "value": value}
	}
	first, err := change(map[string]any{"version": 0, "edits": []any{edit("set", "rules/cameras/services", "[web, ping]")}})
	require.NoError(t, err)
	require.Equal(t, 1, first.Draft.Version)
	require.Contains(t, first.Draft.Text, "# all their traffic comes home", "comments stay")
	require.Equal(t, []string{"web", "ping"}, first.Reading.Plan.Rules[4].Services)
	require.Empty(t, first.Checked.Faults)

	second, err := change(map[string]any{"version": 1, "edits": []any{
		edit("set", "pools/guests/prefixes", "[10.20.0.64/26]"), edit("set", "pools/staff/prefixes", "[10.99.0.0/24]"),
	}})
	require.NoError(t, err)
	require.Equal(t, 2, second.Draft.Version)
	require.Positive(t, second.Checked.Stops, "it is kept with its findings")

	status, words := refused(t, d.Client, "POST", "/drafts/mine/change",
		map[string]any{"version": 1, "edits": []any{edit("remove", "rules/cameras", "")}})
	require.Equal(t, 409, status)
	require.Contains(t, words, "was changed meanwhile")
	status, _ = refused(t, d.Client, "POST", "/drafts/mine/change", map[string]any{"version": 2, "edits": []any{
		edit("remove", "rules/cameras", ""), edit("set", "rules/nobody/services", "[web]"),
	}})
	require.Equal(t, 422, status)
	var kept plans.Draft
	require.NoError(t, d.Client.Do(t.Context(), "GET", "/drafts/mine", nil, &kept))
	require.Equal(t, second.Draft.Text, kept.Text, "half of an edit is no edit")
	status, words = refused(t, d.Client, "POST", "/drafts/mine/change", map[string]any{"versoin": 2, "edits": "x"})
	require.Equal(t, 422, status)
	for _, says := range []string{"version is missing", "versoin: there is no such field here", "edits: give a list"} {
		require.Contains(t, words, says, "a slip is told in the field's own words")
	}
	typed, err := change(map[string]any{"version": 2, "text": "format: 1\nname: [\n"})
	require.NoError(t, err, "what is typed is kept, whatever it is")
	require.NotEmpty(t, typed.Checked.Faults)
	require.NotEmpty(t, typed.Reading.Faults)
}
