package gateway

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync/atomic"
	"time"

	"yellowlantern/internal/core/forward"
	"yellowlantern/internal/core/pcapng"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/core/site"
)

// Stations at which a recording takes packets: as they are in the tunnel, and as they are on the other side of the gateway.
const (
	StationTunnel = "tunnel"
	StationInside = "inside"
)

var recordedAt = []pcapng.Interface{
	{Name: StationTunnel, About: "inside the tunnel, between the person's device and the gateway"},
	{Name: StationInside, About: "between the gateway and the inside networks or the internet, after translation"},
}

const recordQueue = 4096 // packets that wait to be written; more are left out and counted

// ErrNoSession says that there is nothing to record.
var ErrNoSession = errors.New("there is no such session")

// RecordLimits bound a recording.
type RecordLimits struct {
	Stations []string // none: all
	Octets   int64
	Time     time.Duration
}

// recorder takes copies of a session's packets.
type recorder struct {
	packets chan pcapng.Packet
	left    atomic.Uint64 // left out
	at      [2]bool
}

// recorder is a session's; nil where it is not recorded.
func (g *Gateway) recorder(s *session.Session) *recorder {
	if g.recording.Load() == 0 {
		return nil
	}
	if rec, ok := g.recorders.Load(s); ok {
		return rec.(*recorder)
	}
	return nil
}

func (r *recorder) take(station int, outbound bool, b []byte, comment string) {
	if r == nil || !r.at[station] {
		return
	}
	select {
	case r.packets <- pcapng.Packet{
		At: time.Now(), Interface: station, Outbound: outbound, Comment: comment,
		Data: append([]byte(nil), b...),
	}:
	default:
		r.left.Add(1)
	}
}

// lostWords says in a recording what became of a packet.
func lostWords(r forward.Result) string {
	if r.Station == "" {
		return ""
	}
	if r.Setting == (site.Ref{}) {
		return "lost at " + r.Station
	}
	return fmt.Sprintf("lost at %s by %s", r.Station, r.Setting)
}

// Record writes a session's packets as a pcapng file until a limit is reached, the context or the session ends. There is at most one
// recording of a session.
func (g *Gateway) Record(ctx context.Context, id uint64, limits RecordLimits, w io.Writer) error {
	s := g.sessions.Of(id)
	if s == nil {
		return ErrNoSession
	}
	rec := &recorder{packets: make(chan pcapng.Packet, recordQueue)}
	for i, at := range recordedAt {
		rec.at[i] = len(limits.Stations) == 0
		for _, name := range limits.Stations {
			rec.at[i] = rec.at[i] || name == at.Name
		}
	}
	if _, other := g.recorders.LoadOrStore(s, rec); other {
		return errors.New("this session is being recorded already")
	}
	g.recording.Add(1)
	defer func() {
		g.recorders.Delete(s)
		g.recording.Add(-1)
	}()
	out, err := pcapng.NewWriter(w, "yellow lantern", recordedAt...)
	if err != nil {
		return err
	}
	stop := time.NewTimer(limits.Time)
	defer stop.Stop()
	look := time.NewTicker(time.Second)
	defer look.Stop()
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-stop.C:
			return nil
		case <-look.C:
			if g.sessions.Of(id) == nil {
				return nil
			}
		case p := <-rec.packets:
			if left := rec.left.Swap(0); left > 0 {
				p.Comment = fmt.Sprintf("%d packets before this one were left out: they came too fast to be written. %s", left, p.Comment)
			}
			if out.Size+int64(len(p.Data))+128 > limits.Octets {
				return nil
			}
			if err := out.Write(p); err != nil {
				return err
			}
		}
	}
}
