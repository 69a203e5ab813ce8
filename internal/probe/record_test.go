package probe

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/forward"
	"yellowlantern/internal/core/netset"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/reason"
)

// Of what a probe elsewhere says, that counts which the gateway's record agrees with, and nothing else: whatever it makes up, what must be
// reached is seen as reached only where an answer was carried, and what must not only as kept out where it was refused.
func TestRecorded(t *testing.T) {
	now := time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)
	dst := netip.MustParseAddr("10.20.0.20")
	web := netset.PortPoint(netset.TCP, 80)
	carried := &forward.Decision{Dst: dst, Service: web, Answered: true}
	silent, refused := &forward.Decision{Dst: dst, Service: web}, &forward.Decision{Dst: dst, Service: web, Lost: "rules"}
	served, none := saw(reason.Connected, nil).served(), saw(reason.NoAnswer, nil)
	router := saw(reason.RouterSaid, nil)
	router.Refused = true
	const held, missed, open = "as expected", "not as expected", "not judged"
	for name, c := range map[string]struct {
		want bool
		says Seen
		of   *forward.Decision
		is   string
	}{
		"it answers, and an answer was carried":            {true, served, carried, held},
		"it answers, and nothing came back":                {true, served, silent, open},
		"it answers, and it was refused":                   {true, served, refused, open},
		"it answers, and no packet came":                   {true, served, nil, open},
		"no answer, and none was carried":                  {true, none, silent, missed},
		"no answer, and it was refused":                    {true, none, refused, missed},
		"no answer, and no packet came":                    {true, none, nil, open},
		"refused, it says, and it was let through":         {true, router, silent, open},
		"kept out, and it was refused":                     {false, none, refused, held},
		"kept out, a router says, and it was refused":      {false, router, refused, held},
		"kept out, it says, and it was let through":        {false, none, silent, open},
		"kept out, it says, and no packet came":            {false, router, nil, open},
		"kept out, it says, and an answer was carried":     {false, none, carried, missed},
		"it reaches what it must not":                      {false, served, carried, missed},
		"it reaches what it must not, and it was refused":  {false, served, refused, open},
		"it reaches what it must not, and nothing came by": {false, served, nil, open},
	} {
		trial := reach.Trial{Expectation: "e", Place: "office", Dst: dst, Service: "tcp/80", Want: c.want, Computed: c.want}
		o := Order{Admitted: true, Trials: []reach.Trial{trial}}
		said := Report{Connected: true, Given: &Given{}, Results: []Result{{Trial: trial, Seen: c.says, OK: true}}}
		said.Slim()
		record := forward.Evidence{Began: true}
		if c.of != nil {
			record.Decisions = append(record.Decisions, *c.of)
		}
		r := said.Recorded(o, record, now)
		x := r.Results[0]
		require.Equal(t, c.is == open, x.Untried, name)
		require.Equal(t, c.is == held, x.OK, "%s: %+v", name, x)
		require.Equal(t, map[bool]int{true: 1}[c.is == open], r.Unconfirmed(), name)
		require.Equal(t, map[bool]int{true: 1}[c.is == missed], r.Missed, name)
		if c.is == open {
			require.False(t, r.OK, "%s: what is not judged is no success", name)
		}
		require.False(t, r.Handed)
	}
	// Logins count likewise.
	kept := Order{Trials: []reach.Trial{{Expectation: "e", Dst: dst, Service: "tcp/80"}}}
	in := Order{Admitted: true, Trials: kept.Trials}
	no := forward.Evidence{Refused: reason.Of(reason.NoPassage, reason.With{reason.Groups: "guests"})}
	for name, c := range map[string]struct {
		order     Order
		connected bool
		of        forward.Evidence
		ok        bool
		says      string
	}{
		"kept out, and refused":                  {kept, false, no, true, no.Refused.Words()},
		"kept out, it says":                      {kept, false, forward.Evidence{}, false, "not judged: the probe could not log in, and the gateway has no record of it"},
		"kept out, it says, and had a session":   {kept, false, forward.Evidence{Began: true}, false, "not judged: the gateway had a session"},
		"refused":                                {in, false, no, false, no.Refused.Words()},
		"not in, it says":                        {in, false, forward.Evidence{}, false, "not judged"},
		"in, it says, and the gateway knows not": {in, true, no, false, "not judged: the probe says that it logged in"},
	} {
		said := Report{Connected: c.connected, Login: "ok", Results: []Result{{Trial: kept.Trials[0], Seen: none, OK: true}}}
		r := said.Recorded(c.order, c.of, now)
		require.Equal(t, c.ok, r.OK, name)
		require.Contains(t, r.Login, c.says, name)
		require.False(t, r.Connected, name)
	}
}
