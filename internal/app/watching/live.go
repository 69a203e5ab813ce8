package watching

import (
	"context"
	"sync"
	"time"

	"yellowlantern/internal/gateway"
	"yellowlantern/internal/people"
)

const (
	sampleEvery = 2 * time.Second
	samplesKept = 60 // two minutes
)

// Sample is what a session carried in one interval of two seconds.
type Sample struct {
	In      uint64 `json:"in" doc:"Octets that came from the person."`
	Out     uint64 `json:"out" doc:"Octets that went to the person."`
	Lost    uint64 `json:"lost" doc:"Packets that the gateway lost."`
	Missing uint64 `json:"missing" doc:"Packets that did not come."`

	inPackets, outPackets uint64
}

// LiveSession is a live session with what it carried lately.
type LiveSession struct {
	gateway.Session
	Trial   bool     `json:"trial,omitempty" doc:"An identity made for a trial."`
	Traffic []Sample `json:"traffic" nullable:"false" doc:"One for every two seconds, the newest last."`
	Flag    string   `json:"flag,omitempty" doc:"What somebody should look at: traffic goes one way, or packets are lost."`
}

// live keeps samples of sessions.
type live struct {
	mu      sync.Mutex
	last    map[string]gateway.Session
	samples map[string][]Sample
}

// sample looks at all sessions once.
func (l *live) sample(ss []gateway.Session) {
	l.mu.Lock()
	defer l.mu.Unlock()
	last, samples := map[string]gateway.Session{}, map[string][]Sample{}
	for _, s := range ss {
		last[s.ID] = s
		was, known := l.last[s.ID]
		list := l.samples[s.ID]
		if known {
			list = append(list, Sample{
				In: s.InBytes - was.InBytes, Out: s.OutBytes - was.OutBytes, Lost: sum(s.Lost) - sum(was.Lost),
				Missing: s.Missing - min(s.Missing, was.Missing), inPackets: s.InPackets - was.InPackets, outPackets: s.OutPackets - was.OutPackets,
			})
		}
		samples[s.ID] = list[max(0, len(list)-samplesKept):]
	}
	l.last, l.samples = last, samples
}

func sum(by map[string]uint64) (n uint64) {
	for _, v := range by {
		n += v
	}
	return n
}

const flagOver = 10 // samples that a flag looks at: twenty seconds

// flag says what is wrong with a session's traffic of the last twenty seconds; empty: nothing.
func flag(list []Sample) string {
	var s Sample
	for _, x := range list[max(0, len(list)-flagOver):] {
		s.Lost, s.Missing = s.Lost+x.Lost, s.Missing+x.Missing
		s.inPackets, s.outPackets = s.inPackets+x.inPackets, s.outPackets+x.outPackets
	}
	switch {
	case s.inPackets > 3 && s.Lost*2 > s.inPackets:
		return "most of what it sends is lost at the gateway: yl flows and yl diagnose say where"
	case s.inPackets > 3 && s.outPackets == 0:
		return "one way: it sends, and nothing comes back"
	case s.outPackets > 3 && s.inPackets == 0:
		return "one way: it is sent to, and nothing comes from it"
	case s.Missing > 3 && s.Missing*10 > s.inPackets:
		return "packets go missing on the way from it"
	}
	return ""
}

// Sessions lists live sessions with their samples.
func (s *Service) Sessions() []LiveSession {
	out := []LiveSession{}
	s.live.mu.Lock()
	defer s.live.mu.Unlock()
	for _, x := range s.Gateway.Sessions() {
		list := append([]Sample{}, s.live.samples[x.ID]...)
		l := LiveSession{Session: x, Trial: people.IsTester(x.User), Traffic: list, Flag: flag(list)}
		if l.Flag == "" {
			l.Flag = x.Words
		}
		out = append(out, l)
	}
	return out
}

// Sample looks at sessions every two seconds, until the context ends.
func (s *Service) Sample(ctx context.Context) {
	t := time.NewTicker(sampleEvery)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
			s.live.sample(s.Gateway.Sessions())
		}
	}
}

// Stream sends the sessions every two seconds, and journal lines as they are written, until the viewer leaves.
func (s *Service) Stream(ctx context.Context, send func(any) error) {
	lines, leave := s.Journal.Join()
	defer leave()
	t := time.NewTicker(sampleEvery)
	defer t.Stop()
	err := send(Sessions{s.Sessions()})
	for err == nil {
		select {
		case <-ctx.Done():
			return
		case <-s.Until.Done():
			return
		case e := <-lines:
			err = send(e)
		case <-t.C:
			err = send(Sessions{s.Sessions()})
		}
	}
}

// Sessions is the list as it is sent to viewers.
type Sessions struct {
	Sessions []LiveSession `json:"sessions" nullable:"false"`
}
