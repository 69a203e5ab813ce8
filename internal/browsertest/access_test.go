package browsertest

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/onetime"
)

// An administrator makes another one, who chooses a password where they first sign in; a second factor is set up in the console, and
// asked for from then on.
func TestAccessPage(t *testing.T) {
	d, p := start(t)
	p.signIn(d)
	fill := func(id, v string) {
		p.script(fmt.Sprintf(`(() => { const e = document.querySelector(%q); e.value = %q; e.dispatchEvent(new Event('input')); return '' })()`, id, v))
	}
	click := func(id string) { p.script(fmt.Sprintf(`document.querySelector(%q).click()`, id)) }
	click(`a[href="/access"]`)
	p.until("document.querySelector('#administrators')?.innerText ?? ''", "admin")
	fill("#new-administrator", "hanna.helpdesk")
	p.until("String(document.querySelector('#add-administrator').disabled)", "false")
	click("#add-administrator")
	p.until("document.querySelector('#made')?.innerText ?? ''", "hanna.helpdesk")
	made := p.script("document.querySelector('#made code').innerText")
	p.until("document.querySelector('#administrators').innerText", "has not chosen a password yet")
	click("#begin-own")
	p.until("String(Boolean(document.querySelector('#own-secret')))", "true")
	secret, err := onetime.Read(onetime.ByTime, p.script("document.querySelector('#own-secret').innerText"))
	require.NoError(t, err)
	p.shot("access")
	fill("#own-code", secret.Code(onetime.At(time.Now())))
	fill("#own-password", d.Admin)
	p.until("String(document.querySelector('#take-own').disabled)", "false")
	click("#take-own")
	p.until("document.querySelector('#recovery')?.innerText ?? ''", "-")
	recovery := p.script("document.querySelector('#recovery').innerText.split('\\n')[0]")

	click(`[aria-label="Sign out"]`)
	p.until("String(Boolean(document.querySelector('#enter')))", "true")
	fill("#password", d.Admin)
	click("#enter")
	p.until("String(Boolean(document.querySelector('#factor')))", "true")
	fill("#factor", recovery)
	p.shot("sign-in-code")
	click("#enter")
	p.until("document.querySelector('.who')?.innerText ?? ''", "admin")

	click(`[aria-label="Sign out"]`)
	p.until("String(Boolean(document.querySelector('#enter')))", "true")
	fill("#name", "hanna.helpdesk")
	fill("#password", made)
	click("#enter")
	p.until("String(Boolean(document.querySelector('#own-password')))", "true")
	fill("#own-password", "four unrelated words of hers")
	click("#enter")
	p.until("document.querySelector('.who')?.innerText ?? ''", "hanna.helpdesk")
	click(`a[href="/access"]`)
	p.until("document.querySelector('#administrators')?.innerText ?? ''", "hanna.helpdesk")
	fill("#new-administrator", "me.too")
	p.until("String(document.querySelector('#add-administrator').disabled)", "false")
	click("#add-administrator")
	p.until(bodyText, "is not for you (help-desk)")
}

// A call that waits for another administrator's approval stands on the page of access, with what it does and who asked for it.
func TestApprovalInConsole(t *testing.T) {
	d, p := start(t)
	p.signIn(d)
	draft, err := d.Store.Newest(t.Context())
	require.NoError(t, err)
	text := map[string]any{"text": draft.Text + "\napprove-commits: true\n", "version": 0}
	require.NoError(t, d.Client.Do(t.Context(), "PUT", "/drafts/two", text, nil))
	ada := map[string]string{"name": "ada.admin", "role": "administrator"}
	require.NoError(t, d.Client.Do(t.Context(), "POST", "/administrators", ada, nil))
	commit := map[string]any{"message": "two from now on", "accept": []map[string]string{}}
	require.NoError(t, d.Client.Do(t.Context(), "POST", "/drafts/two/commit", commit, nil))
	moves := map[string]any{"name": "rory.researcher", "groups": []string{"wardens"}}
	require.ErrorContains(t, d.Client.Do(t.Context(), "PUT", "/users/rory.researcher", moves, nil), "request 1 waits")
	p.script(`document.querySelector('a[href="/access"]').click()`)
	p.until("document.querySelector('#requests')?.innerText ?? ''", `rory.researcher, groups ["wardens"]`)
	require.NotContains(t, p.script("document.querySelector('#requests').innerText"), "Approve", "nobody approves what they asked for")
	p.shot("requests")
	p.script(`[...document.querySelectorAll('#requests button')].at(-1).click()`)
	p.until("String(document.querySelector('#requests') === null)", "true")
}
