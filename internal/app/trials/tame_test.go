package trials

import (
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/legible"
	"yellowlantern/internal/probe"
)

// A report that is handed in may hold what pages and devices wrote: it is kept, escaped and bounded, and what was measured stays.
func TestTame(t *testing.T) {
	at := time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)
	r := probe.Report{User: "rory", At: at, Login: "ok\x1b[2J", Results: make([]probe.Result, 1)}
	r.Results[0].Seen.Words = "a\ttab, \u202eturned\nand " + strings.Repeat("long ", 400)
	tame(reflect.ValueOf(&r))
	require.Equal(t, at, r.At)
	require.Equal(t, `ok\u001b[2J`, r.Login)
	require.Contains(t, r.Results[0].Seen.Words, "a\ttab, \\u202eturned and long")
	require.Equal(t, -1, legible.Find(r.Results[0].Seen.Words, "\t"))
	require.Less(t, len(r.Results[0].Seen.Words), 2*mostSeen)
}
