package service

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/sse"

	"yellowlantern/internal/core/forward"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/people"
	"yellowlantern/internal/store"
)

func (s *Service) watchRoutes() {
	register(s, "GET", "/sessions", "list-sessions", "Live sessions", func(context.Context, *struct{}) (*body[[]LiveSession], error) {
		return answer(s.sessions()), nil
	})
	register(s, "DELETE", "/sessions/{id}", "end-session", "End a live session", func(ctx context.Context, in *struct {
		ID string `path:"id"`
	},
	) (*struct{}, error) {
		id, err := session.ParseID(in.ID)
		if err != nil {
			return nil, mistaken(err)
		}
		if err := s.Runner.End(id, endedBy(ctx)); err != nil {
			return nil, huma.Error404NotFound(err.Error())
		}
		return nil, nil
	})
	register(s, "DELETE", "/sessions", "end-sessions", "End all live sessions of a user", s.endSessions)
	register(s, "GET", "/sessions/past", "past-sessions", "Sessions that ended, the newest first", s.pastSessions)
	register(s, "GET", "/flows", "flows", "Live flows with their counters", s.flows)
	register(s, "GET", "/status", "status", "What runs, and what the gateway has counted", s.status)
	register(s, "GET", "/journal", "journal", "Lines of the journal, newest first", s.journal)
	huma.Register(s.api, huma.Operation{
		OperationID: "record-session", Method: "GET", Path: "/api/v1/sessions/{id}/recording", Summary: "Record a session's packets as pcapng, until a limit is reached",
		Security: []map[string][]string{{"token": {}}},
	}, s.record)
	sse.Register(s.api, huma.Operation{
		OperationID: "watch", Method: "GET", Path: "/api/v1/watch", Summary: "Live sessions every two seconds, and journal lines as they are written",
		Security: []map[string][]string{{"token": {}}},
	}, map[string]any{"sessions": Sessions{}, "journal": gateway.Event{}}, func(ctx context.Context, _ *struct{}, send sse.Sender) {
		s.stream(ctx, send.Data)
	})
}

func (s *Service) endSessions(ctx context.Context, in *struct {
	User string `query:"user" required:"true" minLength:"1"`
},
) (*body[Ended], error) {
	n := 0
	for _, x := range s.Runner.Sessions() {
		id, err := session.ParseID(x.ID)
		if x.User == in.User && err == nil && s.Runner.End(id, endedBy(ctx)) == nil {
			n++
		}
	}
	if n == 0 {
		return nil, huma.Error404NotFound(fmt.Sprintf("%q has no live session", in.User))
	}
	return answer(Ended{n}), nil
}

// PastSession is a session that ended.
type PastSession struct {
	Gateway   string    `json:"gateway,omitempty"`
	User      string    `json:"user"`
	Passage   string    `json:"passage"`
	Addresses string    `json:"addresses"`
	From      string    `json:"from"`
	Over      string    `json:"over" enum:"UDP,TCP"`
	Since     time.Time `json:"since"`
	Until     time.Time `json:"until"`
	InBytes   uint64    `json:"in-bytes"`
	OutBytes  uint64    `json:"out-bytes"`
	Lost      uint64    `json:"lost" doc:"Packets that the gateway lost."`
	Missing   uint64    `json:"missing" doc:"Packets that did not come."`
	reason.Reason
	Words string `json:"words" doc:"Why it ended."`
}

// SessionOver keeps a session that ended. Those of trials are not kept: their reports are.
func (s *Service) SessionOver(x gateway.Session, why reason.Reason) {
	if people.IsTester(x.User) {
		return
	}
	rec := store.PastSession{
		Gateway: x.Gateway, User: x.User, Passage: x.Passage, Addresses: addressWords(x.Addresses), From: x.From, TCP: x.TCP, Since: x.Since.UTC(), Until: time.Now().UTC(),
		InBytes: x.InBytes, OutBytes: x.OutBytes, Lost: sum(x.Lost), Missing: x.Missing, Reason: why.Words(),
		Code: string(why.Code), With: paramsOf(why),
	}
	if err := patiently(eventPatience, func() error { return s.Store.AddPastSession(context.Background(), rec) }); err != nil {
		s.Log.Error("past session", "error", err)
	}
}

func (s *Service) pastSessions(ctx context.Context, in *struct {
	User  string `query:"user" doc:"Only of this user."`
	Limit int    `query:"limit" default:"100" minimum:"1" maximum:"1000"`
},
) (*body[[]PastSession], error) {
	records, err := s.Store.PastSessions(ctx, in.User, in.Limit)
	out := []PastSession{}
	for _, r := range records {
		over := "UDP"
		if r.TCP {
			over = "TCP"
		}
		out = append(out, PastSession{
			r.Gateway, r.User, r.Passage, r.Addresses, r.From, over, r.Since, r.Until, r.InBytes, r.OutBytes, r.Lost,
			r.Missing, reasonOf(r.Code, r.With), r.Reason,
		})
	}
	return answer(out), err
}

func (s *Service) flows(_ context.Context, in *struct {
	User    string `query:"user" doc:"Only of this user."`
	Peer    string `query:"peer" doc:"Only with this address at the other end."`
	Service string `query:"service" doc:"Only of this service, as tcp/443."`
	Limit   int    `query:"limit" default:"100" minimum:"1" maximum:"10000"`
},
) (*body[[]forward.Flow], error) {
	var peer netip.Addr
	if in.Peer != "" {
		var err error
		if peer, err = netip.ParseAddr(in.Peer); err != nil {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("peer: %q is no address", in.Peer))
		}
	}
	return answer(s.Runner.Flows(func(user string) bool { return in.User == "" || user == in.User }, peer, in.Service, in.Limit)), nil
}

// recording is what a recording is asked for with.
type recording struct {
	ID       string   `path:"id" doc:"A session, or a user who has one."`
	Seconds  int      `query:"seconds" default:"30" minimum:"1" maximum:"600"`
	Octets   int64    `query:"octets" default:"10000000" minimum:"1000" maximum:"100000000"`
	Stations []string `query:"stations" doc:"tunnel, inside; none: both."`
}

// record streams a recording. That it was made is written into the journal.
func (s *Service) record(ctx context.Context, in *recording) (*huma.StreamResponse, error) {
	for _, station := range in.Stations {
		if station != gateway.StationTunnel && station != gateway.StationInside {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("there is no station %q to record at; there are %s and %s", station,
				gateway.StationTunnel, gateway.StationInside))
		}
	}
	live := s.Runner.Sessions()
	i := slices.IndexFunc(live, func(x gateway.Session) bool { return x.ID == in.ID || x.User == in.ID })
	if i < 0 {
		return nil, huma.Error404NotFound(fmt.Sprintf("%q is no live session, and no user who has one", in.ID))
	}
	id, err := session.ParseID(live[i].ID)
	if err != nil {
		return nil, err
	}
	limits := gateway.RecordLimits{Stations: in.Stations, Octets: in.Octets, Time: time.Duration(in.Seconds) * time.Second}
	who, user := administrator(ctx), live[i].User
	return &huma.StreamResponse{Body: func(hc huma.Context) {
		hc.SetHeader("Content-Type", "application/x-pcapng")
		hc.SetHeader("Content-Disposition", `attachment; filename="session.pcapng"`)
		s.tell(reason.Of(reason.Recorded, reason.With{reason.Administrator: who, reason.Seconds: strconv.Itoa(in.Seconds)}), user)
		out := flushing{hc.BodyWriter()}
		if err := s.Runner.Record(hc.Context(), id, limits, out); err != nil && !errors.Is(err, context.Canceled) {
			s.Log.Warn("recording", "error", err)
		}
	}}, nil
}

// flushing sends what is written at once.
type flushing struct {
	w interface{ Write([]byte) (int, error) }
}

func (f flushing) Write(b []byte) (int, error) {
	n, err := f.w.Write(b)
	if fl, ok := f.w.(http.Flusher); ok {
		fl.Flush()
	}
	return n, err
}

func (s *Service) journal(ctx context.Context, in *struct {
	Kind  string    `query:"kind" doc:"Only lines of this kind: login, refused, ended, rule, commit, trust, name, reach, record."`
	User  string    `query:"user" doc:"Only lines about this user."`
	Text  string    `query:"text" doc:"Only lines with this text in them."`
	Code  string    `query:"code" doc:"Only lines with this reason, by the codes of docs/reasons.md."`
	With  []string  `query:"with,explode" doc:"Only lines whose reason has this parameter: passage=staff. More than one: all of them."`
	Since time.Time `query:"since" doc:"Only lines from then on."`
	Until time.Time `query:"until" doc:"Only lines before then."`
	Limit int       `query:"limit" default:"100" minimum:"1" maximum:"1000"`
},
) (*body[[]gateway.Event], error) {
	with := map[string]string{}
	for _, p := range in.With {
		name, value, ok := strings.Cut(p, "=")
		if !ok {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("with: %q is no parameter with its value: write passage=staff", p))
		}
		with[name] = value
	}
	records, err := s.Store.Journal(ctx, store.JournalQuery{
		Kind: in.Kind, User: in.User, Text: in.Text, Code: in.Code, With: with, Since: in.Since, Until: in.Until,
		Limit: in.Limit,
	})
	out := make([]gateway.Event, 0, len(records))
	for _, r := range records {
		out = append(out, eventOf(r))
	}
	return answer(out), err
}
