package browsertest

import (
	"encoding/json"
	"fmt"
	"os"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// Every page can be used by everybody, and on a phone: axe-core finds nothing serious on it, and nothing lies outside of 390 pixels but
// what scrolls in its own frame.
func TestEveryPageForEverybody(t *testing.T) {
	d, p := start(t)
	axe, err := os.ReadFile("../../web/node_modules/axe-core/axe.min.js")
	require.NoError(t, err)
	p.do(chromedp.Navigate(d.URL()+"/plan"), chromedp.WaitVisible(chromedp.CSS("#password")))
	look := func(name string) {
		t.Helper()
		p.script(`(() => { ` + string(axe) + `; return 1 })()`)
		p.script(`(() => { window.found = ''; axe.run(document, { resultTypes: ['violations'] }).then((r) => { window.found = JSON.stringify(` +
			`r.violations.filter((v) => ['serious', 'critical'].includes(v.impact)).map((v) => v.id + ': ' + v.nodes.slice(0, 4).map((n) => n.html.slice(0, 160)).join(' | '))) }) })()`)
		p.until(`window.found`, "[")
		var found []string
		require.NoError(t, json.Unmarshal([]byte(p.script(`window.found`)), &found))
		for _, f := range found {
			t.Errorf("%s: %s", name, f)
		}
	}
	look("sign in")
	p.do(chromedp.SendKeys(chromedp.CSS("#password"), d.Admin), chromedp.Click(chromedp.CSS("#enter")),
		chromedp.WaitVisible(chromedp.CSS(".board")))
	for _, page := range []struct{ path, ready string }{
		{"/", ".board"},
		{"/plan", "#step-document"},
		{"/plan?at=rules", "#step-document"},
		{"/plan?at=document", "#step-document"},
		{"/plan?at=rules&object=rules/cameras", "#step-document"},
		{"/trials", "h1"},
		{"/diagnose", "h1"},
		{"/people", "table"},
		{"/sessions", "h1"},
		{"/journal", "table"},
		{"/status", "table"},
		{"/access", "#administrators"},
	} {
		for _, width := range []int64{1280, 390} {
			p.do(chromedp.EmulateViewport(width, 800), chromedp.Navigate(d.URL()+page.path), chromedp.WaitVisible(chromedp.CSS(page.ready)))
			time.Sleep(500 * time.Millisecond) // what is still on its way in
			look(fmt.Sprintf("%s at %d", page.path, width))
			if width == 390 {
				if wide := p.script(`Math.max(0, document.documentElement.scrollWidth - 390)`); wide != "0" {
					t.Errorf("%s is %s pixels wider than a phone", page.path, wide)
				}
			}
		}
	}
}
