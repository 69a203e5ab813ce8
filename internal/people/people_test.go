package people

import (
	"context"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/eap"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/people/source"
	"yellowlantern/internal/store"
)

func open(t *testing.T) *People { return openAt(t) }

func openAt(t testing.TB) *People {
	s, err := store.Open(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	return New(s)
}

// What will not do as a user or a password is told with what would, and nothing is kept of it.
func TestWhatWillNotDo(t *testing.T) {
	p, ctx := open(t), context.Background()
	const good = "eight terns on the jetty"
	for name, says := range map[string]string{
		"": "cannot be a user name", "-rory": "cannot be", "rory researcher": "cannot be",
		"rory\n": "cannot be", strings.Repeat("x", 65): "up to 64",
	} {
		require.ErrorContains(t, p.Add(ctx, User{Name: name}, good), says, "%q", name)
	}
	for password, says := range map[string]string{
		"": "0 characters", "elf zeichen": "give at least 12",
		"\xff\xfe and more than twelve": "UTF-8", strings.Repeat("long ", 60): "256",
	} {
		require.ErrorContains(t, p.Add(ctx, User{Name: "rory"}, password), says)
		require.ErrorContains(t, p.SetPassword(ctx, "rory", password, false, false), says)
	}
	require.NoError(t, p.Add(ctx, User{Name: "rory"}, "zwölf Zeichen"), "characters count, not octets")
	all, err := p.List(ctx)
	require.NoError(t, err)
	require.Len(t, all, 1)
}

// Groups are a set; whoever is switched off has none and is nobody's concern; a login tells the journal why it failed.
func TestPersonsAndLogins(t *testing.T) {
	p, ctx := open(t), context.Background()
	require.NoError(t, p.Add(ctx, User{Name: "rory", FullName: "Rory", Groups: []string{"b", "a", "b"}}, "eight terns on the jetty"))
	require.NoError(t, p.Add(ctx, User{Name: "vera", Groups: []string{"a"}}, "eight terns on the jetty"))
	now, err := p.Standing(ctx, "rory")
	require.NoError(t, err)
	require.Equal(t, []string{"a", "b"}, now.Groups)
	require.NoError(t, p.Change(ctx, User{Name: "vera", Groups: []string{"a"}, Off: true}))
	persons, err := p.Persons(ctx)
	require.NoError(t, err)
	require.Len(t, persons, 1)
	now, err = p.Standing(ctx, "vera")
	require.NoError(t, err)
	require.Empty(t, now)
	_, err = p.Standing(ctx, "nobody")
	require.ErrorIs(t, err, store.ErrNotFound)
	require.NoError(t, p.Change(ctx, User{Name: "rory"}))
	u, err := p.User(ctx, "rory")
	require.NoError(t, err)
	require.Empty(t, u.Groups)
	for user, why := range map[string]string{
		"nobody": "there is no such user", "vera": "the user is switched off",
		"rory": "wrong password",
	} {
		v, _ := p.Judge(ctx, eap.Check{User: user}, login.Call{From: netip.MustParseAddr("203.0.113.45")})
		require.False(t, v.OK)
		require.Equal(t, why, v.Refusal.Words())
		require.Empty(t, v.MSK)
	}
	limited := User{
		Name: "rory", Groups: []string{"a"}, Until: time.Now().Add(time.Hour).UTC(), Hours: "day", Sessions: 2, Tunnels: []string{"main"},
		Mail: "rory@tern.example",
	}
	require.NoError(t, p.Change(ctx, limited))
	now, err = p.Standing(ctx, "rory")
	require.NoError(t, err)
	require.Equal(t, login.Limits{Until: limited.Until, Hours: "day", Sessions: 2, Tunnels: []string{"main"}}, now.Limits)
	limited.Until = time.Now().Add(-time.Minute).UTC()
	require.NoError(t, p.Change(ctx, limited))
	now, err = p.Standing(ctx, "rory")
	require.NoError(t, err)
	require.Empty(t, now.Groups)
	v, _ := p.Judge(ctx, eap.Check{User: "rory"}, login.Call{From: netip.MustParseAddr("203.0.113.46")})
	require.Equal(t, reason.PersonOver, v.Refusal.Code)
	persons, err = p.Persons(ctx)
	require.NoError(t, err)
	require.Empty(t, persons)
	for _, bad := range []User{
		{Name: "rory", Mail: "rory"},
		{Name: "rory", Mail: "Rory <rory@tern.example>"},
		{Name: "rory", Sessions: -1},
		{Name: "rory", Tunnels: []string{"a b"}},
		{Name: "rory", FullName: "R.\x1b[2J"},
		{Name: "rory", Groups: []string{""}},
	} {
		require.Error(t, p.Change(ctx, bad), "%+v", bad)
	}
	require.NoError(t, p.Remove(ctx, "rory"))
	require.ErrorIs(t, p.Remove(ctx, "rory"), store.ErrNotFound)
}

// What a source says is told as what it is; only where nobody could judge the device is told nothing.
func TestWhyNot(t *testing.T) {
	for kind, want := range map[source.Kind]reason.Code{
		source.Away: reason.SourceAway, source.Account: reason.SourceAccount, source.Unknown: reason.UnknownUser, source.Several: reason.SourceMistaken,
		source.Wrong: reason.WrongPassword, source.Barred: reason.SourceBars, source.Mistaken: reason.SourceMistaken, source.Refused: reason.SourceRefuses,
	} {
		why := whyNot("mainland", source.Fail(kind, "for a reason"))
		require.Equal(t, want, why.Code)
		require.Equal(t,
			kind == source.Away || kind == source.Account || kind == source.Several || kind == source.Mistaken,
			Undecided(why), "%v", want)
	}
}
