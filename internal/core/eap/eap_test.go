package eap

import (
	"crypto/rand"
	"encoding/hex"
	"testing"

	"github.com/stretchr/testify/require"
)

func unhex(s string) []byte {
	b, err := hex.DecodeString(s)
	if err != nil {
		panic(err)
	}
	return b
}

// The vectors of RFC 2759 §9.2 and RFC 3079 §3.5.3 (same user, password and challenges).
func TestRFCVectors(t *testing.T) {
	auth := [16]byte(unhex("5B5D7C7D7B3F2F3E3C2C602132262628"))
	peer := [16]byte(unhex("21402324255E262A28295F2B3A337C7E"))
	hash := NTHash("clientPass")
	require.Equal(t, unhex("44EBBA8D5312B8D611474411F56989AE"), hash[:])
	require.Equal(t, unhex("D02E4386BCE91226"), challengeHash(peer, auth, "User"))
	require.Equal(t, unhex("D02E4386BCE91226"), challengeHash(peer, auth, `TERN\User`))
	nt := ntResponse(auth, peer, "User", hash)
	require.Equal(t, unhex("82309ECD8D708B5EA08FAA3981CD83544233114A3D85D6DF"), nt[:])
	require.Equal(t, "S=407A5589115FD0D6209F510FE9C04566932CDA56", authenticatorResponse(hash, nt, auth, peer, "User"))
	// RFC 3079 §3.5.3 prints the server's send key, which stands second in the MSK.
	msk := sessionKey(hash, nt)
	require.Equal(t, unhex("8B7CDC149B993A1BA118CB153F56DCCB"), msk[16:32])
	require.Len(t, msk, 64)
}

// talk runs a login between both sides; change may alter what travels.
func talk(t *testing.T, user, password, kept string, change func([]byte)) (Step, *Peer, error) {
	t.Helper()
	server, peer := NewServer(rand.Reader, "jetty"), NewPeer(rand.Reader, user, password)
	step := Step{Send: server.Begin()}
	for range 10 {
		if step.Check != nil {
			step = server.Judged(step.Check.Judge(NTHash(kept)))
			continue
		}
		change(step.Send)
		answer, done, err := peer.Handle(step.Send)
		if err != nil || done {
			return step, peer, err
		}
		step = server.Respond(answer)
	}
	t.Fatal("the login does not end")
	return step, nil, nil
}

func TestLogin(t *testing.T) {
	unchanged := func([]byte) {}
	step, peer, err := talk(t, "rory.researcher", "tide 4 tern", "tide 4 tern", unchanged)
	require.NoError(t, err)
	require.True(t, step.OK)
	require.Equal(t, "rory.researcher", step.User)
	require.Equal(t, step.MSK, peer.MSK())

	step, _, err = talk(t, `TERN\rory.researcher`, "tide 4 tern", "tide 4 tern", unchanged)
	require.NoError(t, err)
	require.Equal(t, "rory.researcher", step.User, "a domain before the name is no part of it")

	step, _, err = talk(t, "rory.researcher", "wrong", "tide 4 tern", unchanged)
	require.ErrorIs(t, err, ErrRefused)
	require.ErrorContains(t, err, "user or password is wrong")
	require.True(t, step.Done && !step.OK)
	require.Equal(t, "wrong password", step.Refusal.Words())

	// A gateway that does not know the password cannot claim success.
	_, _, err = talk(t, "rory.researcher", "tide 4 tern", "tide 4 tern", func(b []byte) {
		if len(b) > 20 && b[5] == opSuccess {
			b[12] ^= 1
		}
	})
	require.ErrorIs(t, err, ErrUnproven)
	_, done, err := NewPeer(rand.Reader, "a", "b").Handle([]byte{3, 1, 0, 4})
	require.ErrorIs(t, err, ErrUnproven)
	require.False(t, done)
}

func FuzzBothSides(f *testing.F) {
	f.Add([]byte{2, 1, 0, 6, 1, 'a'}, []byte{2, 2, 0, 5, 3})
	f.Add([]byte{1, 1, 0, 5, 1}, []byte{1, 2, 0, 9, 26, 1, 2, 0, 4})
	f.Fuzz(func(t *testing.T, a, b []byte) {
		s, p := NewServer(rand.Reader, "jetty"), NewPeer(rand.Reader, "a", "b")
		s.Begin()
		for _, in := range [][]byte{a, b} {
			if step := s.Respond(in); step.Check != nil {
				require.False(t, s.Judged(step.Check.Judge(NTHash("x"))).OK)
			}
			_, done, _ := p.Handle(in)
			require.False(t, done, "no login without proof")
		}
	})
}
