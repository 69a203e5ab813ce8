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
}
