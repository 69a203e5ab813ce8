package e2e

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	virtual "github.com/descope/virtualwebauthn"
	"github.com/stretchr/testify/require"
)

// touched is the code page as a browser with a security key uses it: it gives what the page says is wrong, or nothing.
func touched(t *testing.T, b *http.Client, c virtual.Credential, origin, code string) string {
	adds := code != ""
	said := func(more map[string]any) (out struct{ Options, Wrong string }) {
		more["adds"], more["name"], more["code"] = adds, "blue key", code
		body, err := json.Marshal(more)
		require.NoError(t, err)
		r, err := http.NewRequestWithContext(t.Context(), "POST", "https://code.tern.example/key", strings.NewReader(string(body)))
		require.NoError(t, err)
		r.Header.Set("Content-Type", "application/json")
		text, _ := fetched(t, b, r)
		require.NoError(t, json.Unmarshal([]byte(text), &out), text)
		return out
	}
	asked := said(map[string]any{})
	if asked.Wrong != "" {
		return asked.Wrong
	}
	rp, answer := virtual.RelyingParty{ID: "code.tern.example", Origin: origin}, ""
	if adds {
		o, err := virtual.ParseAttestationOptions(asked.Options)
		require.NoError(t, err)
		answer = virtual.CreateAttestationResponse(rp, virtual.NewAuthenticator(), c, *o)
	} else {
		o, err := virtual.ParseAssertionOptions(asked.Options)
		require.NoError(t, err)
		answer = virtual.CreateAssertionResponse(rp, virtual.NewAuthenticator(), c, *o)
	}
	return said(map[string]any{"answer": answer}).Wrong
}

// A security key is added on the code page with a code, and ends that a session is held from then on; asked at another page it gives
// nothing. Nobody adds one without a code.
func TestSecurityKey(t *testing.T) {
	t.Parallel()
	const here = "https://code.tern.example"
	d, x := asking(t, "")
	_, recovery := enrol(t, d, x, "rory.researcher")
	tn, err := with(t, d, "rory.researcher", nil)
	require.NoError(t, err)
	b := browser(t, d, tn)
	c := virtual.NewCredential(virtual.KeyTypeEC2)
	require.Contains(t, touched(t, b, c, here, ""), "No security key of yours is known here")
	require.Contains(t, touched(t, b, c, here, "000000"), "not right")
	x.did("slowed", "lift")
	require.Empty(t, touched(t, b, c, here, recovery[0]))
	require.NoError(t, ping(t, tn, "10.20.30.5"))
	journaled(t, d, "trust", "has a second factor now, by a security key (blue key)")
	require.Contains(t, squeezed(x.did("users", "second-factor", "list", "rory.researcher")), "security-key")
	tn.Close()

	tn, err = with(t, d, "rory.researcher", nil)
	require.NoError(t, err)
	b = browser(t, d, tn)
	require.Error(t, ping(t, tn, "10.20.30.5"))
	c.Counter = 1
	require.Contains(t, touched(t, b, c, "https://code.tern.example.evil.example", ""), "does not count")
	journaled(t, d, "refused", "what the security key answered does not count")
	x.did("slowed", "lift")
	stranger := virtual.NewCredential(virtual.KeyTypeEC2)
	require.Contains(t, touched(t, b, stranger, here, ""), "does not count")
	x.did("slowed", "lift")
	require.Error(t, ping(t, tn, "10.20.30.5"))
	require.Empty(t, touched(t, b, c, here, ""))
	require.NoError(t, ping(t, tn, "10.20.30.5"))
	journaled(t, d, "login", "gave the second factor that passage research asks for")
	tn.Close()

	// Who gave a code and then adds none after all goes on without it.
	tn, err = with(t, d, "rory.researcher", nil)
	require.NoError(t, err)
	b = browser(t, d, tn)
	other := virtual.NewCredential(virtual.KeyTypeEC2)
	require.Contains(t, touched(t, b, other, "https://evil.example", recovery[1]), "does not count")
	require.Error(t, ping(t, tn, "10.20.30.5"))
	page, _ := fetched(t, b, must(http.NewRequestWithContext(t.Context(), "GET", here+"/", nil)))
	require.Contains(t, page, "You are connected")
	require.NoError(t, ping(t, tn, "10.20.30.5"))

	x.did("users", "lost-device", "rory.researcher")
	tn, err = with(t, d, "rory.researcher", nil)
	require.NoError(t, err)
	c.Counter = 2
	require.Contains(t, touched(t, browser(t, d, tn), c, here, ""), "No security key of yours is known here")
}
