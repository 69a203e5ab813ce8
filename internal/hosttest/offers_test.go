package hosttest

import (
	"fmt"
	"os"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/demo"
	"yellowlantern/internal/hosts"
	"yellowlantern/internal/lab"
)

// Once a site is built, everything that its hosts offer answers: who tries it at once sees no port that is closed only for a moment.
func TestOffersAreOpen(t *testing.T) {
	s, err := demo.Load("")
	require.NoError(t, err)
	d, err := lab.Read([]byte(s.Site))
	require.NoError(t, err)
	site, err := hosts.Build(t.Context(), d, fmt.Sprintf("of.%d", os.Getpid()), t.TempDir())
	require.NoError(t, err)
	t.Cleanup(site.Close)
	tried := 0
	for _, h := range slices.Backward(d.Hosts) { // those that were begun last first
		for _, port := range slices.Backward(h.Web) {
			_, err := site.Run(t.Context(), h.Name, "bash", "-c", fmt.Sprintf("exec 3<>/dev/tcp/127.0.0.1/%d", port))
			require.NoError(t, err, "%s:%d", h.Name, port)
			tried++
		}
	}
	require.NotZero(t, tried)
}
