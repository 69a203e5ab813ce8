package enrolled

import (
	"crypto/ed25519"
	"errors"
	"testing"
	"time"

	"github.com/golang-jwt/jwt/v5"
	"github.com/stretchr/testify/require"

	"yellowlantern/internal/probe"
)

// A call counts by the key of the probe that it names, for its own report, at its time, and not by any other kind of signature.
func TestVerify(t *testing.T) {
	now := time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)
	public, key, _ := ed25519.GenerateKey(nil)
	_, other, _ := ed25519.GenerateKey(nil)
	known := func(name string) (ed25519.PublicKey, error) {
		if name != "cove" {
			return nil, errors.New("unknown")
		}
		return public, nil
	}
	report, err := pack(probe.Report{Login: "ok"})
	require.NoError(t, err)
	good, err := sign(key, "cove", "job", report, now)
	require.NoError(t, err)
	c, err := Verify(good, report, now.Add(Apart), known)
	require.NoError(t, err)
	require.Equal(t, []string{"cove", "job"}, []string{c.Issuer, c.Job})
	r, err := Unpack(report)
	require.NoError(t, err)
	require.Equal(t, "ok", r.Login)

	claims := func(audience string) Claims {
		return Claims{RegisteredClaims: jwt.RegisteredClaims{
			Issuer: "cove", Audience: jwt.ClaimStrings{audience}, IssuedAt: jwt.NewNumericDate(now), ID: "1",
		}}
	}
	made := func(m jwt.SigningMethod, key any, audience string) string {
		s, err := jwt.NewWithClaims(m, claims(audience)).SignedString(key)
		require.NoError(t, err)
		return s
	}
	plain, err := sign(key, "cove", "", nil, now)
	require.NoError(t, err)
	forged, err := sign(other, "cove", "job", report, now)
	require.NoError(t, err)
	stranger, err := sign(key, "reef", "job", report, now)
	require.NoError(t, err)
	for name, x := range map[string]struct {
		token  string
		report []byte
		at     time.Time
	}{
		"another key":              {forged, report, now},
		"another name":             {stranger, report, now},
		"another report":           {good, append([]byte{}, report[1:]...), now},
		"no report":                {good, nil, now},
		"a report that none signs": {plain, report, now},
		"too old":                  {good, report, now.Add(Apart + time.Second)},
		"too early":                {good, report, now.Add(-Apart - time.Second)},
		"for somebody else":        {made(jwt.SigningMethodEdDSA, key, "another"), nil, now},
		"no signature":             {made(jwt.SigningMethodNone, jwt.UnsafeAllowNoneSignatureType, audience), nil, now},
		"the public key as secret": {made(jwt.SigningMethodHS256, []byte(public), audience), nil, now},
		"no token":                 {"", nil, now},
	} {
		_, err := Verify(x.token, x.report, x.at, known)
		require.Error(t, err, name)
	}
	_, err = Verify(made(jwt.SigningMethodEdDSA, key, audience), nil, now, known)
	require.NoError(t, err)

	_, err = Unpack([]byte("nothing"))
	require.ErrorContains(t, err, "no packed report")
	require.Error(t, Named("../x"))
	require.NoError(t, Named("branch-office"))
	for _, at := range []string{"http://kits.tern.example", "ftp://x", "", "https://"} {
		require.Error(t, mayCall(at), at)
	}
	require.NoError(t, mayCall("http://127.0.0.1:8600"))
	require.NoError(t, mayCall("https://kits.tern.example:8644"))
}
