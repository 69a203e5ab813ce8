// Package mailserver is the stand-in for a mail server, for a test.
package mailserver

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/postbox"
)

// Start starts one on loopback, until the test ends; whole is TLS from the first octet, otherwise it is by STARTTLS.
func Start(t testing.TB, whole bool) *postbox.Box {
	b, err := postbox.Open(postbox.Options{Listen: "127.0.0.1:0", Whole: whole})
	require.NoError(t, err)
	t.Cleanup(b.Close)
	return b
}

// Settings are a plan's lines by which it sends mail by this server.
func Settings(b *postbox.Box) string {
	return "mail-server: " + b.URL() + "\nmail-from: gateway@tern.example\nmail-authority: |\n  " +
		strings.ReplaceAll(strings.TrimSpace(b.Authority), "\n", "\n  ") + "\n"
}
