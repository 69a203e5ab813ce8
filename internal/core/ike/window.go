package ike

import (
	"cmp"
	"slices"
	"time"
)

// How own requests are repeated (RFC 7296 §2.4): a dozen times in about four minutes, unless the tunnel is less patient.
const (
	retryFirst     = time.Second
	retryLongest   = 30 * time.Second
	defaultPatient = 4 * time.Minute
	pacedFor       = 10 * time.Second // how long a request with a pace of its own keeps to it
	leavePatient   = 30 * time.Second // for the answer to a deletion: nothing depends on it any more
)

// request is one of our own. What it holds is written when it is sent, for others may go before it.
type request struct {
	exchange exchange
	write    func(now time.Time) (ps []payload, needed bool)
	answered func(now time.Time, m *message) // nil: the answer says nothing
	dropped  func()                          // there will be no answer; nil: that leaves nothing behind
	child    bool                            // it is about a Child SA
	whole    bool                            // it goes in one datagram, however long it is
	// smaller is what goes in its place where no answer came; nil: it is repeated.
	smaller func() []payload
	pace    time.Duration // how soon it is repeated; 0: as all
}

// window is one IKE SA's message IDs, both ways: one request of each side's at a time (RFC 7296 §2.2, §2.3).
type window struct {
	expect uint32   // message ID of the peer's next request
	reply  [][]byte // to the request before it, in the datagrams that it went in
	cut    func()   // cuts it into smaller parts; nil: it went in one, or in such already
	asks   int      // how often it was asked for again
	asked  gathered // parts of the peer's next request

	next    uint32     // message ID of our next request
	out     *request   // sent, and not answered
	sent    [][]byte   // as it went
	heard   gathered   // parts of its answer
	queue   []*request // wait until that one is answered or given up
	began   time.Time
	tries   int
	retryAt time.Time
}

// idle tells whether no own request is under way or waits.
func (w *window) idle() bool { return w.out == nil && len(w.queue) == 0 }

// begin notes that a request is sent.
func (w *window) begin(now time.Time, r *request, sealed [][]byte) {
	w.out, w.sent, w.began, w.tries, w.retryAt = r, sealed, now, 1, now.Add(cmp.Or(r.pace, retryFirst))
}

// again tells whether the request is to be sent once more, and whether it is to be given up.
func (w *window) again(now time.Time, patience time.Duration) (repeat, given bool) {
	if w.out == nil || now.Before(w.retryAt) {
		return false, false
	}
	if now.Sub(w.began) >= patience {
		return false, true
	}
	w.retryAt = now.Add(min(retryFirst<<w.tries, retryLongest))
	if w.out.pace > 0 && now.Sub(w.began) < pacedFor {
		w.retryAt = now.Add(w.out.pace)
	} else {
		w.tries++
	}
	return true, false
}

// drop gives up what is under way and what waits.
func (w *window) drop() {
	all := w.queue
	if w.out != nil {
		all = append(all, w.out)
	}
	w.out, w.sent, w.queue = nil, nil, nil
	for _, r := range all {
		if r.dropped != nil {
			r.dropped()
		}
	}
}

// aboutChild tells whether something about a Child SA is under way or waits.
func (w *window) aboutChild() bool {
	return w.out != nil && w.out.child || slices.ContainsFunc(w.queue, func(r *request) bool { return r.child })
}

// done ends the request under way, and gives it.
func (w *window) done() *request {
	r := w.out
	w.out, w.sent = nil, nil
	w.next++
	return r
}
