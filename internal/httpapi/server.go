// Package httpapi is the service over HTTP: the API with its OpenAPI document, and the console's files. It reads requests, hands them to
// what the service does, and writes answers; it decides nothing.
package httpapi

import (
	"context"
	"errors"
	"io/fs"
	"log/slog"
	"net/http"
	"net/netip"
	"path"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"yellowlantern/internal/app"
	"yellowlantern/internal/app/computing"
	"yellowlantern/internal/app/handover"
	"yellowlantern/internal/app/members"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/app/trust"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/guard"
)

// Config is what is served, and to whom.
type Config struct {
	App     *app.App
	Console fs.FS // the built console
	Log     *slog.Logger
	// Names are what this service is called, by itself or by a proxy in front; by other names than these and the machine's own it does
	// not answer.
	Names []string
	// Proxies are where proxies in front speak from: of them it is believed where a request comes from, and whether it came by TLS.
	Proxies []netip.Prefix
	// OnlyTLS says that nothing but TLS is spoken under these names, on any port: browsers are told (RFC 6797).
	OnlyTLS bool
}

// Server serves it.
type Server struct {
	Config
	api    huma.API
	router chi.Router
	// openPaths are those of calls that need no signing in.
	openPaths map[string]bool
	strangers *room // bodies of who did not sign in
	calls     *room
	places    *places // of large calls
}

// New prepares a server; Handler serves it.
func New(cfg Config) *Server {
	s := &Server{Config: cfg, openPaths: map[string]bool{}, places: &places{each: largeEach, most: largeMost}}
	s.strangers, s.calls = &room{most: strangersMost, each: strangersEach}, &room{most: callsMost, each: callsEach}
	s.router = chi.NewRouter()
	s.router.Use(guarded, s.logged, secured, s.own, s.located, s.bounded, s.received)
	s.router.Use(http.NewCrossOriginProtection().Handler)
	conf := huma.DefaultConfig("Yellow Lantern", "1")
	conf.DocsPath, conf.OpenAPIPath, conf.SchemasPath = "", "/api/openapi", ""
	conf.CreateHooks = nil
	conf.Components.Schemas = huma.NewMapRegistry("#/components/schemas/", schemaName)
	conf.Info.Description = "Configure client-to-site VPN gateways, and prove and try who reaches what behind them."
	conf.Components.SecuritySchemes = map[string]*huma.SecurityScheme{"token": {Type: "http", Scheme: "bearer"}}
	s.api = humachi.New(s.router, conf)
	s.api.UseMiddleware(s.authenticate)
	for _, routes := range []func(){
		s.accessRoutes, s.planRoutes, s.commitRoutes, s.peopleRoutes, s.proofRoutes, s.trialRoutes, s.diagnosisRoutes, s.watchRoutes, s.trustRoutes, s.authorityRoutes, s.sourceRoutes, s.whoisRoutes,
	} {
		routes()
	}
	complete(s.api.OpenAPI())
	for path, item := range s.api.OpenAPI().Paths {
		if item.Post != nil && open[item.Post.OperationID] {
			s.openPaths[path] = true
		}
	}
	s.describeKinds()
	s.router.Get(trust.ListPath, s.openList)
	s.router.Get(trust.ListPaths, s.openList)
	s.kitRoutes(s.router)
	s.enrolRoutes(s.router)
	s.passwordRoutes(s.router)
	s.factorRoutes(s.router)
	s.forgottenRoutes(s.router)
	s.router.NotFound(s.console)
	return s
}

// describeKinds says in the document what kinds of tunnels bring: in a plan these settings stand among the tunnel's own.
func (s *Server) describeKinds() {
	schemas := s.api.OpenAPI().Components.Schemas
	tunnel := schemas.SchemaFromRef(schemas.Schema(reflect.TypeFor[plan.Tunnel](), true, "").Ref)
	for _, k := range plan.Kinds() {
		if k.Options == nil {
			continue
		}
		for name, property := range schemas.Schema(k.Options, false, "").Properties {
			tunnel.Properties[name] = property
		}
	}
}

// schemaName puts the package before the names of types from elsewhere: several packages have a Change or a Result. What the service does
// has one of each.
func schemaName(t reflect.Type, hint string) string {
	name := huma.DefaultSchemaNamer(t, hint)
	for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice {
		t = t.Elem()
	}
	if pkg := path.Base(t.PkgPath()); t.Name() != "" && strings.HasPrefix(t.PkgPath(), "yellowlantern/") && pkg != "httpapi" &&
		!strings.HasPrefix(t.PkgPath(), "yellowlantern/internal/app/") {
		return strings.ToUpper(pkg[:1]) + pkg[1:] + name
	}
	return name
}

func guarded(next http.Handler) http.Handler { return guard.HTTP("http.call", next) }

// Handler is the service's HTTP interface.
func (s *Server) Handler() http.Handler { return s.router }

// OpenAPI writes the API's document.
func (s *Server) OpenAPI() ([]byte, error) { return s.api.OpenAPI().YAML() }

// logged writes a line for each request of the API: no query, no body, for secrets may be in them.
func (s *Server) logged(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		ww := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		begun := time.Now()
		next.ServeHTTP(ww, r)
		where := r.URL.Path
		for _, link := range []string{handover.LinkPath, members.PasswordPath, members.FactorPath} { // behind it stands a token
			if strings.HasPrefix(where, link) {
				where = link
			}
		}
		s.Log.Debug("request", "method", r.Method, "path", where, "status", ww.Status(), "took", time.Since(begun))
	})
}

// secured sets the headers that keep the console to itself. Vuetify writes its theme into a style element.
func secured(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		if strings.HasPrefix(r.URL.Path, "/api/") {
			h.Set("Cache-Control", "no-store")
		}
		next.ServeHTTP(w, r)
	})
}

func register[I, O any](s *Server, method, path, id, summary string, h func(context.Context, *I) (*O, error)) {
	named(method, path, id, reflect.TypeFor[I]())
	huma.Register(s.api, operation(method, path, id, summary), refusing(legibly(timed(id, func(ctx context.Context, in *I) (*O, error) {
		notes(ctx, in)
		return h(ctx, in)
	}))))
}

// callTime is how long a call may take that everybody may make. What it waits for goes on for a while, and whoever wants it asks again.
const callTime = 30 * time.Second

// timed bounds the time of such calls.
func timed[I, O any](id string, h func(context.Context, *I) (*O, error)) func(context.Context, *I) (*O, error) {
	if !slices.Equal(rights[id].roles, anybody) {
		return h
	}
	return func(ctx context.Context, in *I) (*O, error) {
		ctx, stop := context.WithTimeoutCause(ctx, callTime, computing.ErrCallTime)
		defer stop()
		out, err := h(ctx, in)
		if errors.Is(err, context.DeadlineExceeded) && errors.Is(context.Cause(ctx), computing.ErrCallTime) {
			return nil, &refusal.Error{
				Sort: refusal.Away, Words: "that takes longer than a call may: ask for less of it, by a filter or in parts",
			}
		}
		return out, err
	}
}

func operation(method, path, id, summary string) huma.Operation {
	most, within := bodyOf(id)
	return huma.Operation{
		OperationID: id, Method: method, Path: "/api/v1" + path, Summary: summary, Security: []map[string][]string{{"token": {}}},
		MaxBodyBytes: most, BodyReadTimeout: within,
	}
}

// body wraps a value as an answer.
type body[T any] struct{ Body T }

func answer[T any](v T) *body[T] { return &body[T]{v} }

// answered is an answer, or why there is none.
func answered[T any](v T, err error) (*body[T], error) {
	if err != nil {
		return nil, err
	}
	return answer(v), nil
}

// Named is a call about one thing by its name.
type Named struct {
	Name string `path:"name" maxLength:"64"`
}

// Drafted is a call that may look at a draft.
type Drafted struct {
	Draft string `query:"draft" doc:"Look at this draft in place of the newest revision."`
}

// texted is a call about a document that nobody keeps.
type texted struct {
	Text string `json:"text" lines:"many"`
}

// console serves the built console; every page of it is its index.
func (s *Server) console(w http.ResponseWriter, r *http.Request) {
	if strings.HasPrefix(r.URL.Path, "/api/") {
		http.Error(w, "there is no such call; /api/openapi.yaml lists them", http.StatusNotFound)
		return
	}
	if s.Console == nil {
		http.Error(w, "console not built: run make build", http.StatusServiceUnavailable)
		return
	}
	if _, err := fs.Stat(s.Console, "index.html"); err != nil {
		http.Error(w, "console not built: run make build", http.StatusServiceUnavailable)
		return
	}
	name := r.URL.Path[1:]
	if f, err := fs.Stat(s.Console, name); name != "" && err == nil && !f.IsDir() {
		if strings.HasPrefix(name, "assets/") {
			w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
		}
		http.ServeFileFS(w, r, s.Console, name)
		return
	}
	w.Header().Set("Cache-Control", "no-cache")
	http.ServeFileFS(w, r, s.Console, "index.html")
}
