package browsertest

import (
	"crypto/rand"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/check"
	"yellowlantern/internal/core/plan"
)

// An administrator lets another authority's certificates in by the form, tries one before anybody does, sees that its list cannot be had,
// and gives it by hand.
func TestOtherAuthorities(t *testing.T) {
	d, p := start(t)
	now := time.Now()
	institute, err := cert.NewAuthority(rand.Reader, now.Add(-time.Hour), "Mainland Institute")
	require.NoError(t, err)
	key, err := cert.NewKey(rand.Reader)
	require.NoError(t, err)
	spki, err := x509.MarshalPKIXPublicKey(key.Public())
	require.NoError(t, err)
	rory, err := institute.NewPerson(rand.Reader, now.Add(-time.Hour), "rory.researcher@tern.example", spki)
	require.NoError(t, err)
	list, err := institute.RevocationList(rand.Reader, now, 7, nil)
	require.NoError(t, err)
	inPEM := func(kind string, der []byte) string {
		return string(pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der}))
	}

	p.signIn(d)
	draft, err := d.App.Plans.Draft(t.Context(), "console")
	if err != nil {
		newest, err := d.App.Plans.Revision(t.Context(), 0)
		require.NoError(t, err)
		draft.Text = newest.Text
	}
	object := "{name: mainland, domain: tern.example, lists: [http://127.0.0.1:1/people.crl], certificate: " +
		strconv.Quote(string(institute.PEM())) + "}"
	text, err := plan.Apply(draft.Text, plan.Edit{Op: "add", Path: "authorities", Value: object},
		plan.Edit{Op: "add", Path: "tunnels/main/authorities", Value: "mainland"},
		plan.Edit{Op: "set", Path: "tunnels/main/login", Value: "certificate"})
	require.NoError(t, err)
	_, err = d.App.Plans.Save(t.Context(), "console", text, draft.Version)
	require.NoError(t, err)
	p.do(chromedp.Navigate(d.URL()+"/plan?at=trust&object=authorities/mainland"), chromedp.WaitVisible(chromedp.CSS("#field-certificate")))
	p.until("document.querySelector('#field-certificate').value", "-----BEGIN CERTIFICATE-----")
	p.shot("authority-form")

	fill := func(js, value string) {
		quoted, err := json.Marshal(value)
		require.NoError(t, err)
		p.script(fmt.Sprintf(`(() => { const e = %s; e.value = %s; for (const k of ['input', 'change']) e.dispatchEvent(new Event(k, {bubbles: true})); return '' })()`, js, quoted))
	}
	panel := `document.querySelector('[aria-label="Other authorities"]')`
	fill("document.querySelector('#field-certificate')", inPEM("CERTIFICATE", rory.Raw))
	p.until(bodyText, "is not an authority's")
	fill("document.querySelector('#field-certificate')", string(institute.PEM()))
	p.until(`document.querySelector('#counts').innerText`, "0 stop")

	look := func() {
		p.do(chromedp.Navigate(d.URL()+"/plan?at=trust"), chromedp.WaitVisible(chromedp.CSS(`[aria-label="Other authorities"]`)))
	}
	look()
	p.script(panel + ".querySelector('summary').click()")
	p.script(panel + ".querySelector('.v-select input').dispatchEvent(new MouseEvent('mousedown', {bubbles: true}))")
	p.until(`document.querySelector('.v-overlay--active .v-list')?.innerText ?? ''`, "mainland")
	p.script(`document.querySelector('.v-overlay--active .v-list-item').click()`)
	fill(panel+".querySelector('textarea')", inPEM("CERTIFICATE", rory.Raw))
	try := fmt.Sprintf("[...%s.querySelectorAll('button')].find((b) => b.innerText.match(/^try$/i)).click()", panel)
	p.script(try)
	p.until(panel+".innerText", "rory.researcher is meant")
	p.until(panel+".innerText", "it cannot be found out")
	p.script(panel + ".scrollIntoView()")
	p.shot("authority-tried")

	var review plans.Review
	require.NoError(t, d.Client.Do(t.Context(), "GET", "/drafts/console/review", nil, &review))
	accepted := []plans.Acceptance{}
	for _, f := range review.Findings {
		if f.Severity == check.Warn {
			accepted = append(accepted, plans.Acceptance{Finding: f.ID(), Reason: "it is a trial"})
		}
	}
	commit := map[string]any{"message": "the mainland's people", "accept": accepted}
	require.NoError(t, d.Client.Do(t.Context(), "POST", "/drafts/console/commit", commit, nil))
	look()
	p.script(fmt.Sprintf("[...%s.querySelectorAll('button')].find((b) => b.innerText.match(/fetch now/i)).click()", panel))
	p.until(panel+".innerText", "so nobody comes in by it")
	p.script(panel + ".scrollIntoView()")
	p.shot("authorities-bad")
	file := filepath.Join(t.TempDir(), "people.crl")
	require.NoError(t, os.WriteFile(file, list, 0o600))
	p.do(chromedp.SetUploadFiles(chromedp.CSS(`[aria-label="Revocation list of mainland"]`), []string{file}))
	p.until(panel+".innerText", "given by hand, of Mainland Institute")
	p.until(panel+".innerText", "✓ mainland")
	p.script(panel + ".scrollIntoView()")
	p.shot("authorities")
}
