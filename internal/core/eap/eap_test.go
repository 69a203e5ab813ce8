package eap

import (
	"crypto/rand"
	"encoding/hex"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/login"
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
func talk(t *testing.T, user, password, kept string, change func([]byte)) (login.Step, *Peer, error) {
	t.Helper()
	server := Converse(ByMSCHAPv2(rand.Reader, "jetty", func(c Check) Verdict { return c.Judge(NTHash(kept)) }))
	peer := NewPeer(rand.Reader, user, password)
	step := server.Next(nil)
	for range 10 {
		change(step.Send)
		answer, done, err := peer.Handle(step.Send)
		if err != nil || done {
			return step, peer, err
		}
		step = server.Next(answer)
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
	require.Equal(t, step.Key, peer.MSK())

	step, _, err = talk(t, `TERN\rory.researcher`, "tide 4 tern", "tide 4 tern", unchanged)
	require.NoError(t, err)
	require.Equal(t, "rory.researcher", step.User, "a domain before the name is no part of it")

	step, _, err = talk(t, "rory.researcher", "wrong", "tide 4 tern", unchanged)
	require.ErrorIs(t, err, ErrRefused)
	require.ErrorContains(t, err, "user or password is wrong")
	require.True(t, step.Over && !step.OK)
	require.Equal(t, "wrong password", step.Why.Words())

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

// Somebody whose password was made for them chooses another in the login itself, and nobody who does not know the first one can.
func TestChange(t *testing.T) {
	kept, first := NTHash("made-for-you-once"), true
	judge := func(c Check) Verdict {
		if c.Change == nil {
			v := c.Judge(kept)
			if v.OK && first {
				return Verdict{Known: true, MustChange: true}
			}
			return v
		}
		next, err := c.Change.Open(kept)
		if err != nil || len(next) < 12 {
			return Verdict{Known: true, Unfit: true}
		}
		kept, first = NTHash(next), false
		return c.Judge(kept)
	}
	run := func(password, next string, alter func([]byte)) (step login.Step, err error) {
		server, peer := Converse(ByMSCHAPv2(rand.Reader, "jetty", judge)), NewPeer(rand.Reader, "rory", password)
		peer.Next = next
		step = server.Next(nil)
		for range 12 {
			answer, done, err := peer.Handle(step.Send)
			if err != nil || done {
				if done {
					require.Equal(t, step.Key, peer.MSK())
				}
				return step, err
			}
			if len(answer) > 500 && alter != nil {
				alter(answer)
			}
			step = server.Next(answer)
		}
		return step, nil
	}
	_, err := run("made-for-you-once", "", nil)
	require.ErrorIs(t, err, ErrMustChange)
	_, err = run("made-for-you-once", "too short", nil)
	require.ErrorContains(t, err, "the new password will not do")
	for _, at := range []int{500, 522, 530, 545, 575} {
		step, err := run("made-for-you-once", "gannet lantern ferry", func(b []byte) { b[at] ^= 1 })
		require.False(t, err == nil && step.OK, at)
		kept, first = NTHash("made-for-you-once"), true
	}
	step, err := run("made-for-you-once", "gännet lantern ferry", nil)
	require.NoError(t, err)
	require.True(t, step.OK)
	_, err = run("made-for-you-once", "another one of them", nil)
	require.ErrorContains(t, err, "user or password is wrong")
	step, err = run("gännet lantern ferry", "", nil)
	require.NoError(t, err)
	require.True(t, step.OK)
}

func FuzzBothSides(f *testing.F) {
	f.Add([]byte{2, 1, 0, 6, 1, 'a'}, []byte{2, 2, 0, 5, 3})
	f.Add([]byte{1, 1, 0, 5, 1}, []byte{1, 2, 0, 9, 26, 1, 2, 0, 4})
	f.Fuzz(func(t *testing.T, a, b []byte) {
		s := Converse(ByMSCHAPv2(rand.Reader, "jetty", func(c Check) Verdict { return c.Judge(NTHash("x")) }))
		p := NewPeer(rand.Reader, "a", "b")
		s.Next(nil)
		for _, in := range [][]byte{a, b} {
			require.False(t, s.Next(in).OK)
			_, done, _ := p.Handle(in)
			require.False(t, done, "no login without proof")
		}
	})
}
