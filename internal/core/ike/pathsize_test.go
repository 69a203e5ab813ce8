package ike

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// A device finds what its way carries, however little that is and whatever else is lost, never more, and the gateway is told; the session
// stands as before, and so does one that meanwhile renews its keys.
func TestPathSize(whole *testing.T) {
	rapid.Check(whole, func(t *rapid.T) {
		u := newUnruly(whole, nil)
		limit := rapid.IntRange(pathLeast, 1600).Draw(t, "limit")
		largest := rapid.IntRange(1200, 1440).Draw(t, "largest")
		loses := rapid.SampledFrom([]int{0, 0, 10, 30}).Draw(t, "loses")
		u.take(false, u.i.Measure(u.now, largest))
		if rapid.Bool().Draw(t, "renews") {
			u.i.b.renewIKE(u.now)
			u.take(false, u.i.take())
		}
		found := map[bool]int{}
		note := func(gateway bool, outs []Output) {
			for _, o := range outs {
				if m, ok := o.(Measured); ok {
					found[gateway] = m.Octets
				}
			}
			u.take(gateway, outs)
		}
		for range 1200 {
			for len(u.flying) > 0 {
				f := u.flying[0]
				u.flying = u.flying[1:]
				switch {
				case f.work == nil && (len(f.data)+pathMarker > limit || rapid.IntRange(1, 100).Draw(t, "lost") <= loses):
				case f.work != nil:
					note(true, u.l.Finish(u.now, f.work()))
				case f.up:
					note(true, u.l.Handle(u.now, u.device, f.data))
				default:
					note(false, u.i.Handle(u.now, f.data))
				}
			}
			u.now = u.now.Add(100 * time.Millisecond)
			note(true, u.l.Tick(u.now))
			note(false, u.i.Tick(u.now))
		}
		if len(u.ends) > 0 { // a network that loses a third of everything may lose a dozen repetitions
			require.Positive(t, loses)
			return
		}
		fits := min(limit, largest)
		require.LessOrEqual(t, found[false], fits)
		require.LessOrEqual(t, found[true], found[false])
		if loses == 0 {
			require.Equal(t, found[false], found[true], "the gateway knows")
			require.Greater(t, found[false], fits-2*pathNear, "of %d", fits)
		}
	})
}

// What others put into a notification of that number is not ours.
func TestPathTold(t *testing.T) {
	for data, octets := range map[string]int{
		"": 0, "x": 0, string(pathMark): 0, string(pathMark) + "\x05\x00": 1280, string(pathMark) + "\x00\x01": pathLeast,
		string(pathMark) + "\x05\x00\x00": 0, "another's path \x05\x00": 0,
	} {
		m := &message{payloads: []payload{notify{kind: nPathSize, data: []byte(data)}.payload()}}
		require.Equal(t, octets, pathTold(m), "%q", data)
	}
}
