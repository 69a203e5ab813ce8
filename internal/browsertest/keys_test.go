package browsertest

import (
	"crypto/rand"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/onetime"
)

// An administrator gives a person the key of a device, hands over the certificate that is issued for it, and takes it back; what is no
// public key is refused in words.
func TestKeysOfAPerson(t *testing.T) {
	d, p := start(t)
	p.signIn(d)
	p.script(`document.querySelector('nav a[href="/people"]').click()`)
	p.until("[...document.querySelectorAll('tr')].find((r) => r.innerText.includes('rory.researcher'))?.innerText ?? ''", "Change")
	p.script(`[...[...document.querySelectorAll('tr')].find((r) => r.innerText.includes('rory.researcher')).querySelectorAll('button')]
		.find((b) => b.innerText.match(/change/i)).click()`)
	p.until("document.querySelector('#keys')?.innerText ?? ''", "same fingerprint")
	key, err := cert.NewKey(rand.Reader)
	require.NoError(t, err)
	private, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	request, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{}, key)
	require.NoError(t, err)
	spki, err := x509.MarshalPKIXPublicKey(key.Public())
	require.NoError(t, err)
	give := func(kind string, der []byte) {
		text, err := json.Marshal(string(pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der})))
		require.NoError(t, err)
		p.script(fmt.Sprintf(`(() => { for (const [id, v] of [['#key-device', 'cray-23'], ['#key-public', %s]]) {
			const e = document.querySelector(id); e.value = v; e.dispatchEvent(new Event('input')) } return '' })()`, text))
		p.until("String(document.querySelector('#add-key').disabled)", "false")
		p.script("document.querySelector('#add-key').click()")
	}
	give("PRIVATE KEY", private)
	p.until("document.querySelector('#keys').innerText", "private key, which must not leave its device")
	give("CERTIFICATE REQUEST", request)
	p.until("document.querySelector('#keys').innerText", "A certificate is issued")
	p.until("document.querySelector('#keys').innerText", cert.Fingerprint(spki))
	p.until(`String([...document.querySelectorAll('#keys button')].some((b) => b.innerText.match(/take back/i)))`, "true")
	p.shot("keys")
	p.script(`[...document.querySelectorAll('#keys button')].find((b) => b.innerText.match(/take back/i)).click()`)
	p.until(bodyText, "ends at once")
	p.script(`[...document.querySelectorAll('.v-dialog button')].find((b) => b.innerText.match(/take back/i)).click()`)
	p.until("document.querySelector('#keys').innerText", "taken back on")

	// A key that both know is shown once, and what can be guessed is refused.
	shared := "document.querySelector('#shared-keys').innerText"
	fill := func(id, v string) {
		p.script(fmt.Sprintf(`(() => { const e = document.querySelector(%q); e.value = %q; e.dispatchEvent(new Event('input')); return '' })()`, id, v))
	}
	fill("#shared-value", "short")
	p.script("document.querySelector('#make-shared').click()")
	p.until(shared, "can be guessed")
	fill("#shared-value", "")
	fill("#shared-device", "phone")
	p.script("document.querySelector('#make-shared').click()")
	p.until(shared, "only time that it is shown")
	p.until(`String([...document.querySelectorAll('#shared-keys button')].some((b) => b.innerText.match(/take back/i)))`, "true")
	p.shot("shared-keys")
	p.script(`[...document.querySelectorAll('#shared-keys button')].find((b) => b.innerText.match(/take back/i)).click()`)
	p.until(bodyText, "in use ends at once")
	p.script(`[...document.querySelectorAll('.v-dialog--active button, .v-overlay--active button')].find((b) => b.innerText.match(/take back/i)).click()`)
	p.until(shared+".includes('phone') ? 'there' : 'gone'", "gone")

	// A link by which they get a second factor, and what is done when they lose the phone.
	factors := "document.querySelector('#factors').innerText"
	p.until(factors, "None. Where their passage asks for one")
	_, err = d.People.AddFactor(t.Context(), "rory.researcher", "", onetime.Of(onetime.ByTime, []byte("12345678901234567890")), nil, "")
	require.NoError(t, err)
	p.script("document.querySelector('#make-factor-link').click()")
	p.until(factors, "/second-factor/")
	p.script("document.querySelector('#lost-device').click()")
	p.until(bodyText, "they get a link for another")
	p.script(`[...document.querySelectorAll('.v-overlay--active button')].find((b) => b.innerText.match(/end and forget/i)).click()`)
	p.until(factors, "Second factors forgotten: 1")
	p.script("document.querySelector('#factors').scrollIntoView()")
	p.shot("factors")
}
