package gateway

import (
	"sync"
	"time"
)

// mostLines is how many lines of one kind the journal takes in a second. Refusals cost a caller one datagram, and anybody
// can send those: without a bound they would fill the disk.
const mostLines = 100

// faucet bounds lines by kind, and remembers how many it held back.
type faucet struct {
	mu     sync.Mutex
	second map[string]int64
	count  map[string]int
	held   map[string]int
}

// lets tells whether a line may be written now, and how many were held back since the last one that was.
func (f *faucet) lets(kind string, now time.Time) (ok bool, held int) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.second == nil {
		f.second, f.count, f.held = map[string]int64{}, map[string]int{}, map[string]int{}
	}
	if s := now.Unix(); f.second[kind] != s {
		f.second[kind], f.count[kind] = s, 0
	}
	if f.count[kind]++; f.count[kind] > mostLines {
		f.held[kind]++
		return false, 0
	}
	held = f.held[kind]
	f.held[kind] = 0
	return true, held
}
