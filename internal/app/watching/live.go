package watching

import (
	"cmp"
	"context"
	"slices"
	"strings"
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

// Sessions lists live sessions, with their samples or without: of 10,000 these are 30 MB.
func (s *Service) Sessions(traffic bool) []LiveSession {
	all := s.Gateway.Sessions()
	out := make([]LiveSession, 0, len(all))
	s.live.mu.Lock()
	defer s.live.mu.Unlock()
	for _, x := range all {
		list := s.live.samples[x.ID]
		l := LiveSession{Session: x, Trial: people.IsTester(x.User), Traffic: []Sample{}, Flag: flag(list)}
		if traffic {
			l.Traffic = append(l.Traffic, list...)
		}
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

// mostViewed is how many sessions a viewer is sent every two seconds.
const mostViewed = 300

// has tells whether a text is in what tells a session from others.
func (l *LiveSession) has(text string) bool {
	words := append([]string{l.User, l.Passage, l.Tunnel, l.From, l.Device, l.Flag}, l.Groups...)
	for _, a := range l.Addresses {
		words = append(words, a.String())
	}
	return slices.ContainsFunc(words, func(w string) bool { return strings.Contains(strings.ToLower(w), text) })
}

// viewed is what a viewer is sent: sessions with a text in them, those to look at first where there are more than are sent.
func (s *Service) viewed(filter string) Sessions {
	filter = strings.ToLower(filter)
	all := s.Sessions(false)
	out := Sessions{Sessions: []LiveSession{}, All: len(all)}
	for i := range all {
		if all[i].Flag != "" {
			out.Flagged++
		}
		if all[i].has(filter) {
			out.Sessions = append(out.Sessions, all[i])
		}
	}
	if out.Match = len(out.Sessions); out.Match > mostViewed {
		slices.SortStableFunc(out.Sessions, func(a, b LiveSession) int {
			return cmp.Compare(map[bool]int{true: 1}[a.Flag == ""], map[bool]int{true: 1}[b.Flag == ""])
		})
		out.Sessions = out.Sessions[:mostViewed]
	}
	s.live.mu.Lock()
	defer s.live.mu.Unlock()
	for i := range out.Sessions {
		x := &out.Sessions[i]
		x.Traffic = append(x.Traffic, s.live.samples[x.ID]...)
	}
	return out
}

// Stream sends the sessions every two seconds, and journal lines as they are written, until the viewer leaves.
func (s *Service) Stream(ctx context.Context, filter string, send func(any) error) {
	lines, leave := s.Journal.Join()
	defer leave()
	t := time.NewTicker(sampleEvery)
	defer t.Stop()
	err := send(s.viewed(filter))
	for err == nil {
		select {
		case <-ctx.Done():
			return
		case <-s.Until.Done():
			return
		case e := <-lines:
			err = send(e)
		case <-t.C:
			err = send(s.viewed(filter))
		}
	}
}

// Sessions is the list as it is sent to viewers.
type Sessions struct {
	Sessions []LiveSession `json:"sessions" nullable:"false" doc:"Those that match the filter; of more than are sent at once those to look at first."`
	All      int           `json:"all" doc:"How many sessions live."`
	Match    int           `json:"match" doc:"How many of them match the filter."`
	Flagged  int           `json:"flagged" doc:"How many of all somebody should look at."`
}
