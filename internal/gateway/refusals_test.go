package gateway

import (
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/tunnel"
)

// A day of refusals, as many as can be made up by strangers from anywhere under any name, and people's own among them: what is written
// stays small, a person's refusal is never hidden, and what was not written was counted.
func TestADayOfRefusals(t *testing.T) {
	octets, lines, told := 0, 0, 0
	persons := 0
	g := &Gateway{refusals: newRefusals(), outbox: outbox{queue: make(chan item, outboxSize)}, cfg: Config{Journal: func(e Event) {
		b, err := json.Marshal(e)
		require.NoError(t, err)
		octets += len(b)
		lines++
		var n int
		if _, err := fmt.Sscanf(e.Words, "%d more", &n); err == nil {
			told += n
		} else {
			told++
		}
		if e.User == "rory.researcher" && strings.HasPrefix(e.Words, "authenticated") {
			persons++
		}
	}}}
	now := time.Date(2026, 6, 1, 0, 0, 0, 0, time.UTC)
	came, people := 0, 0
	for minute := range 24 * 60 {
		for i := range 300 {
			from := netip.AddrPortFrom(netip.AddrFrom4([4]byte{198, 51, byte(i * minute >> 8), byte(i)}), uint16(i))
			g.refused(now.Add(time.Duration(i)*time.Millisecond), tunnel.Refusal{
				From: from, Reason: reason.Of(reason.NoCommonAlgorithm, reason.With{
					reason.Notify: "NO_PROPOSAL_CHOSEN", reason.Claimed: strings.Repeat("x", i),
				}),
			})
			came++
		}
		if minute%60 == 30 {
			peer := netip.MustParseAddrPort("203.0.113.45:4500")
			g.refused(now, tunnel.Refusal{
				From: peer, User: "rory.researcher", Known: true,
				Reason: reason.Of(reason.NoPassage, reason.With{reason.Groups: fmt.Sprint(minute)}),
			})
			came++
			people++
		}
		now = now.Add(time.Minute + time.Second)
		g.tellRefusals(now)
		over, end := context.WithCancel(t.Context())
		end()
		g.write(over) // what waits
	}
	require.Equal(t, came, told, "nothing is lost")
	require.Equal(t, people, persons)
	require.Less(t, octets, 50<<20, "%d lines", lines)
}
