package ike

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"time"

	"yellowlantern/internal/core/reason"
)

// ErrForgot says that the gateway no longer knows the session: it started again.
var ErrForgot = errors.New("the gateway started again, and does not know the session any more")

const (
	// mostTold is how many callers a second are told that their session is not known; others learn of it by their own patience.
	mostTold = 100
	// doubtEvery is how often a device asks at most because of what anybody could have sent.
	doubtEvery = 5 * time.Second
)

// token is what only a gateway with the secret can say of an IKE SA, and says once the SA is gone (RFC 6290 §5.1).
func (s Secrets) token(spiI, spiR uint64) []byte {
	if s.Crash == nil {
		return nil
	}
	h := hmac.New(sha256.New, s.Crash)
	h.Write(binary.BigEndian.AppendUint64(binary.BigEndian.AppendUint64(nil, spiI), spiR))
	return h.Sum(nil)
}

// forgot answers a request of an IKE SA that is not known, with the proof that it is gone: a device need not wait until its patience is
// over (RFC 6290 §4.4, RFC 7296 §2.21.4). Nothing is said where either SPI is one of ours that is in use, in whichever role: by a flag that
// a stranger clears nobody makes the gateway say it of a session that stands.
func (l *Listener) forgot(now time.Time, from Peer, m *message) {
	for _, spi := range []uint64{m.spiI, m.spiR} {
		if l.logins[spi] != nil || l.sas[spi] != nil || l.byID[ID(spi)] != nil {
			return
		}
	}
	last := len(m.payloads) - 1
	if m.response() || l.set.Secrets.Crash == nil || last < 0 || m.payloads[last].kind != plSK && m.payloads[last].kind != plSKF {
		return
	}
	if second := now.Truncate(time.Second); !second.Equal(l.toldIn) {
		l.toldIn, l.told = second, 0
	}
	if l.told++; l.told > mostTold {
		return
	}
	answer := &message{header: header{
		spiI: m.spiI, spiR: m.spiR, exchange: m.exchange, id: m.id, flags: flagResponse | ^m.flags&flagInitiator,
	}, payloads: []payload{
		notify{kind: nInvalidIKESPI}.payload(), notify{kind: nCrashToken, data: l.set.Secrets.token(m.spiI, m.spiR)}.payload(),
	}}
	l.emit(Send{from, answer.marshal()})
}

// UnknownSPI writes what tells a device that its ESP belongs to no session (RFC 7296 §1.5): a hint, upon which it asks.
func UnknownSPI(rand io.Reader, spi uint32) []byte {
	var own [8]byte
	_, _ = io.ReadFull(rand, own[:])
	m := &message{header: header{
		spiI: binary.BigEndian.Uint64(own[:]) | 1, exchange: informational, flags: flagInitiator,
	}, payloads: []payload{notify{kind: nInvalidSPI, data: spi4(spi)}.payload()}}
	return m.marshal()
}

// hinted takes a message that nothing protects: proof that the gateway forgot the session, or a hint that it may have.
func (i *Initiator) hinted(now time.Time, m *message) {
	s := i.b.cur
	if token, ok := m.notified(nCrashToken); ok && m.spiI == s.spiI && m.spiR == s.spiR {
		if len(s.token) >= 16 && hmac.Equal(token, s.token) {
			i.fail(fmt.Errorf("%w: %w", ErrEnded, ErrForgot))
			i.b.fall(reason.Reason{})
		}
		return
	}
	spi, ok := m.notified(nInvalidSPI)
	if _, unknown := m.notified(nInvalidIKESPI); !unknown && !(ok && len(spi) == 4 && i.b.childBy(binary.BigEndian.Uint32(spi)) != nil) {
		return
	}
	if now.Sub(i.doubted) >= doubtEvery && i.phase == phUp && s.win.idle() {
		i.doubted = now
		s.ask(now, &request{exchange: informational, write: func(time.Time) ([]payload, bool) { return nil, true }})
	}
}
