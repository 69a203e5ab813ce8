package ike

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	conversation "yellowlantern/internal/core/login"
	"yellowlantern/internal/core/reason"
)

var sharedByRory = bytes.Repeat([]byte{0x71}, 32)

// sharing is a desk where one person has a shared key for each purpose.
func sharing(ask AskShared) conversation.Shared {
	who := conversation.Outcome{OK: true, User: user, Known: true, Groups: []string{"researchers"}, Stamp: "s"}
	other := who
	other.User = "wanda.warden"
	switch ask {
	case AskShared{ID: ask.ID, From: ask.From, MixedIn: true, Identity: "mixed-1"}:
		return conversation.Shared{Outcome: who, Secret: sharedByRory}
	case AskShared{ID: ask.ID, From: ask.From, MixedIn: true, Identity: "mixed-2"}:
		return conversation.Shared{Outcome: other, Secret: sharedByRory}
	case AskShared{ID: ask.ID, From: ask.From, Identity: user}:
		return conversation.Shared{Outcome: who, Secret: sharedByRory[1:]}
	case AskShared{ID: ask.ID, From: ask.From, MixedIn: true, Identity: "later"}:
		return conversation.Shared{Outcome: conversation.Outcome{Why: reason.Of(reason.LoginsLater, nil)}}
	}
	return conversation.Shared{Outcome: conversation.Outcome{Why: reason.Of(reason.MixedKeyUnknown, nil)}}
}

// By every way of logging in a shared key is mixed in where both sides have it, is left out where the gateway does not know it and neither
// side demands one, and whoever demands one gets no session without it (RFC 8784 §3).
func TestMixedIn(t *testing.T) {
	key := keysOfPeople()["P-256"]
	named := func(identity string, secret []byte, demand bool) *MixedIn { return &MixedIn{identity, secret, demand} }
	other := bytes.Repeat([]byte{9}, 32)
	for what, x := range map[string]struct {
		mixing Mixing
		device *MixedIn
		mixed  bool
		why    reason.Code
		fails  string
	}{
		"both have it":                {MixesOffered, named("mixed-1", sharedByRory, false), true, "", ""},
		"both demand it":              {MixesAlways, named("mixed-1", sharedByRory, true), true, "", ""},
		"the gateway knows none":      {MixesOffered, named("mixed-9", other, false), false, "", ""},
		"the gateway mixes none":      {MixesNothing, named("mixed-1", sharedByRory, false), false, "", ""},
		"the device names none":       {MixesOffered, nil, false, "", ""},
		"a device demands, unknown":   {MixesOffered, named("mixed-9", other, true), false, reason.MixedKeyUnknown, "AUTHENTICATION_FAILED"},
		"a device demands, none":      {MixesNothing, named("mixed-1", sharedByRory, true), false, "", "mixes no shared key in"},
		"the gateway demands, none":   {MixesAlways, nil, false, reason.MixedKeyMissing, "AUTHENTICATION_FAILED"},
		"the gateway demands, other":  {MixesAlways, named("mixed-9", other, false), false, reason.MixedKeyUnknown, "AUTHENTICATION_FAILED"},
		"another secret by that name": {MixesOffered, named("mixed-1", other, false), false, "any", "AUTHENTICATION_FAILED"},
		"another person's":            {MixesOffered, named("mixed-2", sharedByRory, false), false, reason.MixedKeyOther, "AUTHENTICATION_FAILED"},
		"nobody decides":              {MixesOffered, named("later", sharedByRory, false), false, reason.LoginsLater, ""},
	} {
		for _, proof := range []Proof{ByPassword, ByPublicKey, BySharedKey} {
			w := newWorld(t, func(s *Settings, c *Caller) {
				s.Proof, s.Mixing, c.MixedIn, s.Secrets = proof, x.mixing, x.device, secrets
				s.Algorithms = onlyP
				switch proof {
				case ByPublicKey:
					c.Key, s.Algorithms = key, policy("AES-256-GCM-16", "PRF-HMAC-SHA2-256", "P-256", "ML-KEM-768")
				case BySharedKey:
					c.SharedKey = sharedByRory[1:]
				}
				c.Algorithms = s.Algorithms
			})
			w.shares = sharing
			w.owner = conversation.Outcome{OK: true, User: user, Known: true}
			w.grant.Remember, w.grant.Until = []byte("r"), w.now.Add(time.Hour)
			w.login()
			up, came := find[Up](w)
			require.Equal(t, x.fails == "" && x.why == "", came, "%s, %d: %v", what, proof, w.failure())
			if x.fails != "" {
				require.ErrorContains(t, w.failure(), x.fails, what)
			}
			note, _ := find[Note](w)
			if x.why != "any" && x.why != "" {
				require.Equal(t, x.why, note.Reason.Code, "%s, %d", what, proof)
			}
			if !came {
				require.Zero(t, w.l.Sessions(), what)
				continue
			}
			est, ok := find[Established](w)
			require.True(t, ok, "%s: %v", what, w.failure())
			require.Equal(t, x.mixed, w.i.mixedIn, what)
			require.Equal(t, est.Child.InKey, up.Child.OutKey)
			require.Equal(t, x.mixed, w.asked[0].SafeTraffic && w.i.mixedIn)
			w.now = w.now.Add(time.Hour)
			if proof != ByPublicKey {
				w.renewIKE(t)
			}

			w.again(t, est.Ticket, nil)
			w.grant.Until = w.now.Add(time.Hour)
			w.back = func([]byte) conversation.Outcome { return conversation.Outcome{OK: true, User: user, Known: true} }
			w.now = w.now.Add(-time.Minute)
			w.login()
			est, ok = find[Established](w)
			require.True(t, ok && est.Back, "%s, %d: %v", what, proof, w.failure())
		}
	}
}

// What is mixed in changes the keys that others are made of, and none that protects messages: derived once more from RFC 8784 §3 and
// RFC 7296 §2.13 alone. Traffic counts as safe by it, also after a return by a ticket, the login does not.
func TestMixedInKeys(t *testing.T) {
	k := firstKeys(suiteP, []byte("shared"), bytes.Repeat([]byte{1}, 32), bytes.Repeat([]byte{2}, 32), 3, 4)
	got := k.mixedIn(sharedByRory)
	for plain, mixed := range map[*[]byte]*[]byte{&k.d: &got.d, &k.pi: &got.pi, &k.pr: &got.pr} {
		mac := hmac.New(sha256.New, sharedByRory)
		mac.Write(append(append([]byte{}, *plain...), 1))
		require.Equal(t, mac.Sum(nil), *mixed)
	}
	require.Equal(t, []any{k.ai, k.ar, k.ei, k.er}, []any{got.ai, got.ar, got.ei, got.er})

	w := newWorld(t, func(s *Settings, c *Caller) {
		s.Mixing, s.Secrets, c.MixedIn = MixesAlways, secrets, &MixedIn{"mixed-1", sharedByRory, true}
	})
	w.shares = sharing
	w.grant.Remember, w.grant.Until = []byte("r"), w.now.Add(time.Hour)
	w.login()
	est, ok := find[Established](w)
	require.True(t, ok, "%v", w.failure())
	require.Equal(t, []bool{false, true}, []bool{w.asked[0].SafeLogin, w.asked[0].SafeTraffic})
	w.again(t, est.Ticket, nil)
	w.back = func([]byte) conversation.Outcome { return conversation.Outcome{OK: true, User: user, Known: true} }
	w.login()
	est, _ = find[Established](w)
	require.True(t, est.Back)
	require.Equal(t, []bool{false, true}, []bool{w.asked[0].SafeLogin, w.asked[0].SafeTraffic})
}

// Both sides prove themselves by a key that they share; who has another one, is nobody, or dials somebody who has not that key, is refused,
// and no certificate is shown.
func TestLoginBySharedKey(t *testing.T) {
	try := func(change func(*Settings, *Caller)) *world {
		w := newWorld(t, func(s *Settings, c *Caller) {
			s.Proof, c.SharedKey, c.Password, c.Roots, c.Device = BySharedKey, sharedByRory[1:], "", nil, "cray-23"
			change(s, c)
		})
		w.shares = sharing
		w.login()
		return w
	}
	w := try(func(*Settings, *Caller) {})
	up, ok := find[Up](w)
	require.True(t, ok, "%v", w.failure())
	require.Equal(t, []any{user, user, "s"}, []any{up.User, up.Identity, w.asked[0].Stamp})
	require.Len(t, w.wire, 4)
	require.False(t, w.asked[0].Alone, "another device of the same person is left alone")
	w.run(w.i.Alive(w.now), true)
	require.False(t, w.i.Waiting())

	for what, x := range map[string]struct {
		change func(*Settings, *Caller)
		why    reason.Code
		fails  string
	}{
		"another key":             {func(_ *Settings, c *Caller) { c.SharedKey = sharedByRory }, reason.WrongSharedKey, "AUTHENTICATION_FAILED"},
		"nobody":                  {func(_ *Settings, c *Caller) { c.User = "nobody" }, reason.MixedKeyUnknown, "AUTHENTICATION_FAILED"},
		"a password is wanted":    {func(s *Settings, _ *Caller) { s.Proof = ByPassword }, reason.WrongLoginMethod, "AUTHENTICATION_FAILED"},
		"a public key is shown":   {func(_ *Settings, c *Caller) { c.Key = keysOfPeople()["P-256"] }, reason.WrongLoginMethod, "AUTHENTICATION_FAILED"},
		"a public key is wanted":  {func(s *Settings, _ *Caller) { s.Proof = ByPublicKey }, reason.KeyUnreadable, "AUTHENTICATION_FAILED"},
		"password of another way": {func(_ *Settings, c *Caller) { c.SharedKey, c.Password = nil, password }, reason.WrongLoginMethod, "AUTHENTICATION_FAILED"},
	} {
		w := try(x.change)
		require.ErrorContains(t, w.failure(), x.fails, what)
		note, _ := find[Note](w)
		require.Equal(t, x.why, note.Reason.Code, what)
		require.Zero(t, w.l.Sessions()+w.l.HalfOpen(), what)
	}

	// A gateway that has not the key is nobody to the device, though it lets it in.
	w = newWorld(t, func(s *Settings, c *Caller) { s.Proof, c.SharedKey = BySharedKey, sharedByRory[1:] })
	w.shares = sharing
	w.l.set.Name = dial
	lying := w.l
	w.order = func(outs []Output) []Output {
		for _, r := range lying.byID {
			if r.shared != nil {
				r.shared = sharedByRory
			}
		}
		return outs
	}
	w.login()
	require.ErrorIs(t, w.failure(), errByShared)
}
