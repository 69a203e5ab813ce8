package equipment

import (
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/login"
)

// asking is a conversation that counts what it is asked.
type asking struct{ asked, ended atomic.Int32 }

func (a *asking) Next([]byte) login.Step {
	a.asked.Add(1)
	time.Sleep(time.Millisecond)
	return login.Step{Over: true}
}

func (a *asking) End() { a.ended.Add(1) }

// Strangers at one access point take no room of anybody elsewhere, and there only of who was heard of longest ago; what gives way is freed.
func TestStrangersAtOneAccessPoint(t *testing.T) {
	var cs conversations
	now := time.Now()
	elsewhere, here := &asking{}, &asking{}
	_, other := cs.begin("boathouse", "00-53-00-00-00-01", elsewhere, now)
	_, same := cs.begin("jetty", "00-53-00-00-00-02", here, now)
	crowd := make([]*asking, 5000)
	for i := range crowd {
		crowd[i] = &asking{}
		station := "00-53-00-00-00-66"
		if i%2 == 0 {
			station = fmt.Sprintf("00-53-00-01-%02x-%02x", i>>8, i&255)
		}
		cs.begin("jetty", station, crowd[i], now.Add(time.Duration(i)*10*time.Millisecond))
		if i%50 == 0 { // who logs in is heard of
			require.NotNil(t, cs.find("jetty", same, now.Add(time.Duration(i)*10*time.Millisecond)), "after %d", i)
		}
	}
	require.NotNil(t, cs.find("boathouse", other, now.Add(50*time.Second)))
	require.Nil(t, cs.find("jetty", other, now), "another's equipment does not go on with it")
	require.Positive(t, cs.crowded()["jetty"])
	require.Zero(t, cs.crowded()["boathouse"])
	require.Eventually(t, func() bool {
		ended := 0
		for _, a := range crowd {
			ended += int(a.ended.Load())
		}
		return ended >= len(crowd)-mostOpen
	}, 5*time.Second, 5*time.Millisecond)
	cs.close()
	require.EqualValues(t, 1, here.ended.Load())
	require.EqualValues(t, 1, elsewhere.ended.Load())
}

// However often one state comes, one code is tried by it.
func TestOneStateOneCode(t *testing.T) {
	var cs conversations
	a := &asking{}
	c, id := cs.begin("jetty", "", a, time.Now())
	var all sync.WaitGroup
	var taken atomic.Int32
	for range 50 {
		all.Go(func() {
			if found := cs.find("jetty", id, time.Now()); found != nil {
				if _, ok := found.next([]byte("123456")); ok {
					taken.Add(1)
				}
			}
		})
	}
	all.Wait()
	require.EqualValues(t, 1, taken.Load())
	require.EqualValues(t, 1, a.asked.Load())
	require.True(t, c.over)
}
