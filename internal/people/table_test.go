package people

import (
	"bytes"
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// A table says line by line what would become of it; it is taken whole or not at all; what was written is read as the same again.
func TestTable(t *testing.T) {
	p, ctx := open(t), context.Background()
	const good = "eight terns on the jetty"
	require.NoError(t, p.Add(ctx, User{Name: "rory", FullName: "=Rory", Groups: []string{"researchers"}, Sessions: 2}, good))
	require.NoError(t, p.Add(ctx, User{Name: "wanda", FullName: "'t Wanda", Groups: []string{"wardens"}}, good))
	known := &Known{Groups: []string{"researchers", "wardens"}, Tunnels: []string{"main"}, Hours: []string{"day"}}
	table := "\ufeffUser,groups,until,tunnels,off\n" +
		"rory,researchers;wardens,2031-05-01,main,no\n" +
		"wanda,wardens,,,no\n" +
		"vera,volunteers,,,no\n" +
		"-bad,wardens,,,no\n" +
		"rory,wardens,,,no\n" +
		"curt,wardens,tomorrow,,perhaps\n" +
		"short,wardens\n" +
		"new,\"wardens;researchers\",,main,yes\n"
	got, err := p.Import(ctx, []byte(table), true, known.Fits)
	require.NoError(t, err)
	require.False(t, got.Taken)
	var seen []string
	for _, l := range got.Lines {
		seen = append(seen, fmt.Sprintf("%d %s %s: %s", l.Line, l.User, l.Does, l.Words))
	}
	require.Equal(t, []string{
		"2 rory change: groups: researchers → researchers, wardens; until: nothing → 2031-05-02T00:00:00Z; tunnels: nothing → main",
		"3 wanda same: nothing changes",
		"4 vera refused: the running plan has no group volunteers",
		`5 -bad refused: "-bad" cannot be a user name: use up to 64 letters, digits, dots, hyphens, underscores and @`,
		"6 rory refused: rory is in line 2 already",
		`7 curt refused: "tomorrow" is no time: expected a day such as 2027-03-31, or a moment such as 2027-03-31T18:00:00Z; off is "perhaps": expected yes or no`,
		"8  refused: it has 2 columns, the first line names 5",
		"9 new add: in researchers, wardens",
	}, seen)
	u, err := p.User(ctx, "rory")
	require.NoError(t, err)
	require.Equal(t, []string{"researchers"}, u.Groups, "nothing was taken")
	for wrong, says := range map[string]string{
		"": "names the columns", "name,groups\n": "no column", "groups\nwardens\n": "no column user", "user,user\n": "twice", "user,groups\n\"rory": "line 2",
	} {
		_, err := p.Import(ctx, []byte(wrong), true, nil)
		require.ErrorContains(t, err, says, wrong)
	}
	got, err = p.Import(ctx, []byte("user,full-name,groups\nnew,New Nestling,wardens\nrory,'=Rory,wardens\n"), true, known.Fits)
	require.NoError(t, err)
	require.True(t, got.Taken)
	require.Len(t, got.Lines[0].Password, 23)
	u, err = p.User(ctx, "rory")
	require.NoError(t, err)
	require.Equal(t, 2, u.Sessions, "a column that is not there stays")
	u, err = p.User(ctx, "new")
	require.NoError(t, err)
	require.True(t, u.MustChange)
	_, kept, err := p.keeper.Password(ctx, "new")
	require.NoError(t, err)
	require.True(t, kept.Is(got.Lines[0].Password))

	all, err := p.List(ctx)
	require.NoError(t, err)
	var out bytes.Buffer
	require.NoError(t, Write(&out, all))
	require.Contains(t, out.String(), "rory,'=Rory,")
	again, err := p.Import(ctx, out.Bytes(), false, nil)
	require.NoError(t, err)
	require.Equal(t, len(all), again.Same, out.String())
}

// Pages hold everybody once, and of those who match a text.
func TestPages(t *testing.T) {
	p, ctx := open(t), context.Background()
	var table strings.Builder
	table.WriteString("user,full-name,groups\n")
	for i := range 100 {
		fmt.Fprintf(&table, "user%03d,Person %%%d,g%d;all\n", i, i, i%10)
	}
	_, err := p.Import(ctx, []byte(table.String()), true, nil)
	require.NoError(t, err)
	for text, want := range map[string]int{"": 100, "g3": 10, "user09": 10, "%4": 11, "all": 100, "_": 0} {
		seen, after := map[string]bool{}, ""
		for {
			page, err := p.Page(ctx, text, after, 7)
			require.NoError(t, err)
			require.Equal(t, []int{want, 100}, []int{page.Matching, page.All}, text)
			for _, u := range page.Users {
				require.False(t, seen[u.Name])
				require.Contains(t, u.Groups, "all")
				seen[u.Name] = true
			}
			if after = page.Next; after == "" {
				break
			}
		}
		require.Len(t, seen, want, text)
	}
	// What was changed by itself is found as if everybody had been read again.
	require.NoError(t, p.Change(ctx, User{Name: "user050", Groups: []string{"moved"}}))
	require.NoError(t, p.Remove(ctx, "user051"))
	require.NoError(t, p.Add(ctx, User{Name: "user0505", Groups: []string{"moved"}}, "eight terns on the jetty"))
	patched, err := p.List(ctx)
	require.NoError(t, err)
	p.roll.read = false
	whole, err := p.List(ctx)
	require.NoError(t, err)
	require.Equal(t, whole, patched)
}

func BenchmarkHundredThousand(b *testing.B) {
	p, ctx := openAt(b), context.Background()
	var table strings.Builder
	table.WriteString("user,full-name,groups\n")
	many := 100_000
	if testing.Short() {
		many = 51_000
	}
	for i := range many {
		fmt.Fprintf(&table, "user%06d,Person %d,g%d\n", i, i, i%100)
	}
	_, err := p.Import(ctx, []byte(table.String()), true, nil)
	require.NoError(b, err)
	begun := time.Now()
	_, err = p.Page(ctx, "", "", 200)
	require.NoError(b, err)
	first := time.Since(begun)
	b.Run("everybody for the first time", func(b *testing.B) {
		for b.Loop() {
		}
		b.ReportMetric(float64(first), "ns/op")
	})
	for _, x := range []struct{ name, text string }{
		{"a page", ""}, {"search by group", "g42"}, {"search by name", "09912"}, {"search that finds nobody", "nobody of that name"},
	} {
		b.Run(x.name, func(b *testing.B) {
			for b.Loop() {
				_, err := p.Page(ctx, x.text, "user050000", 200)
				require.NoError(b, err)
			}
		})
	}
	b.Run("a page after a change", func(b *testing.B) {
		for b.Loop() {
			require.NoError(b, p.Change(ctx, User{Name: "user050000", Groups: []string{"g1"}}))
			_, err := p.Page(ctx, "", "", 200)
			require.NoError(b, err)
		}
	})
	b.Run("who somebody is, at a login", func(b *testing.B) {
		for b.Loop() {
			_, err := p.Standing(ctx, "user050000")
			require.NoError(b, err)
		}
	})
}

// Whatever a table holds, its lines are told apart, each once, and nothing that is refused is taken.
func FuzzTable(f *testing.F) {
	f.Add([]byte("user,groups\nrory,researchers\n"))
	f.Add([]byte("\ufeffuser,until,off\n\"a\nb\",2030-01-01,yes\n'=x,,\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		got, err := readTable(text, map[string]User{"rory": {Name: "rory", Groups: []string{}}}, nil)
		if err != nil {
			return
		}
		require.Equal(t, len(got.Lines), got.Added+got.Changed+got.Same+got.Refused)
		require.Len(t, got.added, got.Added)
		require.Len(t, got.changed, got.Changed)
		for _, u := range got.added {
			require.NoError(t, user(u.User).check())
		}
	})
}
