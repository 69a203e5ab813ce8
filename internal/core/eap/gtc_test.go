package eap

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/reason"
)

// A code is asked for once a password is right whose outcome asks for one, and is judged by itself; another password where this one counts
// only to choose one with, a few times where that will not do.
func TestGTCAsksOnceMore(t *testing.T) {
	asks := true
	begin := func() Method {
		return ByGTC(GTC{
			Password: func(p string) login.Outcome {
				if p == "old" {
					return login.Outcome{Why: reason.Of(reason.PasswordToChange, nil)}
				}
				return login.Outcome{OK: p == "tide", User: "rory", Asks: asks}
			},
			Code: func(code string) login.Outcome { return login.Outcome{OK: code == "755224", User: "rory", Coded: true} },
			Next: func(p string) login.Outcome {
				if p == "short" {
					return login.Outcome{Why: reason.Of(reason.PasswordUnfit, reason.With{reason.Error: "it is short"})}
				}
				return login.Outcome{OK: true, User: "rory", Asks: asks}
			},
		})
	}
	for _, x := range []struct {
		said          []string
		ok, coded, as bool
	}{
		{[]string{"tide", "755224"}, true, true, true},
		{[]string{"tide", "tide"}, false, true, true},
		{[]string{"ebb"}, false, false, true},
		{[]string{"tide"}, true, false, false},
		{[]string{"old", "fresh"}, true, false, false},
		{[]string{"old", "short", "short", "fresh", "755224"}, true, true, true},
		{[]string{"old", "short", "short", "short", "short"}, false, false, true},
	} {
		asks = x.as
		m := begin()
		var turn Turn
		for i, said := range x.said {
			require.False(t, turn.Over)
			turn = m.Respond([]byte(said))
			if i+1 < len(x.said) {
				want := map[bool]string{true: AskCode, false: AskNext}[x.said[i+1] == "755224" || said == "tide"]
				require.True(t, strings.HasSuffix(string(turn.Send), want), "%q", turn.Send)
			}
		}
		require.True(t, turn.Over)
		require.Equal(t, []bool{x.ok, x.coded}, []bool{turn.OK, turn.Coded}, x.said)
	}
}
