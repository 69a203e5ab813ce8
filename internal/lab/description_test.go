package lab

import (
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/demo"
)

// A site description is written by hand: what is read can be built upon, everything else is an error that says that it is about the site.
func FuzzRead(f *testing.F) {
	s, err := demo.Load("")
	require.NoError(f, err)
	f.Add([]byte(s.Site))
	f.Add([]byte("segments: {a: {}}\ngateway: {inside: {segment: a}}\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		d, err := Read(b)
		if err != nil {
			require.ErrorContains(t, err, "site description")
			return
		}
		require.NotNil(t, d.Segments[d.Gateway.Inside.Segment])
	})
}
