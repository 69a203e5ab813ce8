package httpapi

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/danielgtaylor/huma/v2/sse"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"yellowlantern/internal/app/journal"
	"yellowlantern/internal/app/standing"
	"yellowlantern/internal/app/watching"
	"yellowlantern/internal/core/forward"
	"yellowlantern/internal/core/ledger"
	"yellowlantern/internal/gateway"
)

// recording is what a recording is asked for with.
type recording struct {
	ID       string   `path:"id" doc:"A session, or a user who has one."`
	Seconds  int      `query:"seconds" default:"30" minimum:"1" maximum:"600"`
	Octets   int64    `query:"octets" default:"10000000" minimum:"1000" maximum:"100000000"`
	Stations []string `query:"stations" doc:"tunnel, inside; none: both."`
}

func (s *Server) watchRoutes() {
	w := s.App.Watching
	register(s, "GET", "/sessions", "list-sessions", "Live sessions", func(_ context.Context, in *struct {
		Traffic bool `query:"traffic" doc:"With what each carried in the last two minutes."`
	},
	) (*body[[]watching.LiveSession], error) {
		return answer(w.Sessions(in.Traffic)), nil
	})
	register(s, "DELETE", "/sessions/{id}", "end-session", "End a live session", func(ctx context.Context, in *struct {
		ID string `path:"id"`
	},
	) (*struct{}, error) {
		return nil, w.End(ctx, in.ID)
	})
	register(s, "DELETE", "/sessions", "end-sessions", "End all live sessions of a user", func(ctx context.Context, in *struct {
		User string `query:"user" required:"true" minLength:"1"`
	},
	) (*body[Ended], error) {
		n, err := w.EndOf(ctx, in.User)
		return answered(Ended{n}, err)
	})
	register(s, "GET", "/sessions/past", "past-sessions", "Sessions that ended, the newest first", func(ctx context.Context, in *struct {
		User  string `query:"user" doc:"Only of this user."`
		Limit int    `query:"limit" default:"100" minimum:"1" maximum:"1000"`
	},
	) (*body[[]watching.PastSession], error) {
		return answered(w.Past(ctx, in.User, in.Limit))
	})
	register(s, "GET", "/flows", "flows", "Live flows with their counters", func(_ context.Context, in *struct {
		User    string `query:"user" doc:"Only of this user."`
		Peer    string `query:"peer" doc:"Only with this address at the other end."`
		Service string `query:"service" doc:"Only of this service, as tcp/443."`
		Limit   int    `query:"limit" default:"100" minimum:"1" maximum:"10000"`
	},
	) (*body[[]forward.Flow], error) {
		return answered(w.Flows(in.User, in.Peer, in.Service, in.Limit))
	})
	register(s, "GET", "/pools", "list-pools", "What the running plan's pools have leased, what is kept, and what is free", func(_ context.Context, in *struct {
		Filter string `query:"filter" doc:"Part of a pool's name, a holder's, or an address."`
	},
	) (*body[[]gateway.Pool], error) {
		return answer(w.Pools(in.Filter)), nil
	})
	register(s, "GET", "/standing", "standing", "Whether people can get in, point by point, with what to do where they cannot", func(ctx context.Context, _ *struct{}) (*body[[]standing.Point], error) {
		return answer(s.App.Standing.Look(ctx)), nil
	})
	register(s, "POST", "/outside/mirror", "ask-mirror", "Ask a mirror elsewhere which address it sees, and whether it gets in", func(ctx context.Context, in *struct {
		Body struct {
			Mirror string `json:"mirror" doc:"Its address and port, as 203.0.113.80:8743."`
			Token  string `json:"token" doc:"What it printed; good for once."`
		}
	},
	) (*body[standing.Evidence], error) {
		return answered(s.App.Standing.AskMirror(ctx, in.Body.Mirror, in.Body.Token))
	})
	register(s, "GET", "/outside", "outside", "Whether the dialled name leads to where the gateway is", func(context.Context, *struct{}) (*body[watching.Outside], error) {
		return answer(w.Outside()), nil
	})
	register(s, "GET", "/journal", "journal", "Lines of the journal, newest first", func(ctx context.Context, in *struct {
		Kind  string    `query:"kind" doc:"Only lines of this kind: login, refused, ended, rule, commit, trust, name, reach, record, machine, equipment, change."`
		User  string    `query:"user" doc:"Only lines about this user."`
		Text  string    `query:"text" doc:"Only lines with this text in them."`
		Code  string    `query:"code" doc:"Only lines with this reason, by the codes of docs/reasons.md."`
		With  []string  `query:"with,explode" doc:"Only lines whose reason has this parameter: passage=staff. More than one: all of them."`
		Since time.Time `query:"since" doc:"Only lines from then on."`
		Until time.Time `query:"until" doc:"Only lines before then."`
		Limit int       `query:"limit" default:"100" minimum:"1" maximum:"1000"`
	},
	) (*body[[]gateway.Event], error) {
		return answered(s.App.Journal.Find(ctx, journal.Query(*in)))
	})
	register(s, "GET", "/journal/lines", "journal-lines", "Lines of the journal in order, as they are chained by hashes", func(ctx context.Context, in *struct {
		After uint64 `query:"after" maximum:"9007199254740992" doc:"Only lines after that one."`
		Limit int    `query:"limit" default:"1000" minimum:"1" maximum:"5000"`
	},
	) (*body[journal.Chained], error) {
		return answered(s.App.Journal.Chained(ctx, in.After, in.Limit))
	})
	register(s, "GET", "/journal/head", "journal-head", "The newest line's hash, signed: kept elsewhere it shows whether the journal was rewritten", func(ctx context.Context, _ *struct{}) (*body[ledger.Head], error) {
		return answered(s.App.Journal.Head(ctx))
	})
	huma.Register(s.api, operation("GET", "/sessions/{id}/recording", "record-session",
		"Record a session's packets as pcapng, until a limit is reached"),
		refusing(func(_ context.Context, in *recording) (*huma.StreamResponse, error) {
			r, err := w.Record(in.ID, in.Stations, in.Octets, time.Duration(in.Seconds)*time.Second)
			if err != nil {
				return nil, err
			}
			return &huma.StreamResponse{Body: func(hc huma.Context) {
				hc.SetHeader("Content-Type", "application/x-pcapng")
				hc.SetHeader("Content-Disposition", `attachment; filename="session.pcapng"`)
				r.To(hc.Context(), flushing{hc.BodyWriter()})
			}}, nil
		}))
	sse.Register(s.api, operation("GET", "/watch", "watch", "Live sessions every two seconds, and journal lines as they are written"),
		map[string]any{"sessions": watching.Sessions{}, "journal": gateway.Event{}}, func(ctx context.Context, in *struct {
			Filter string `query:"filter" maxLength:"256" doc:"Only sessions with this text in user, group, passage, tunnel, device or an address."`
		}, send sse.Sender,
		) {
			w.Stream(ctx, in.Filter, send.Data)
		})
	s.metricsRoute()
}

// metricsRoute serves metrics in the format that the monitoring system asks for, to whoever has a token.
func (s *Server) metricsRoute() {
	registry := prometheus.NewRegistry()
	registry.MustRegister(s.App.Watching.Metrics())
	h := promhttp.HandlerFor(registry, promhttp.HandlerOpts{})
	huma.Register(s.api, operation("GET", "/metrics", "metrics", "Metrics in Prometheus' text format"),
		func(context.Context, *struct{}) (*huma.StreamResponse, error) {
			return &huma.StreamResponse{Body: func(ctx huma.Context) {
				r, w := humachi.Unwrap(ctx)
				h.ServeHTTP(w, r)
			}}, nil
		})
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
