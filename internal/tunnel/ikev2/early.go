package ikev2

import (
	"sync"
	"sync/atomic"

	"yellowlantern/internal/core/ike"
)

// mostEarly is how many packets are kept of an association that is not installed yet. A device that has answered our renewal sends by the
// new
// association at once, and packets are handled before the answer is.
const mostEarly = 256

// early keeps packets until the keys are there to open them. The zero value is ready.
type early struct {
	expects atomic.Int32 // how many SPIs; so that packets of unknown ones wait for nobody
	mu      sync.Mutex
	by      map[uint32][]datagram
}

func (e *early) expect(spi uint32) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.by == nil {
		e.by = map[uint32][]datagram{}
	}
	if _, known := e.by[spi]; !known {
		e.by[spi] = nil
		e.expects.Add(1)
	}
}

// keep keeps a packet, if its association is expected and there is room.
func (e *early) keep(spi uint32, from ike.Peer, b []byte) bool {
	if e.expects.Load() == 0 {
		return false
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	have, known := e.by[spi]
	if !known || len(have) >= mostEarly {
		return false
	}
	e.by[spi] = append(have, datagram{from: from.Addr, local: from.Local, tcp: from.TCP, data: append([]byte(nil), b...)})
	return true
}

// take gives what was kept, and expects no more.
func (e *early) take(spi uint32) []datagram {
	e.mu.Lock()
	defer e.mu.Unlock()
	have, known := e.by[spi]
	if known {
		delete(e.by, spi)
		e.expects.Add(-1)
	}
	return have
}

// catchUp handles packets that were kept.
func (s *server) catchUp(kept []datagram) {
	if len(kept) > 0 {
		s.handleNATT(kept)
	}
}
