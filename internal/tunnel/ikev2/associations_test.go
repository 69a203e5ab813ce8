package ikev2

import (
	"math/rand/v2"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

// Associations are found while others come and go, as a map would have it; nobody who looks waits, or misses one that stays.
func TestAssociations(t *testing.T) {
	var a associations
	require.Nil(t, a.find(7))
	a.remove(7, nil)
	stays := map[uint32]*association{}
	for range 500 {
		spi := rand.Uint32()
		stays[spi] = &association{}
		a.store(spi, stays[spi])
	}
	over := make(chan struct{})
	var looking sync.WaitGroup
	for range 2 {
		looking.Go(func() {
			for {
				for spi, x := range stays {
					if a.find(spi) != x {
						t.Errorf("%x was missed", spi)
						return
					}
				}
				select {
				case <-over:
					return
				default:
				}
			}
		})
	}
	r := rand.New(rand.NewPCG(3, 3))
	known := map[uint32]*association{}
	for range 20_000 {
		spi := uint32(r.IntN(3000)) << 12 // many of one slot
		switch x := (&association{}); {
		case stays[spi] != nil:
		case r.IntN(2) == 0:
			a.store(spi, x)
			known[spi] = x
		default:
			a.remove(spi, x) // of another one, or of none
			require.Same(t, known[spi], a.find(spi))
			a.remove(spi, known[spi])
			delete(known, spi)
			require.Nil(t, a.find(spi))
		}
	}
	close(over)
	looking.Wait()
	for spi, x := range known {
		require.Same(t, x, a.find(spi))
	}
	require.Equal(t, len(known)+len(stays), a.count)
}
