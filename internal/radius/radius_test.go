package radius_test

import (
	"testing"

	"github.com/stretchr/testify/require"
	wire "layeh.com/radius"
	"layeh.com/radius/rfc2865"
	"layeh.com/radius/rfc2866"

	"yellowlantern/internal/radius"
)

var secret = []byte("mosaic-ferry-lantern-plover")

// Whatever comes from a network ends in a packet that somebody made who has the secret, or in an error.
func FuzzDecode(f *testing.F) {
	request := wire.New(wire.CodeDisconnectRequest, secret)
	require.NoError(f, rfc2866.AcctSessionID_SetString(request, "85f69b7aecb10c4c"))
	require.NoError(f, rfc2865.ProxyState_Set(request, []byte{1}))
	asked, err := request.Encode()
	require.NoError(f, err)
	answer, err := radius.Answer(request, wire.CodeDisconnectACK, nil)
	require.NoError(f, err)
	f.Add(asked, false)
	f.Add(answer, true)
	f.Add(append([]byte{2, 1, 0, 24}, make([]byte, 20)...), true)
	f.Fuzz(func(t *testing.T, b []byte, protected bool) {
		if p, err := radius.DecodeRequest(b, secret); err == nil {
			n := int(b[2])<<8 | int(b[3])
			require.True(t, wire.IsAuthenticRequest(b[:n], secret))
			if about, err := radius.ReadAbout(p); err == nil {
				require.Equal(t, about.Nothing(), about.Fits(radius.Known{}))
			}
			_, _ = radius.Answer(p, wire.CodeDisconnectACK, nil) // which may be too long
		}
		if _, err := radius.Decode(b, asked, secret, protected); err == nil {
			n := int(b[2])<<8 | int(b[3])
			require.True(t, wire.IsAuthenticResponse(b[:n], asked, secret))
		}
	})
}
