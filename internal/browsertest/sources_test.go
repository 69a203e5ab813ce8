package browsertest

import (
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"yellowlantern/internal/testkit/directoryserver"
)

// A directory in a draft is tried from the step that it stands in, before it is committed.
func TestTrySource(t *testing.T) {
	s := directoryserver.Start(t)
	const password = "gannet lantern mosaic"
	s.Add(directoryserver.Person("uid=dora", "dora", "Dora Directory", password) +
		directoryserver.Group("researchers", "uid=dora,"+directoryserver.People))
	d, p := start(t)
	require.NoError(t, d.Client.Do(t.Context(), "POST", "/secrets/mainland-account",
		map[string]string{"kind": "password", "value": directoryserver.AccountSecret}, nil))
	object := "sources:\n  - name: mainland\n    kind: ldap\n    servers: [" + s.LDAPS + "]\n    authority: |\n      " +
		strings.ReplaceAll(strings.TrimSpace(s.Authority), "\n", "\n      ") + "\n    account: \"" + directoryserver.Account +
		"\"\n    secret: mainland-account\n    base: \"" + directoryserver.People + "\"\n    group-base: \"" + directoryserver.Groups + "\"\n\npassages:\n"
	text := strings.NewReplacer("login: eap-mschapv2", "login: eap-ttls", "\npassages:\n", "\n"+object).Replace(d.Scenario.Plan)
	require.NoError(t, d.Client.Do(t.Context(), "PUT", "/drafts/console", map[string]any{"text": text, "version": 0}, nil))
	p.signIn(d)
	p.script(`document.querySelector('nav a[href="/plan"]').click()`)
	p.do(chromedp.Click(chromedp.CSS("#step-people")), chromedp.WaitVisible(chromedp.CSS("#source-user")))
	p.do(chromedp.SendKeys(chromedp.CSS("#source-user"), "dora"), chromedp.SendKeys(chromedp.CSS("#source-password"), password))
	p.do(chromedp.Click(chromedp.CSS("#source-try")))
	p.until(`document.querySelector('#source-tried')?.innerText`, "comes in by passage research")
	p.shot("source")
	p.do(chromedp.SendKeys(chromedp.CSS("#source-user"), "x"), chromedp.Click(chromedp.CSS("#source-try")))
	p.until(`document.querySelector('#source-tried')?.innerText`, "the filter was (uid=dorax)")
	p.shot("source-not")
}
