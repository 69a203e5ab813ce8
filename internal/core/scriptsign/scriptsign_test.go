package scriptsign

import (
	"bytes"
	"crypto/rand"
	"encoding/pem"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/cert"
)

// A program that knows the format says of what was signed that it was, and by whom; and that a script that somebody changed was not.
func TestSign(t *testing.T) {
	version, _ := exec.CommandContext(t.Context(), "osslsigncode", "--version").Output()
	if bytes.Compare(version, []byte("osslsigncode 2.8")) < 0 {
		t.Skipf("it knows scripts since 2.8: %s", version)
	}
	ca, err := cert.NewAuthority(rand.Reader, time.Now(), "Tern Island")
	require.NoError(t, err)
	pair, err := ca.NewSigner(rand.Reader, time.Now(), "kits")
	require.NoError(t, err)
	folder := t.TempDir()
	roots := filepath.Join(folder, "roots.pem")
	require.NoError(t, os.WriteFile(roots, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: ca.Leaf.Raw}), 0o600))
	for _, script := range []string{"Write-Host 'x'\r\n", "\ufeffWrite-Host 'Küste \U0001f3ee'\r\nreturn\r\n"} {
		signed, err := Sign(rand.Reader, []byte(script), pair.Key, pair.Leaf, ca.Leaf)
		require.NoError(t, err)
		verify := func(b []byte) (string, error) {
			path := filepath.Join(folder, "script.ps1")
			require.NoError(t, os.WriteFile(path, b, 0o600))
			out, err := exec.CommandContext(t.Context(), "osslsigncode", "verify", "-CAfile", roots, "-in", path).CombinedOutput()
			return string(out), err
		}
		out, err := verify(signed)
		require.NoError(t, err, out)
		require.Contains(t, out, "CN=kits")
		out, err = verify(append([]byte{}, append([]byte("calc\r\n"), signed...)...))
		require.Error(t, err, out)
	}
}
