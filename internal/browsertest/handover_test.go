package browsertest

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// An administrator makes a kit in the console, sees its steps and files, and learns who needs what next.
func TestHandoverPage(t *testing.T) {
	d, p := start(t)
	p.signIn(d)
	p.script(`document.querySelector('nav a[href="/people"]').click()`)
	p.until("document.querySelector('#to-handover')?.innerText ?? ''", "Handover")
	p.script("document.querySelector('#to-handover').click()")
	const row = "[...document.querySelectorAll('#handover tr')].find((r) => r.innerText.includes('rory.researcher'))"
	p.until(row+"?.innerText ?? ''", "they have no kit")
	p.script("[..." + row + ".querySelectorAll('.buttons button')].find((b) => b.innerText.match(/windows/i)).click()")
	p.until("document.querySelector('#kit')?.innerText ?? ''", "PowerShell")
	// A byte-order mark, then the script.
	require.Contains(t, p.script("document.querySelector('#kit a[download]').href"), "base64,77u/I1JlcXVpcmVz")
	p.until(row+".innerText", "windows of revision 1")
	p.until(row+".innerText", "never came")
	p.script("document.querySelector('#make-link').click()")
	p.until("document.querySelector('#link')?.innerText ?? ''", "/kit/")
	p.shot("handover")

	// Everybody's of a group at once, with new passwords.
	p.script("document.querySelector('#new-password').click()")
	p.script("document.querySelector('#kits-of').closest('.v-field').dispatchEvent(new MouseEvent('mousedown', { bubbles: true }))")
	p.until("[...document.querySelectorAll('.v-list-item')].map((e) => e.innerText).join(' ')", "researchers")
	p.script("[...document.querySelectorAll('.v-list-item')].find((e) => e.innerText.includes('researchers')).click()")
	p.until("document.querySelector('#group-kits')?.innerText ?? ''", "Everybody in researchers")
	p.script("[...document.querySelectorAll('#group-kits button')].find((b) => b.innerText.match(/apple/i)).click()")
	p.until(bodyText, "The present one counts no more")
	p.script(`[...document.querySelectorAll('.v-dialog button')].find((b) => b.innerText.match(/give a new password/i)).click()`)
	p.until("document.querySelector('#group-kits').innerText", "kits for 2 people")
	require.Contains(t, p.script("document.querySelector('#group-kits a[download]').href"), "base64,UEsDB", "a ZIP")
	p.until(row+".innerText", "apple of revision 1")
}
