package browsertest

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"runtime"
	"runtime/metrics"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/app/proofs"
	"yellowlantern/internal/client"
	"yellowlantern/internal/core/password"
	"yellowlantern/internal/instance"
	"yellowlantern/internal/store"
	"yellowlantern/internal/testkit/bigplan"
	"yellowlantern/web"
)

// BenchmarkSizes runs the service and the console with 10,000 users, 200 groups, 2,000 rules, 500 destinations and 50 pools, once: how long
// pages take to show what they are for, an edit's findings, a commit, and how much memory stands after all of it.
func BenchmarkSizes(b *testing.B) {
	users := 10_000
	if testing.Short() {
		users = 400
	}
	p, people := bigplan.Sound(users)
	text, err := bigplan.Text(p)
	require.NoError(b, err)
	i, err := instance.Start(b.Context(), instance.Options{
		Data: b.TempDir(), Listen: "127.0.0.1:0", IKE: "127.0.0.1:0", NATT: "127.0.0.1:0", PasswordCost: password.Light,
		Console: web.Dist(), Log: slog.New(slog.NewTextHandler(io.Discard, nil)),
	})
	require.NoError(b, err)
	defer i.Stop()
	ctx := b.Context()
	const password = "a long enough password"
	c := client.New(i.URL(), "")
	require.NoError(b, c.Do(ctx, "POST", "/start", map[string]string{"code": i.App.Access.SetupCode, "name": "admin", "password": password},
		nil))
	require.NoError(b, c.SignIn(ctx, "admin", password, "sizes"))
	for _, who := range people {
		u := store.User{Name: who.User, FullName: "Generated " + who.User}
		for _, g := range who.Groups {
			u.Groups = append(u.Groups, store.Membership{User: who.User, Group: g})
		}
		require.NoError(b, i.Store.AddUser(ctx, u, "a long enough password"))
	}
	_, err = i.App.Trust.Make(ctx, "gate", "gw.tern.example")
	require.NoError(b, err)

	timed := func(what string, do func()) {
		begun := time.Now()
		do()
		b.ReportMetric(time.Since(begun).Seconds(), what+"-s")
	}
	var review plans.Review
	accept := func() []plans.Acceptance {
		out := []plans.Acceptance{}
		for _, f := range review.Findings {
			if f.Severity == "warn" {
				out = append(out, plans.Acceptance{Finding: f.ID(), Reason: "it is generated"})
			}
		}
		return out
	}
	commit := func(name, text string) {
		require.NoError(b, c.Do(ctx, "PUT", "/drafts/"+name, map[string]any{"text": text, "version": 0}, nil))
		review, err = client.Get[plans.Review](ctx, c, "/drafts/"+name+"/review")
		require.NoError(b, err)
	}
	for b.Loop() {
		commit("first", text)
		require.Zero(b, review.Stops, "%v", review.Findings[:min(len(review.Findings), 5)])
		timed("first-commit", func() {
			require.NoError(b, c.Do(ctx, "POST", "/drafts/first/commit", map[string]any{"message": "first", "accept": accept()}, nil))
		})
		changed := strings.Replace(text, "services: [tcp/22]", "services: [tcp/22, ping]", 1)
		timed("findings", func() {
			require.NoError(b, c.Do(ctx, "POST", "/check", map[string]string{"text": changed}, nil))
		})
		edit := func(value string) []map[string]string { // another one each time: nothing is known of it
			return []map[string]string{{"op": "set", "path": "rules/rule7-3/services", "value": value}}
		}
		for n, value := range []string{"[tcp/23]", "[tcp/25]", "[tcp/26]"} {
			timed(fmt.Sprintf("edit-as-before-%d", n), func() { // the four calls that it was
				var out struct{ Text string }
				require.NoError(b, c.Do(ctx, "POST", "/edit", map[string]any{"text": text, "edits": edit(value)}, &out))
				require.NoError(b, c.Do(ctx, "PUT", fmt.Sprint("/drafts/before", n), map[string]any{"version": 0, "text": out.Text}, nil))
				require.NoError(b, c.Do(ctx, "POST", "/check", map[string]string{"text": out.Text}, nil))
				require.NoError(b, c.Do(ctx, "POST", "/read", map[string]string{"text": out.Text}, nil))
			})
			timed(fmt.Sprintf("edit-%d", n), func() { // version and edits in; text, findings, objects and version out
				in := map[string]any{"version": 0, "edits": edit("[udp" + value[4:])}
				require.NoError(b, c.Do(ctx, "POST", fmt.Sprintf("/drafts/edited%d/change", n), in, nil))
			})
		}
		commit("second", changed)
		timed("commit", func() {
			require.NoError(b, c.Do(ctx, "POST", "/drafts/second/commit", map[string]any{"message": "second", "accept": accept()}, nil))
		})
		third := strings.Replace(text, "services: [tcp/22]", "services: [tcp/22, tcp/2222]", 1)
		require.NoError(b, c.Do(ctx, "PUT", "/drafts/third", map[string]any{"text": third, "version": 0}, nil))
		fifty(b, c, "fifty-boards-unknown")
		fifty(b, c, "fifty-boards-known")
		console(b, i.URL(), timed)
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		b.ReportMetric(float64(m.Sys-m.HeapReleased)/(1<<20), "memory-MB")
	}
}

// fifty people look at a part of the board of one draft at once: how long half of them and the last wait, and how much memory that takes
// at most beside what stood before.
func fifty(b *testing.B, c *client.Client, what string) {
	heap := func() float64 {
		sample := []metrics.Sample{{Name: "/memory/classes/heap/objects:bytes"}}
		metrics.Read(sample)
		return float64(sample[0].Value.Uint64()) / (1 << 20)
	}
	runtime.GC()
	before, most := heap(), 0.0
	over, looked := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(looked)
		for {
			select {
			case <-over:
				return
			case <-time.After(2 * time.Millisecond):
				most = max(most, heap())
			}
		}
	}()
	took := make([]time.Duration, 50)
	var all sync.WaitGroup
	for n := range took {
		all.Go(func() {
			begun := time.Now()
			board, err := client.Get[proofs.Board](b.Context(), c, fmt.Sprintf("/board?draft=third&rows=25&columns=24&row=%d", n*3))
			took[n] = time.Since(begun)
			require.NoError(b, err)
			require.Equal(b, 25, len(board.Rows))
		})
	}
	all.Wait()
	close(over)
	<-looked
	slices.Sort(took)
	b.ReportMetric(took[25].Seconds(), what+"-p50-s")
	b.ReportMetric(took[49].Seconds(), what+"-last-s")
	b.ReportMetric(most-before, what+"-MB")
}

// console opens every page, and waits for what it is for.
func console(b *testing.B, url string, timed func(string, func())) {
	bounded, over := context.WithTimeout(context.Background(), 5*time.Minute) // go test bounds no benchmark
	defer over()
	alloc, stopAlloc := chromedp.NewExecAllocator(bounded,
		append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.DisableGPU,
			chromedp.WindowSize(1280, 800), chromedp.UserDataDir(b.TempDir()))...)
	defer stopAlloc()
	browser, stop := chromedp.NewContext(alloc)
	defer stop()
	require.NoError(b, chromedp.Do(browser, chromedp.EmulateViewport(1280, 800), chromedp.Navigate(url),
		chromedp.WaitVisible(chromedp.CSS("#password")),
		chromedp.SendKeys(chromedp.CSS("#password"), "a long enough password"), chromedp.Click(chromedp.CSS("#enter")),
		chromedp.WaitVisible(chromedp.CSS(".board"))))
	until := func(js string) {
		for range 3000 {
			ok, err := chromedp.Run(browser, chromedp.Evaluate[bool](js))
			require.NoError(b, err)
			if ok {
				return
			}
			time.Sleep(5 * time.Millisecond)
		}
		b.Fatalf("never true: %s", js)
	}
	for _, page := range []struct{ name, path, shows string }{
		{"people-page", "/people", "document.body.innerText.includes('user00007')"},
		{"plan-page", "/plan", "document.querySelectorAll('svg g.box').length > 10"},
		{"rules-step", "/plan?at=rules", "document.querySelectorAll('tr[aria-label^=\"rules/\"]').length > 10"},
		{"one-rule", "/plan?at=rules&object=rules/rule7-3", "document.querySelector('#field-name')?.value === 'rule7-3'"},
		{"document", "/plan?at=document", "document.querySelector('#document .cm-content')?.cmTile.view.state.doc.length > 100000"},
		{"reach-page", "/", "document.querySelectorAll('.board td').length > 10"},
		{"sessions-page", "/sessions", "document.body.innerText.includes('Nobody is connected')"},
		{"journal-page", "/journal", "document.body.innerText.includes('revision 2')"},
	} {
		timed(page.name, func() {
			require.NoError(b, chromedp.Do(browser,
				chromedp.Evaluate[chromedp.Void](fmt.Sprintf("void (location.href = %q)", url+page.path))))
			time.Sleep(30 * time.Millisecond) // until the older page is gone
			until("document.readyState === 'complete' && " + page.shows)
		})
	}
}
