package ike

import (
	"bytes"
	"encoding/binary"
	"time"
)

// A device searches for the size of what its way carries, in the manner of RFC 8899: it pads requests, and where one is not answered, sends
// a smaller one in its place, by the same message ID, for the peer has not seen the other. What it found it tells, so that the gateway
// sends nothing that is larger.
const (
	// pathLeast is what every way carries, in octets of a UDP payload: 576 less the headers of IPv4 and UDP (RFC 1122 §3.3.2).
	pathLeast = 548

	pathNear   = 16                     // how near below what is lost the search ends, in octets
	pathWait   = 400 * time.Millisecond // for an answer, where it is not known how long one takes
	pathRounds = 3                      // how many times as long as an answer takes, where it is
	pathLittle = 50 * time.Millisecond
	pathTwice  = 2 // how often a size is tried: one datagram may be lost for any reason
	pathChecks = 6 // how many sizes between what came and what did not are tried
)

// pathSizes are tried from above, in octets of a UDP payload: what remains of 1460, 1400, 1360, 1280, 1200 and 1024 octets of IPv4.
var pathSizes = []int{1432, 1372, 1332, 1252, 1172, 996, pathLeast}

// nPathSize is a notification for private use (RFC 7296 §3.10.1): a gateway that does not know it leaves it alone. Its data is pathMark
// and the octets.
const nPathSize notifyType = 45068

// pathMark tells it from what others use that number for.
var pathMark = []byte("yellow-lantern path ")

// Measured says what a device found that its way carries, in octets of a UDP payload; for whoever sends by that way.
type Measured struct {
	ID     ID
	Octets int
}

func (Measured) isOutput() {}

// search is one search under way.
type search struct {
	size, sent int // that was sent last, and how often
	fits, lost int // the largest that was answered, and the smallest that was not
	checks     int
	pace       time.Duration // how soon silence counts
	told       int           // to the gateway
}

// Measure searches for the size of what the way to the gateway carries, up to largest octets of a UDP payload, which needs not be asked
// for again: Measured says what was found, and the gateway is told. It does nothing over TCP.
func (i *Initiator) Measure(now time.Time, largest int) []Output {
	if i.phase == phUp && !i.c.TCP && !i.b.over {
		pace := pathWait
		if i.rtt > 0 {
			pace = min(max(pathLittle, pathRounds*i.rtt), retryFirst)
		}
		i.b.measure(now, &search{size: largest, lost: largest + 1, pace: pace})
	}
	return i.take()
}

// measure sends the next request of a search, or ends it.
func (b *bond) measure(now time.Time, s *search) {
	s.sent = 1
	b.cur.ask(now, &request{
		exchange: informational, whole: true, pace: s.pace,
		write:    func(time.Time) ([]payload, bool) { return b.cur.padded(s.size), true },
		smaller:  func() []payload { return b.cur.padded(s.shrink()) },
		answered: func(now time.Time, _ *message) { b.measured(now, s) },
	})
}

// shrink is what is tried after no answer came: once more the same, then less. Below all that may be lost it stays.
func (s *search) shrink() int {
	if s.sent++; s.sent > pathTwice && s.size > max(pathLeast, s.fits) {
		s.lost, s.sent = s.size, 1
		s.size = s.fits // which is known to come
		if s.fits == 0 {
			s.size = pathLeast
			for _, rung := range pathSizes {
				if rung < s.lost {
					s.size = rung
					break
				}
			}
		}
	}
	return s.size
}

// measured takes an answer: what was sent last came.
func (b *bond) measured(now time.Time, s *search) {
	s.fits = max(s.fits, s.size)
	if s.fits > s.told { // also what is not yet the last word: large packets are lost until then
		s.told = s.fits
		b.emit(Measured{b.id, s.fits})
		data := binary.BigEndian.AppendUint16(bytes.Clone(pathMark), uint16(s.fits))
		b.cur.ask(now, &request{exchange: informational, write: func(time.Time) ([]payload, bool) {
			return []payload{notify{kind: nPathSize, data: data}.payload()}, true
		}})
	}
	if s.lost-s.fits > pathNear && s.checks < pathChecks && s.lost > s.fits+1 && !b.over {
		s.checks++
		s.size = (s.fits + s.lost) / 2
		b.measure(now, s)
	}
}

// padded is a payload that says nothing, and makes a message with the marker of UDP 4500 so many octets long, or as near below as the
// cipher's blocks allow.
func (s *ikeSA) padded(octets int) []payload {
	return []payload{{kind: plVendor, body: make([]byte, max(0, s.keys.side(s.mine).Room(octets-pathMarker-headerLen-4)-4))}}
}

const pathMarker = 4 // octets before IKE on UDP 4500 (RFC 3948 §2.2)

// pathTold is what the peer says that its way carries; 0: it says nothing.
func pathTold(m *message) int {
	data, has := m.notified(nPathSize)
	octets, marked := bytes.CutPrefix(data, pathMark)
	if !has || !marked || len(octets) != 2 {
		return 0
	}
	return max(pathLeast, int(binary.BigEndian.Uint16(octets)))
}
