package eap

import (
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/login"
)

// A code is asked for once a password is right whose outcome asks for one, and is judged by itself.
func TestGTCAsksOnceMore(t *testing.T) {
	asks := true
	begin := func() Method {
		return ByGTC(func(p string) login.Outcome { return login.Outcome{OK: p == "tide", User: "rory", Asks: asks} },
			func(code string) login.Outcome { return login.Outcome{OK: code == "755224", User: "rory", Coded: true} })
	}
	for _, x := range []struct {
		said          []string
		ok, coded, as bool
	}{
		{[]string{"tide", "755224"}, true, true, true},
		{[]string{"tide", "tide"}, false, true, true},
		{[]string{"ebb"}, false, false, true},
		{[]string{"tide"}, true, false, false},
	} {
		asks = x.as
		m := begin()
		var turn Turn
		for i, said := range x.said {
			require.False(t, turn.Over)
			turn = m.Respond([]byte(said))
			if i+1 < len(x.said) {
				require.Equal(t, "Code: ", string(turn.Send))
			}
		}
		require.True(t, turn.Over)
		require.Equal(t, []bool{x.ok, x.coded}, []bool{turn.OK, turn.Coded}, x.said)
	}
}
