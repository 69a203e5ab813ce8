package ike

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// Whatever an authentic peer puts into its messages, in whatever order, leaves both machines standing, and the gateway's books right.
func FuzzSealed(f *testing.F) {
	_, chain := marshalPayloads([]payload{deletion{protocol: protoIKE}.payload()})
	f.Add(uint8(plDelete), uint8(informational), chain, true)
	_, chain = marshalPayloads([]payload{
		notify{protocol: protoESP, spi: []byte{0, 0, 1, 0}, kind: nRekeySA}.payload(),
		saPayload(ikeProposals(onlyX, make([]byte, 8))...),
	})
	f.Add(uint8(plNotify), uint8(createChildSA), chain, true)
	f.Add(uint8(plEAP), uint8(ikeAuth), []byte{0, 0, 0, 9, 2, 1, 0, 5, 1}, false)
	f.Fuzz(func(t *testing.T, first, x uint8, chain []byte, up bool) {
		w := newWorld(t, nil)
		if up {
			w.login()
		} else { // the key exchange, and nothing else
			w.lose = func(n int, fromDevice bool) bool { return n > 2 && fromDevice }
			w.login()
		}
		if len(chain) > 1<<14 {
			return
		}
		for _, more := range []uint32{0, 1} {
			h := header{spiI: w.i.spiI, spiR: w.i.spiR, exchange: exchange(x), id: w.i.id + more, flags: flagInitiator}
			counter := w.i.sealed + uint64(more) + 1
			if up {
				h.id, counter = w.i.b.cur.win.next+more, w.i.b.cur.sealed+uint64(more)+1
			}
			w.run(w.l.Handle(w.now, device, w.i.keys.sealChain(h, payloadType(first), chain, true, counter)), false)
			require.GreaterOrEqual(t, w.l.HalfOpen(), 0)
			require.GreaterOrEqual(t, w.l.Sessions(), 0)
		}
	})
}
