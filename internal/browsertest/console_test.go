// Package browsertest drives the built console in headless Chromium against a running demonstration.
package browsertest

import (
	"bytes"
	"context"
	"encoding/base64"
	"fmt"
	"html"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/log"
	cdpage "github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"yellowlantern/demo"
	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/cli"
	"yellowlantern/internal/client"
	"yellowlantern/internal/core/password"
	"yellowlantern/internal/instance"
	"yellowlantern/internal/mirror"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/tour"
	"yellowlantern/internal/underlay"
	"yellowlantern/web"
)

// page is a browser at the console.
type page struct {
	t   *testing.T
	ctx context.Context
}

func (p page) do(steps ...chromedp.Action[chromedp.Void]) {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.ctx, 20*time.Second)
	defer cancel()
	require.NoError(p.t, chromedp.Do(ctx, steps...))
}

// script runs JavaScript and gives its text.
func (p page) script(js string) string {
	p.t.Helper()
	ctx, cancel := context.WithTimeout(p.ctx, 20*time.Second)
	defer cancel()
	out, err := chromedp.Run(ctx, chromedp.Evaluate[string]("String("+js+")"))
	require.NoError(p.t, err)
	return out
}

// until waits until JavaScript gives a text that holds the wanted one.
func (p page) until(js, want string) {
	p.t.Helper()
	got := ""
	for range 300 {
		if got = p.script(js); strings.Contains(got, want) {
			return
		}
		time.Sleep(100 * time.Millisecond)
	}
	p.shot("failed-" + p.t.Name())
	require.Contains(p.t, got, want)
}

// shot keeps a picture, where pictures are wanted.
func (p page) shot(name string) {
	folder := os.Getenv("YL_SCREENSHOTS")
	if folder == "" {
		return
	}
	time.Sleep(400 * time.Millisecond)
	b, err := chromedp.Run(p.ctx, chromedp.CaptureScreenshot())
	require.NoError(p.t, err)
	require.NoError(p.t, os.MkdirAll(folder, 0o755))
	require.NoError(p.t, os.WriteFile(filepath.Join(folder, name+".png"), b, 0o644))
}

// commit presses the button of the dialog once it can be pressed: what is worked out meanwhile moves it, so that a click could miss it.
func (p page) commit() {
	p.until(`String(document.querySelector('#commit')?.disabled)`, "false")
	p.script(`document.querySelector('#commit').click()`)
}

const bodyText = "document.body.innerText"

func start(t *testing.T) (*tour.Demo, page) {
	if _, err := fs.Stat(web.Dist(), "index.html"); err != nil {
		t.Fatal("the console is not built: make build")
	}
	ctx := t.Context()
	d, err := tour.Prepare(ctx, "", instance.Options{
		Data: t.TempDir(), Listen: "127.0.0.1:0", IKE: "127.0.0.1:0", NATT: "127.0.0.1:0", PasswordCost: password.Light,
		Console: web.Dist(), Log: slog.New(slog.NewTextHandler(io.Discard, nil)),
	})
	require.NoError(t, err)
	t.Cleanup(d.Stop)
	_, _, err = d.Commit(ctx)
	require.NoError(t, err)

	return d, browse(t)
}

// browse opens a browser; whatever its console complains about fails the test.
func browse(t *testing.T, more ...chromedp.ExecAllocatorOption) page {
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.NoSandbox, chromedp.DisableGPU, chromedp.WindowSize(1280, 800),
		chromedp.UserDataDir(t.TempDir()))
	for _, flag := range []string{
		"disable-quic", "no-first-run", "disable-background-networking", "disable-component-update",
		"disable-sync",
	} {
		opts = append(opts, chromedp.Flag(flag, true))
	}
	alloc, stopAlloc := chromedp.NewExecAllocator(context.Background(), append(opts, more...)...)
	browser, stopBrowser := chromedp.NewContext(alloc)
	require.NoError(t, chromedp.Do(browser, chromedp.EmulateViewport(1280, 800)), "is Chromium installed?")
	t.Cleanup(func() {
		_ = chromedp.Cancel(browser)
		stopBrowser()
		stopAlloc()
	})
	complaints := make(chan string, 100)
	go func() {
		_ = chromedp.Listen(browser, func(ev any) {
			switch ev := ev.(type) {
			case *runtime.EventExceptionThrown:
				complaints <- ev.ExceptionDetails.Text
			case *log.EventEntryAdded:
				refused := strings.Contains(ev.Entry.URL, "/api/") // what the API refuses, the page tells in its own words
				if ev.Entry.Level == log.EntryLevelError && !refused {
					complaints <- ev.Entry.Text
				}
			}
		})
	}()
	t.Cleanup(func() {
		select {
		case words := <-complaints:
			t.Errorf("the console complains: %s", words)
		default:
		}
	})
	return page{t, browser}
}

func TestConsole(t *testing.T) {
	d, p := start(t)
	ctx := t.Context()
	m, persons, err := d.Model(ctx)
	require.NoError(t, err)
	_, err = d.Probe(ctx, m, persons, "rory.researcher", 1)
	require.NoError(t, err)

	// Nobody gets past the first page unsigned; a wrong password is told.
	p.do(chromedp.Navigate(d.URL()+"/plan"), chromedp.WaitVisible(chromedp.CSS("#password")))
	p.do(chromedp.SendKeys(chromedp.CSS("#password"), "not the password"), chromedp.Click(chromedp.CSS("#enter")))
	p.until(bodyText, "name or password is wrong")
	p.until(`document.querySelector('#enter').innerText.toLowerCase()`, "again in")
	p.until(`String(document.querySelector('#enter').disabled)`, "false")
	p.script(`(() => { const e = document.querySelector('#password'); e.value = ''; e.dispatchEvent(new Event('input')); })()`)
	p.do(chromedp.SendKeys(chromedp.CSS("#password"), d.Admin), chromedp.Click(chromedp.CSS("#enter")),
		chromedp.WaitVisible(chromedp.CSS(".board")))

	// The board tells what is computed and what was tried; a cell opens the journey.
	p.until(bodyText, "as it should be where it was tried")
	require.Contains(t, p.script(`document.querySelector('[aria-label="researchers to records: reaches"]').innerText`), "tried")
	require.Contains(t, p.script(`document.querySelector('[aria-label="volunteers to records: no reach"]').innerText`), "–")
	p.shot("board")
	p.do(chromedp.Click(chromedp.CSS(`[aria-label="researchers to turbine-control: kept out"]`)))
	p.until(`document.querySelector('.panel').innerText`, "Kept out by the gateway, as it must be: rule hands-off-the-turbine refuses")
	p.shot("journey")
	p.script(`document.querySelector('.panel [aria-label=Close]').click()`)

	// A mistake in the plan is told beside its line, and cannot be committed.
	p.script(`document.querySelector('nav a[href="/plan"]').click()`)
	p.do(chromedp.WaitVisible(chromedp.CSS("#step-document")))
	p.until(`document.querySelector('svg [aria-label="networks/archive"]')?.textContent`, "records, nestcams")
	p.do(chromedp.Click(chromedp.CSS(`[aria-label="passages/research"]`)))
	p.until(`String(document.querySelectorAll('path.lit').length)`, "5")
	p.shot("plan-picture")
	p.do(chromedp.Click(chromedp.CSS("#step-document")), chromedp.WaitVisible(chromedp.CSS("#document")))
	p.until(`String(`+docText+`.length > 1000)`, "true")
	edit := func(from, to string) {
		p.script(typed(from, to))
	}
	edit("prefixes: [10.99.1.0/26]", "prefixes: [10.20.0.64/26]")
	p.until(`document.querySelector('#counts').innerText`, "stop")
	p.until(`[...document.querySelectorAll('.margin.stop')].map(e => e.innerText).join()`, "overlaps network station")
	p.script(`document.querySelector('.desk').scrollTop = 900`)
	p.shot("plan-findings")
	p.do(chromedp.Click(chromedp.CSS("#review")))
	p.until(bodyText, "It cannot be committed yet")
	p.script(`[...document.querySelectorAll('.v-card-actions button')].find(b => b.innerText.trim().toLowerCase() === 'back').click()`)

	// The fix is worked out, and applied with one action; comments stay.
	p.script(`[...document.querySelectorAll('.margin.stop')].find(e => e.innerText.includes('overlaps network station')).querySelector('button').click()`)
	p.until(docText, "prefixes: [10.99.1.0/26]")
	p.until(docText, "# all their traffic comes home")
	p.until(`document.querySelector('#counts').innerText`, "0 stop")

	// A change that is right is reviewed in words, committed, and runs.
	edit("groups: [volunteers], to: [nestcams], services: [web]", "groups: [volunteers], to: [nestcams], services: [web, ping]")
	p.until(`document.querySelector('#counts').innerText`, "0 stop")
	p.until(bodyText, "differs from what runs")
	time.Sleep(time.Second)
	p.do(chromedp.Click(chromedp.CSS("#review")), chromedp.WaitVisible(chromedp.CSS("#for-whom")))
	p.until(`document.querySelector('#for-whom').innerText`, "gains ping at nestcams")
	p.do(chromedp.SendKeys(chromedp.CSS("#message"), "Volunteers may ping the cameras"))
	p.shot("commit")
	p.script(`document.querySelector('.v-dialog .v-select .v-field').dispatchEvent(new MouseEvent('mousedown', { bubbles: true }))`)
	p.until(`[...document.querySelectorAll('.v-overlay .v-list-item')].map((e) => e.innerText).join()`, "goes back if what held fails")
	p.script(`[...document.querySelectorAll('.v-overlay .v-list-item')].find((e) => e.innerText.includes('what held fails')).click()`)
	p.commit()
	p.until(bodyText, "Revision 2 was tried and is kept")
	r, err := client.Get[plans.Revision](ctx, d.Client, "/revisions/0")
	require.NoError(t, err)
	require.Equal(t, 2, r.Number)
	require.Contains(t, r.Text, "to: [nestcams], services: [web, ping]")

	// The board shows it at once, with what the trial of that revision saw.
	p.script(`document.querySelector('nav a[href="/"]').click()`)
	p.until(`document.querySelector('[aria-label="volunteers to nestcams: reaches"]')?.innerText`, "ping")
	require.Contains(t, p.script(`document.querySelector('[aria-label="researchers to records: reaches"]').innerText`), "✓ tried")

	// A revision on trial is told, and kept with one action.
	require.NoError(t, d.Client.Do(ctx, "PUT", "/drafts/trial", map[string]any{"text": d.Scenario.Plan, "version": 0}, nil))
	require.NoError(t, d.Client.Do(ctx, "POST", "/drafts/trial/commit", map[string]any{"message": "as it was", "for": 300}, nil))
	p.script(`document.querySelector('nav a[href="/plan"]').click()`)
	p.until(`document.querySelector('#on-trial')?.innerText`, "goes back to revision 2 by itself")
	p.do(chromedp.Click(chromedp.CSS("#keep")))
	p.until(`document.querySelector('#on-trial') === null`, "true")

	// A live session is shown and can be ended.
	order, err := client.Get[probe.Order](ctx, d.Client, "/probes/order?user=wanda.warden")
	require.NoError(t, err)
	u, err := underlay.Vantage(ctx, d.Lab.Vantages()[0].Link)
	require.NoError(t, err)
	defer u.Close()
	tunnel, err := probe.Open(ctx, u, order, probe.Options{Password: d.Passwords["wanda.warden"]})
	require.NoError(t, err)
	defer tunnel.Close()
	p.script(`document.querySelector('nav a[href="/sessions"]').click()`)
	p.until(bodyText, "wanda.warden")
	p.until(bodyText, "203.0.113.45:")
	stopPinging := make(chan struct{})
	defer close(stopPinging)
	go func() { // to somebody who answers, and to somebody who does not
		for n := 0; ; n++ {
			select {
			case <-stopPinging:
				return
			case <-time.After(150 * time.Millisecond):
			}
			short, end := context.WithTimeout(ctx, 100*time.Millisecond)
			_, _ = tunnel.Stack.PingSized(short, netip.MustParseAddr([]string{"10.20.0.20", "198.51.100.80"}[n%2]), 200+n%7*150,
				tunnel.Send)
			end()
		}
	}()
	p.until(`document.querySelectorAll('svg polyline')[0]?.getAttribute('points').split(' ').length >= 2`, "true")
	p.script(`[...document.querySelectorAll('td button')].find((b) => b.innerText === 'Flows').click()`)
	p.until(bodyText, "leaves as 192.0.2.10")
	p.shot("sessions")
	p.script(`(() => { [...document.querySelectorAll('td button')].find((b) => b.innerText === 'End').click() })()`)
	p.do(chromedp.WaitVisible(chromedp.CSS("#go-on")))
	p.script(`document.querySelector('#go-on').click()`)
	p.until(bodyText, "Nobody is connected.")
	p.script(`[...document.querySelectorAll('.v-btn-toggle button')].find((b) => b.innerText === 'Past').click()`)
	p.until(bodyText, "ended by administrator admin")

	// Everybody is tried from chosen places; what one of them hides is told, with the setting.
	p.script(`document.querySelector('nav a[href="/trials"]').click()`)
	p.until(`document.querySelectorAll('.vantage input:checked').length`, "5")
	for _, v := range []string{"hotel", "mobile"} {
		p.script("document.querySelector('.vantage input[value=" + v + "]').click()")
	}
	p.until(`document.querySelectorAll('.vantage input:checked').length`, "3")
	p.script(`[...document.querySelectorAll('button')].find((b) => b.innerText === 'Try everybody now').click()`)
	p.until(`document.querySelector('#round')?.innerText`, "logins saw something else")
	p.until(bodyText, "hides archive")
	p.shot("trials")
	p.script(`document.querySelector('main .v-select .v-field').dispatchEvent(new MouseEvent('mousedown', { bubbles: true }))`)
	p.until(`[...document.querySelectorAll('.v-overlay .v-list-item')].map((e) => e.innerText).join()`, "every day")
	p.script(`[...document.querySelectorAll('.v-overlay .v-list-item')].find((e) => e.innerText.includes('every day')).click()`)
	p.until(`document.querySelector('main').innerText`, "from home, twin, ipv6-only")
	p.script(`document.querySelector('.cause a').click()`)
	p.until(`location.search`, "object=passages")

	// The report is a page that stands by itself, on the screen and as PDF.
	p.do(chromedp.Navigate(d.URL() + "/api/v1/report/html"))
	p.until(bodyText, "Reached, and asked for by no expectation")
	p.until(bodyText, "boundary packets of what is computed were tried")
	pdf, err := chromedp.Run(p.ctx, func(ctx context.Context, t *chromedp.Target) ([]byte, error) {
		res, err := cdp.Call(ctx, t, cdpage.PrintToPDF, cdpage.PrintToPDFParams{})
		return res.Data, err
	})
	require.NoError(t, err)
	require.True(t, bytes.HasPrefix(pdf, []byte("%PDF-")))
	require.Greater(t, bytes.Count(pdf, []byte("/Type /Page\n")), 1, "several pages")
	if os.Getenv("YL_LOOK") != "" {
		p.shot("look-report")
	}

	// From a complaint to its cause, and to the draft that mends it.
	p.do(chromedp.Navigate(d.URL() + "/diagnose?user=vera.volunteer&complaint=reaches-some&to=records"))
	p.until(`[...document.querySelectorAll('main input')].map((i) => i.value).join()`, "records")
	p.script(`document.querySelector('main form').requestSubmit()`)
	p.until(bodyText, "so the device does not send it into the tunnel")
	p.shot("diagnose")
	p.script(`(() => { window.saved = 0; URL.createObjectURL = (b) => { window.saved = b.size; return '#' } })()`)
	p.script(`[...document.querySelectorAll('main button')].find((b) => b.innerText.includes('Save the evidence')).click()`)
	p.until(`window.saved > 3000`, "true")
	p.script(`[...document.querySelectorAll('.cause button')].find((b) => b.innerText.includes('Apply this fix')).click()`)
	p.until(`location.search`, "object=passages")
	p.until(bodyText, "draft differs from what runs")
	require.Eventually(t, func() bool { return tunnel.Ended() != nil }, 5*time.Second, 50*time.Millisecond)
	p.script(`document.querySelector('nav a[href="/journal"]').click()`)
	p.until(bodyText, "ended by administrator admin")
	p.shot("journal")
	p.script(`document.querySelector('nav a[href="/status"]').click()`)
	p.until("document.querySelector('#verdict')?.innerText", "People can get in")
	p.shot("status")

	// Everything can be reached from the keyboard, and dark is readable.
	p.script(`document.querySelector('[aria-label="Light or dark"]').click()`)
	p.script(`document.querySelector('nav a[href="/"]').click()`)
	p.do(chromedp.WaitVisible(chromedp.CSS(".board")))
	p.script(`document.querySelector('[aria-label="researchers to records: reaches"]').focus()`)
	require.Contains(t, p.script(`document.activeElement.getAttribute('aria-label')`), "records")
}

// The plan is changed by forms, step by step, with the document beside them; what is missing is made on the way; all of it can be undone.
func TestPlanSteps(t *testing.T) {
	d, p := start(t)
	p.signIn(d)
	p.do(chromedp.Navigate(d.URL()+"/plan?at=rules"), chromedp.WaitVisible(chromedp.CSS("#search")))
	value := docText
	p.until(`document.querySelector('[aria-label="rules/cameras"]')?.innerText`, "nestcams")
	p.shot("plan-rules")

	// Search finds names and settings; an object opens with its line beside it.
	p.script(`(() => { const e = document.querySelector('#search'); e.value = 'nestcams'; e.dispatchEvent(new Event('input')); })()`)
	p.until(`String(document.querySelectorAll('tr[aria-label^="rules/"]').length)`, "2")
	p.script(`document.querySelector(".v-field__clearable i, .v-field__clearable button").click()`)
	p.until(`String(document.querySelectorAll('tr[aria-label^="rules/"]').length > 2)`, "true")
	p.do(chromedp.Click(chromedp.CSS(`[aria-label="rules/cameras"]`)), chromedp.WaitVisible(chromedp.CSS("#field-name")))
	p.until(`document.querySelector('.spot') !== null`, "true")

	p.do(chromedp.Click(chromedp.CSS("#depends")))
	p.until(`document.querySelector('#dependence')?.innerText`, "volunteers-watch-nests would fail for volunteers")

	// A destination that is missing is made without losing the form.
	p.script(`[...document.querySelectorAll('button')].find(b => b.innerText.toLowerCase().includes('new host group')).click()`)
	p.do(chromedp.WaitVisible(chromedp.CSS(".v-dialog #field-name")), chromedp.SendKeys(chromedp.CSS(".v-dialog #field-name"), "watched"))
	p.do(chromedp.SendKeys(chromedp.CSS(".v-dialog #field-members"), "nestcams\r"))
	p.script(`document.querySelector('.v-dialog #add-object').click()`)
	p.until(value, "  - {name: watched, members: [nestcams]}\n\nservices:")
	p.until(value, "{name: cameras, action: permit, groups: [volunteers], to: [nestcams, watched], services: [web]}")
	p.until(`document.querySelector('[aria-label="rules: cameras"]') !== null`, "true")
	p.shot("plan-form")
	p.do(chromedp.Click(chromedp.CSS(`[aria-label="Undo"]`)))
	p.until(`String(`+value+`.includes('to: [nestcams, watched]'))`, "false")
	p.do(chromedp.Click(chromedp.CSS(`[aria-label="Undo"]`)))
	p.until(`document.querySelector('#review').disabled`, "true")
	p.do(chromedp.Click(chromedp.CSS(`[aria-label="Redo"]`)))
	p.until(value, "watched")

	// A passage shows what it takes from the gateway's defaults, and a wrong value is told at once without being kept.
	edit := func(from, to string) {
		p.script(typed(from, to))
	}
	edit("    internet: true\n", "    internet: true\n    defaults: {pool: guests, limits: {idle: 1h, per-person: 2}}\n")
	edit("    groups: [volunteers]\n    tunnels: [main]\n    pool: guests\n", "    groups: [volunteers]\n    tunnels: [main]\n")
	p.until(`document.querySelector('#counts').innerText`, "0 stop")
	p.do(chromedp.Click(chromedp.CSS("#step-passages")), chromedp.WaitVisible(chromedp.CSS(`[aria-label="passages/volunteers"]`)))
	p.do(chromedp.Click(chromedp.CSS(`[aria-label="passages/volunteers"]`)), chromedp.WaitVisible(chromedp.CSS("#field-pool")))
	p.until(`document.querySelector('[aria-label="passages: volunteers"]').innerText`, "guests is taken from gateways/jetty/defaults/pool")
	p.script(`(() => { const e = document.querySelector('#field-limits-idle'); e.value = 'soon'; e.dispatchEvent(new Event('input', {bubbles: true})); e.dispatchEvent(new Event('change', {bubbles: true})); })()`)
	p.until(`document.querySelector('[role="alert"]')?.innerText`, "expected a length of time")
	require.NotContains(t, p.script(value), "soon")

	// Renamed, an object is renamed wherever it is named.
	p.script(`(() => { const e = document.querySelector('#field-limits-idle'); e.value = ''; e.dispatchEvent(new Event('input', {bubbles: true})); e.dispatchEvent(new Event('change', {bubbles: true})); })()`)
	p.do(chromedp.Navigate(d.URL()+"/plan?at=site&object=hosts/nestcams"), chromedp.WaitVisible(chromedp.CSS("#field-name")))
	p.script(`(() => { const e = document.querySelector('#field-name'); e.value = 'burrow-cams'; e.dispatchEvent(new Event('input', {bubbles: true})); e.dispatchEvent(new Event('change', {bubbles: true})); })()`)
	p.until(value, "split: [names, burrow-cams]")
	require.NotContains(t, p.script(value), " nestcams,")
	p.until(`document.querySelector('[aria-label="hosts: burrow-cams"]') !== null`, "true")

	// What belongs to the whole plan has its place too.
	p.do(chromedp.Click(chromedp.CSS("#step-people")), chromedp.WaitVisible(chromedp.CSS("#whole-time-zone")))
	p.script(`(() => { const e = document.querySelector('#whole-time-zone'); e.value = 'Tern/Island'; e.dispatchEvent(new Event('input', {bubbles: true})); e.dispatchEvent(new Event('change', {bubbles: true})); })()`)
	p.until(`document.querySelector('#step-people .stop')?.innerText`, "✗1")
	p.until(bodyText, "there is no time zone")
	p.do(chromedp.Click(chromedp.CSS(`[aria-label="Undo"]`)))
	p.until(`document.querySelector('#whole-time-zone').value`, "Atlantic/Reykjavik")

	// Each step counts its findings; pools show what is leased.
	p.do(chromedp.Click(chromedp.CSS("#step-addresses")))
	p.until(`document.querySelector('#pool-usage')?.innerText`, "62 free of 62")
	p.do(chromedp.Click(chromedp.CSS(`[aria-label="pools/guests"]`)), chromedp.WaitVisible(chromedp.CSS("#document .cm-content")))
	edit("prefixes: [10.99.1.0/26]", "prefixes: [10.20.0.0/26]")
	p.until(`document.querySelector('#step-addresses .stop')?.innerText`, "✗")
	p.script(`[...document.querySelectorAll('.finding.stop button')].find(b => b.innerText.toLowerCase().includes('apply')).click()`)
	p.until(value, "prefixes: [10.99.1.0/26]")
	p.do(chromedp.Click(chromedp.CSS("#step-trust")))
	p.until(bodyText, "here; renewed by itself")

	// Somebody else commits a change of the same line: both are shown, and one is chosen.
	theirs := strings.Replace(d.Scenario.Plan, "name: nestcams, addresses: [10.20.30.7], dns",
		"name: nestcams, addresses: [10.20.30.7], ranges: [10.20.30.70-10.20.30.79], dns", 1)
	require.NoError(t, d.Client.Do(t.Context(), "PUT", "/drafts/theirs", map[string]any{"text": theirs, "version": 0}, nil))
	require.NoError(t, d.Client.Do(t.Context(), "POST", "/drafts/theirs/commit", map[string]any{"message": "a row of cameras"}, nil))
	p.do(chromedp.Navigate(d.URL()+"/plan?at=history"), chromedp.WaitVisible(chromedp.CSS("#difference")))
	p.until(`document.querySelector('#difference').innerText`, "hosts/nestcams/ranges")
	p.script(`[...document.querySelectorAll('button')].find(b => b.innerText.toLowerCase() === 'rebase').click()`)
	p.do(chromedp.WaitVisible(chromedp.CSS(".conflict")))
	p.script(`document.querySelectorAll('.conflict input[value=ours]').forEach(e => e.click())`)
	p.until(`document.querySelector('#settle').disabled`, "false")
	p.script(`document.querySelector('#settle').click()`)
	p.until(bodyText, "runs: revision 2")
	p.until(`document.querySelector('.conflict') === null`, "true")
	draft, err := client.Get[plans.Draft](t.Context(), d.Client, "/drafts/console")
	require.NoError(t, err)
	require.Equal(t, 2, draft.Base)
	require.Contains(t, draft.Text, "{name: burrow-cams, addresses: [10.20.30.7], dns")
}

// The document's editor, its text, and a change typed into it.
const (
	docView = `document.querySelector('#document .cm-content').cmTile.view`
	docText = docView + `.state.doc.toString()`
)

// A mirror elsewhere is asked where the site is described; what it saw is a finding at that step at once. (It is on this machine, which is
// let pass here; so it sees the loopback.)
func TestAskMirror(t *testing.T) {
	d, p := start(t)
	d.App.Standing.Elsewhere = func(context.Context, string) error { return nil }
	p.signIn(d)
	tokens := make(chan string, 3)
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	at := free.Addr().String()
	require.NoError(t, free.Close())
	s := &mirror.Server{Log: slog.New(slog.DiscardHandler), Token: func(token string) { tokens <- token }}
	go func() { _ = s.Serve(t.Context(), at) }()
	p.do(chromedp.Navigate(d.URL()+"/plan?at=site"), chromedp.WaitVisible(chromedp.CSS("#ask-mirror")))
	for label, value := range map[string]string{"Mirror's address and port": at, "Token that it printed": <-tokens} {
		p.script(fmt.Sprintf(`(() => { const l = [...document.querySelectorAll('label')].find(l => l.innerText === %q);
			const e = document.getElementById(l.htmlFor); e.value = %q; e.dispatchEvent(new Event('input', {bubbles: true})); })()`, label, value))
	}
	p.do(chromedp.Click(chromedp.CSS("#ask-mirror")))
	p.until(`document.querySelector('#mirror-saw')?.innerText`, "at 127.0.0.1, and the plan says 192.0.2.10")
	p.until(`document.querySelector('#step-site')?.innerText`, "!")
	p.shot("plan-mirror")
}

func typed(from, to string) string {
	return `(() => { const v = ` + docView + `, i = v.state.doc.toString().indexOf(` + quote(from) +
		`); v.dispatch({changes: {from: i, to: i + ` + quote(from) + `.length, insert: ` + quote(to) + `}}); })()`
}

// signIn enters the console as the demo's administrator.
func (p page) signIn(d *tour.Demo) {
	p.do(chromedp.Navigate(d.URL()), chromedp.WaitVisible(chromedp.CSS("#password")))
	p.do(chromedp.SendKeys(chromedp.CSS("#password"), d.Admin), chromedp.Click(chromedp.CSS("#enter")),
		chromedp.WaitVisible(chromedp.CSS(".board")))
}

// An administrator who has nothing begins in the console: names themselves, answers a few questions, adds a person, commits.
func TestConsoleFromNothing(t *testing.T) {
	scenario, err := demo.Load("")
	require.NoError(t, err)
	i, err := instance.Start(t.Context(), instance.Options{
		Data: t.TempDir(), Listen: "127.0.0.1:0", IKE: "127.0.0.1:0", NATT: "127.0.0.1:0", PasswordCost: password.Light, SiteLab: scenario.Site,
		Console: web.Dist(), Log: slog.New(slog.NewTextHandler(io.Discard, nil)),
	})
	require.NoError(t, err)
	t.Cleanup(i.Stop)
	p := browse(t)
	fill := func(pairs ...string) {
		for n := 0; n < len(pairs); n += 2 {
			p.do(chromedp.SendKeys(chromedp.CSS(pairs[n]), pairs[n+1]))
		}
	}
	p.do(chromedp.Navigate(i.URL()), chromedp.WaitVisible(chromedp.CSS("#code")))
	// Set at once: the page moves the focus while it is drawn, and keystrokes could go astray.
	for id, value := range map[string]string{"#code": i.App.Access.SetupCode, "#password": "a long enough password"} {
		p.script(`(() => { const e = document.querySelector(` + quote(id) + `); e.value = ` + quote(value) + `; e.dispatchEvent(new Event('input')); })()`)
	}
	p.do(chromedp.Click(chromedp.CSS("#enter")))
	p.until(bodyText, "no plan is committed yet")
	p.until(`document.querySelector('#next')?.innerText`, "a few answers, and the rest is proposed")
	p.script(`document.querySelector('#next a').click()`)
	p.do(chromedp.WaitVisible(chromedp.CSS("#network-0-name")), chromedp.Click(chromedp.CSS("#more-networks")),
		chromedp.WaitVisible(chromedp.CSS("#network-1-name")))
	fill("#site", "Tern Island", "#dial", "gate.tern.example", "#outside", "192.0.2.10", "#network-0-name", "station", "#network-0-prefix",
		"10.20.0.0/24", "#network-1-name", "archive", "#network-1-prefix", "10.20.30.0/24", "#network-1-router", "10.20.0.2",
		"#dns", "10.20.0.53", "#people", "40", "#group-0-name", "staff", "#group-0-reach", "archive\r")
	p.do(chromedp.Click(chromedp.CSS("#begin")))
	p.until(bodyText, "Say by which services, such as ping, tcp/443")
	require.Equal(t, "10.20.30.0/24", p.script(`document.querySelector('#network-1-prefix').value`), "what was typed stays")
	fill("#group-0-services", "tcp/80\rping\r")
	p.shot("begin")
	p.script(`document.querySelector('#begin').click()`)
	p.do(chromedp.Click(chromedp.CSS("#step-addresses")))
	p.until(`document.querySelector('.why')?.textContent`, "has room for two devices of each person")
	p.until(`document.querySelector('#counts').innerText`, "0 stop")
	p.do(chromedp.Click(chromedp.CSS("#step-people")))
	p.until(`[...document.querySelectorAll('.finding.warn')].map(e => e.innerText).join()`, "no user is in a group of passage staff")

	// A finding says what to do, and does it: whom to add is asked for with the group filled in.
	p.script(`[...document.querySelectorAll('.finding.warn a')].find(b => b.innerText.toLowerCase().includes('add a person to staff')).click()`)
	p.do(chromedp.WaitVisible(chromedp.CSS("#user")))
	p.do(chromedp.Click(chromedp.CSS("#make-password")), chromedp.WaitVisible(chromedp.CSS("#user-password")))
	fill("#user", "rory.researcher", "#full-name", "Rory Researcher", "#user-password", "too short")
	p.do(chromedp.Click(chromedp.CSS("#save-user")))
	p.until(bodyText, "give at least 12")
	fill("#user-password", ", now longer")
	p.do(chromedp.Click(chromedp.CSS("#save-user")))
	p.until(bodyText, "rory.researcher is added.")

	p.script(`document.querySelector('nav a[href="/plan"]').click()`)
	p.until(`document.querySelector('#counts')?.innerText`, "0 stop")
	p.do(chromedp.Click(chromedp.CSS("#review")), chromedp.WaitVisible(chromedp.CSS("#first")))
	p.until(`document.querySelector('#first').innerText`, "ping, tcp/80 at archive")
	fill("#message", "Tern Island begins")
	p.script(`[...document.querySelectorAll('.v-dialog .reason input')].forEach(e => { e.value = 'it is only begun'; e.dispatchEvent(new Event('input')) })`)
	p.commit()
	p.until(bodyText, "Revision 1 runs.")
	p.script(`document.querySelector('nav a[href="/people"]').click()`)
	p.until(bodyText, "by staff")
	p.shot("people")
	p.script(`document.querySelector('nav a[href="/"]').click()`)
	p.until(bodyText, "as it should be where it was tried")
	p.until(`document.querySelector('#next')?.innerText`, "Try it over a real tunnel")
}

// TestConsolePictures draws what the main commands print, for the README.
func TestConsolePictures(t *testing.T) {
	if os.Getenv("YL_SCREENSHOTS") == "" {
		t.Skip("pictures are made by make screenshots")
	}
	d, p := start(t)
	access := filepath.Join(t.TempDir(), "access.json")
	require.NoError(t, cli.WriteAccess(access, cli.Access{URL: d.URL(), Token: d.Client.Token}))
	password := filepath.Join(t.TempDir(), "password")
	require.NoError(t, os.WriteFile(password, []byte(d.Passwords["rory.researcher"]), 0o600))
	for name, args := range map[string]string{
		"command-prove":    "prove",
		"command-journey":  "journey --from rory.researcher --to turbine-control:502",
		"command-probe":    "probe --user rory.researcher --password-file " + password,
		"command-diagnose": "diagnose vera.volunteer --complaint reaches-some --to records",
	} {
		var out bytes.Buffer
		_ = cli.New(&out).Run(t.Context(), append([]string{"yl", "--access", access}, strings.Fields(args)...))
		shown := strings.ReplaceAll(args, password, "rory.password")
		page := "<pre style='font: 14px monospace; background: #0b1628; color: #e8eefa; padding: 16px; margin: 0; min-height: 768px'><b style='color: #ffb627'>$ yl " +
			html.EscapeString(shown) + "</b>\n" + html.EscapeString(out.String()) + "</pre>"
		p.do(chromedp.Navigate("data:text/html;charset=utf-8;base64," + base64.StdEncoding.EncodeToString([]byte(page))))
		p.shot(name)
	}
}

// Whatever page somebody is on: that the newest revision does not run, and why, stands above it.
func TestWhatDoesNotRun(t *testing.T) {
	d, p := start(t)
	p.signIn(d)
	require.Equal(t, "null", p.script("document.querySelector('#not-running')"))
	require.NoError(t, d.Client.Do(t.Context(), "POST", "/certificates/gate/revoke",
		map[string]string{"reason": "the jetty was broken into"}, nil))
	p.script("document.querySelector('nav a[href=\"/people\"]').click()")
	p.until(bodyText, "certificate gate, which tunnel main shows, is revoked")
	p.script("document.querySelector('nav a[href=\"/status\"]').click()")
	p.until("document.querySelector('#verdict')?.innerText", "things are wrong")
	p.until("document.querySelector('main tbody tr td:nth-child(4)')?.innerText + document.querySelector('main tbody')?.innerText", "yl certificate make gate")
	p.shot("not-running")
	p.script("document.querySelector('nav a[href=\"/people\"]').click()")
	p.until("document.querySelector('h1')?.innerText", "People")
	wrong := map[string]string{"name": "ada.admin", "password": "not the password"}
	require.Error(t, d.Client.Do(t.Context(), "POST", "/sign-in", wrong, nil))
	p.script("document.querySelector('nav a[href=\"/journal\"]').click()")
	p.until("document.querySelector('h1')?.innerText", "Journal") // a page loads when it is opened
	p.script("document.querySelector('nav a[href=\"/people\"]').click()")
	p.until("document.querySelector('#slowed')?.innerText", "ada.admin from 127.0.0.1: 1 wrong password at the console")
	p.shot("slowed")
	p.script("document.querySelector('#slowed button').click()")
	p.until("document.querySelector('#slowed')", "null")
	require.NoError(t, d.Client.Do(t.Context(), "POST", "/certificates/gate", map[string]any{"for": []string{"gate.tern.example"}}, nil))
	p.script("document.querySelector('nav a[href=\"/journal\"]').click()")
	p.until("document.querySelector('#not-running')", "null")
}

func quote(s string) string {
	return "`" + s + "`"
}
