package changes

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"sync/atomic"
	"time"

	wire "layeh.com/radius"
	"layeh.com/radius/rfc2865"
	"layeh.com/radius/rfc2869"
	"layeh.com/radius/rfc3576"

	"yellowlantern/internal/core/fold"
	"yellowlantern/internal/guard"
	"yellowlantern/internal/people/remote"
	"yellowlantern/internal/radius"
)

const readPause = 5 * time.Millisecond // after an error

// listener takes what the servers of one source ask for.
type listener struct {
	s       *Service
	at      netip.AddrPort
	conn    *net.UDPConn
	problem string // why it does not listen
	source  atomic.Pointer[remote.Server]
	done    guard.Group
	told    time.Time

	// answers are those to requests that were carried out: one that comes again is answered, and nothing is done again (RFC 5080 §2.2.2).
	answers map[key]kept
}

// A repeat may come from another port: a server that asks again may have another socket.
type key struct {
	from          netip.Addr
	authenticator [16]byte
}

type kept struct {
	answer []byte
	until  time.Time
}

func (l *listener) close() {
	if l.conn != nil {
		_ = l.conn.Close()
	}
	l.done.Wait()
}

// serve takes one request after the other: servers have few.
func (l *listener) serve() {
	buf := make([]byte, wire.MaxPacketLength+1)
	for {
		n, from, err := l.conn.ReadFromUDPAddrPort(buf)
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil { // such as what a router says of an answer
			time.Sleep(readPause)
			continue
		}
		from = fold.AddrPort(from)
		if answer := l.take(buf[:n], from, time.Now()); answer != nil {
			_, _ = l.conn.WriteToUDPAddrPort(answer, from)
		}
	}
}

// take carries a request out; nil: it deserves no answer.
func (l *listener) take(b []byte, from netip.AddrPort, now time.Time) []byte {
	ctx, stop := context.WithTimeout(context.Background(), answerTime)
	defer stop()
	r := l.source.Load()
	secret, err := r.Shared(ctx)
	if err != nil || len(secret) == 0 || !r.IsServer(from.Addr()) {
		l.ignored(now, from, "it comes from no server of the source, or no secret is shared with them")
		return nil
	}
	p, err := radius.DecodeRequest(b, secret)
	if err != nil {
		l.ignored(now, from, err.Error())
		return nil
	}
	k := key{from.Addr(), [16]byte(b[4:20])}
	if had, again := l.answers[k]; again && now.Before(had.until) {
		return had.answer
	}
	at, err := rfc2869.EventTimestamp_Lookup(p)
	if err == nil && now.Sub(at).Abs() > stale {
		l.ignored(now, from, "it says that it was made at another time than now: clocks differ, or it was recorded")
		return nil
	}
	code, cause := l.answered(ctx, r, p, err == nil)
	answer, err := radius.Answer(p, code, func(a *radius.Packet) error {
		if cause == 0 {
			return nil
		}
		return rfc3576.ErrorCause_Set(a, cause)
	})
	if err != nil {
		return nil
	}
	l.remember(k, answer, now)
	return answer
}

func (l *listener) remember(k key, answer []byte, now time.Time) {
	if len(l.answers) >= mostAnswers {
		for old, a := range l.answers {
			if now.After(a.until) {
				delete(l.answers, old)
			}
		}
	}
	if len(l.answers) < mostAnswers {
		l.answers[k] = kept{answer, now.Add(stale)}
	}
}

// answered carries out what is asked for. dated is that it says when it was made, and cannot be a recorded one.
func (l *listener) answered(ctx context.Context, r *remote.Server, p *radius.Packet,
	dated bool) (code wire.Code,
	cause rfc3576.ErrorCause,
) {
	done, not := wire.CodeDisconnectACK, wire.CodeDisconnectNAK
	if p.Code == wire.CodeCoARequest {
		done, not = wire.CodeCoAACK, wire.CodeCoANAK
	}
	about, err := radius.ReadAbout(p)
	name := rfc2865.NASIdentifier_GetString(p)
	switch {
	case err != nil:
		return not, rfc3576.ErrorCause_Value_InvalidRequest
	case name != "" && name != r.Called():
		return not, rfc3576.ErrorCause_Value_NASIdentificationMismatch
	case rfc2865.ServiceType_Get(p) == 17: // Authorize Only (RFC 5176 §3.2)
		return not, rfc3576.ErrorCause_Value_UnsupportedService
	case about.Nothing(), !dated && (about.ID == "" || p.Code == wire.CodeCoARequest): // recorded, it would count once more later
		return not, rfc3576.ErrorCause_Value_MissingAttribute
	}
	all, err := l.s.sessions(ctx, r, about)
	switch {
	case err != nil:
		return not, rfc3576.ErrorCause_Value_ResourcesUnavailable
	case len(all) == 0:
		return not, rfc3576.ErrorCause_Value_SessionContextNotFound
	}
	if p.Code == wire.CodeDisconnectRequest {
		if err := l.s.end(r, all); err != nil {
			return not, rfc3576.ErrorCause_Value_SessionContextNotRemovable
		}
		return done, 0
	}
	for _, x := range all {
		changed, err := l.s.People.Changed(ctx, r, x.User, r.Change(p))
		if err != nil {
			return not, rfc3576.ErrorCause_Value_ResourcesUnavailable
		}
		if !changed {
			return not, rfc3576.ErrorCause_Value_MissingAttribute
		}
		l.s.Settle(ctx, x.User)
	}
	return done, 0
}

// ignored says now and then that somebody sends what does not count.
func (l *listener) ignored(now time.Time, from netip.AddrPort, why string) {
	if now.Sub(l.told) < toldEvery {
		return
	}
	l.told = now
	l.s.Log.Warn("a request to change sessions is ignored", "source", l.source.Load().Settings().Name, "from", from, "why", why)
}
