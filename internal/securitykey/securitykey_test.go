package securitykey

import (
	"strings"
	"testing"

	virtual "github.com/descope/virtualwebauthn"
	"github.com/stretchr/testify/require"
)

var page = Page{Name: "code.tern.example", Origin: "https://code.tern.example", Title: "Tern Island"}

func party(p Page) virtual.RelyingParty {
	return virtual.RelyingParty{ID: p.Name, Name: p.Title, Origin: p.Origin}
}

func added(t *testing.T, p Page, c virtual.Credential) Key {
	q, err := p.Add("rory", nil)
	require.NoError(t, err)
	o, err := virtual.ParseAttestationOptions(string(q.Options))
	require.NoError(t, err)
	k, err := p.Added("rory", q.State, []byte(virtual.CreateAttestationResponse(party(p), virtual.NewAuthenticator(), c, *o)))
	require.NoError(t, err)
	return k
}

// A key that was added is taken at the page that it was added at, for the question that it was asked, and nowhere else; whose counter goes
// back was copied. What is no answer is told as such.
func TestKeys(t *testing.T) {
	for _, kind := range []virtual.KeyType{virtual.KeyTypeEC2, virtual.KeyTypeRSA} {
		c := virtual.NewCredential(kind)
		k := added(t, page, c)
		other := added(t, Page{"gate.tern.example", "https://gate.tern.example", ""}, virtual.NewCredential(kind))
		keys := []Key{other, k}
		use := func(change func(*virtual.RelyingParty, *virtual.Credential, *virtual.AssertionOptions)) (int, Key, error) {
			q, err := page.Use("rory", keys)
			require.NoError(t, err)
			o, err := virtual.ParseAssertionOptions(string(q.Options))
			require.NoError(t, err)
			require.Len(t, o.AllowCredentials, 1, "those of another page are not asked for")
			rp, as := party(page), c
			change(&rp, &as, o)
			return page.Used("rory", keys, q.State, []byte(virtual.CreateAssertionResponse(rp, virtual.NewAuthenticator(), as, *o)))
		}
		which, now, err := use(func(_ *virtual.RelyingParty, c *virtual.Credential, _ *virtual.AssertionOptions) { c.Counter = 7 })
		require.NoError(t, err)
		require.Equal(t, 1, which)
		keys[1] = now
		for name, change := range map[string]func(*virtual.RelyingParty, *virtual.Credential, *virtual.AssertionOptions){
			"another origin": func(rp *virtual.RelyingParty, c *virtual.Credential, _ *virtual.AssertionOptions) {
				rp.Origin, c.Counter = "https://code.tern.example.evil.example", 9
			},
			"another page": func(rp *virtual.RelyingParty, c *virtual.Credential, _ *virtual.AssertionOptions) {
				rp.ID, c.Counter = "evil.example", 9
			},
			"another question": func(_ *virtual.RelyingParty, c *virtual.Credential, o *virtual.AssertionOptions) {
				o.Challenge, c.Counter = []byte("recorded before, and played again"), 9
			},
			"another key": func(_ *virtual.RelyingParty, c *virtual.Credential, _ *virtual.AssertionOptions) {
				c.Key, c.Counter = virtual.NewCredential(kind).Key, 9
			},
			"a copy": func(_ *virtual.RelyingParty, c *virtual.Credential, _ *virtual.AssertionOptions) { c.Counter = 7 },
		} {
			_, _, err := use(change)
			require.Error(t, err, name)
			require.Equal(t, name == "a copy", err == ErrCopied, "%s: %v", name, err)
		}
		_, _, err = use(func(_ *virtual.RelyingParty, c *virtual.Credential, _ *virtual.AssertionOptions) { c.Counter = 8 })
		require.NoError(t, err)
	}
	_, err := page.Use("rory", nil)
	require.ErrorIs(t, err, ErrNone)
	q, err := page.Add("rory", nil)
	require.NoError(t, err)
	for _, bad := range []string{"", "{}", "null", "[]", `{"id":"AA"}`, "{\"id\":\"\x00\"}", strings.Repeat("a", 1<<20)} {
		_, err := page.Added("rory", q.State, []byte(bad))
		require.Error(t, err, bad[:min(len(bad), 20)])
		_, _, err = page.Used("rory", nil, q.State, []byte(bad))
		require.Error(t, err, bad[:min(len(bad), 20)])
	}
}

// Whatever a browser sends, it is an answer that counts or an error.
func FuzzAnswer(f *testing.F) {
	c := virtual.NewCredential(virtual.KeyTypeEC2)
	q, err := page.Add("rory", nil)
	require.NoError(f, err)
	o, err := virtual.ParseAttestationOptions(string(q.Options))
	require.NoError(f, err)
	f.Add([]byte(virtual.CreateAttestationResponse(party(page), virtual.NewAuthenticator(), c, *o)))
	use, err := page.Use("rory", []Key{{Page: page.Name}})
	require.NoError(f, err)
	f.Add([]byte(`{"id":"","rawId":"","type":"public-key","response":{"clientDataJSON":"","authenticatorData":"","signature":""}}`))
	f.Fuzz(func(t *testing.T, answer []byte) {
		k, err := page.Added("rory", q.State, answer)
		require.True(t, err != nil || len(k.Credential.ID) > 0)
		_, _, err = page.Used("rory", nil, use.State, answer)
		require.Error(t, err)
	})
}
