// Package service is the long-running service: the HTTP API with its OpenAPI document, signing in, drafts and commits,
// and the console's files. It decides; the gateway carries out. What it needs of the gateway and of the surroundings is
// declared here as small interfaces, and wired by cmd.
package service

import (
	"context"
	"io"
	"io/fs"
	"log/slog"
	"net/http"
	"net/netip"
	"path"
	"reflect"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"yellowlantern/internal/core/forward"
	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/site"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/people"
	"yellowlantern/internal/store"
)

// Runner is the running gateway.
type Runner interface {
	// Apply makes a plan what runs, at once, and gives the users whose sessions it had to end.
	Apply(gateway.Settings) (ended []string, err error)
	Sessions() []gateway.Session
	Pools() []gateway.Pool
	Status() gateway.Status
	Inside() inside.Observed
	End(id uint64, why reason.Reason) error
	// Written waits until every event so far is in the journal, or the context ends.
	Written(ctx context.Context)
	// Stop ends every session, and admits nobody until something is applied again.
	Stop()
	Flows(match func(user string) bool, peer netip.Addr, service string, most int) []forward.Flow
	Record(ctx context.Context, id uint64, limits gateway.RecordLimits, w io.Writer) error
}

// Vantage is a place that a probe can try from, where the service knows of any.
type Vantage struct {
	Name  string         `json:"name"`
	About string         `json:"about"`
	Link  netip.AddrPort `json:"link" doc:"UDP address on loopback that carries the home network's packets."`
}

// Config is what a service is started with.
type Config struct {
	Store    *store.Store
	People   *people.People
	Runner   Runner
	Vantages []Vantage
	Console  fs.FS // the built console
	Log      *slog.Logger
	// KeepJournal is for how long lines of the journal are kept; 0: for ever.
	KeepJournal time.Duration
	// OutsideAddresses finds the machine's public addresses towards a name server; nil: as nameupdate does.
	OutsideAddresses func(server string) ([]netip.Addr, error)
	// Webhook is told of events that somebody should look at; nil: nobody is.
	Webhook *Webhook
	// SetupCode must be told to name the first administrator.
	SetupCode string
	// Names are what a proxy in front calls this service; by other names than these and the machine's own it does not answer.
	Names []string
}

// mostBody is how large a request may be: a plan of its largest size, written as a JSON string, in which every other character may be
// escaped.
const mostBody = 2*plan.MaxSize + 1<<20

// Service is the running service.
type Service struct {
	Config
	commits     sync.Mutex     // one commit at a time
	attempts    people.Guesses // of administrators' passwords
	turns       turns
	credentials credentials
	outside     outsideKeeper
	docs        documents
	known       atomic.Pointer[reach.Known] // what was computed last: most of it holds after an edit
	// outsideOf is the gateway of the newest revision, for the one goroutine of Keep.
	outsideOf struct {
		number  int
		gateway *plan.Gateway
	}
	goesBack *time.Timer       // of the revision on trial; guarded by commits
	ran      *gateway.Settings // what runs; nil: nothing does. Guarded by commits
	runs     atomic.Pointer[Running]

	roundUnderWay sync.Mutex // one round at a time
	live          live
	verdicts      verdicts
	viewers       watching
	hook          hook
	running       context.Context // until the service closes
	shut          context.CancelFunc
	background    sync.WaitGroup // rounds, and what hears of events

	api    huma.API
	router chi.Router
}

// New prepares a service; Handler serves it.
func New(cfg Config) *Service {
	s := &Service{Config: cfg}
	s.running, s.shut = context.WithCancel(context.Background())
	s.startHook()
	s.router = chi.NewRouter()
	s.router.Use(middleware.Recoverer, s.logged, secured, s.own, s.located, middleware.RequestSize(mostBody))
	s.router.Use(http.NewCrossOriginProtection().Handler)
	conf := huma.DefaultConfig("Yellow Lantern", "1")
	conf.DocsPath, conf.OpenAPIPath, conf.SchemasPath = "", "/api/openapi", ""
	conf.CreateHooks = nil
	conf.Components.Schemas = huma.NewMapRegistry("#/components/schemas/", schemaName)
	conf.Info.Description = "Configure client-to-site VPN gateways, and prove and try who reaches what behind them."
	conf.Components.SecuritySchemes = map[string]*huma.SecurityScheme{"token": {Type: "http", Scheme: "bearer"}}
	s.api = humachi.New(s.router, conf)
	s.api.UseMiddleware(s.authenticate)
	s.routes()
	s.router.Get(listPath, s.openList)
	s.router.NotFound(s.console)
	return s
}

// schemaName puts the package before the names of types from elsewhere: several packages have a Change or a Result.
func schemaName(t reflect.Type, hint string) string {
	name := huma.DefaultSchemaNamer(t, hint)
	for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice {
		t = t.Elem()
	}
	if pkg := path.Base(t.PkgPath()); t.Name() != "" && strings.HasPrefix(t.PkgPath(), "yellowlantern/") && pkg != "service" {
		return strings.ToUpper(pkg[:1]) + pkg[1:] + name
	}
	return name
}

// compute works out a model, and takes over what is known of the one before.
func (s *Service) compute(m *site.Model, persons []reach.Person) *reach.Known {
	known := s.known.Load().Again(m, persons)
	s.known.Store(known)
	return known
}

// Handler is the service's HTTP interface.
func (s *Service) Handler() http.Handler { return s.router }

// OpenAPI writes the API's document.
func (s *Service) OpenAPI() ([]byte, error) { return s.api.OpenAPI().YAML() }

func (s *Service) routes() {
	s.authRoutes()
	s.planRoutes()
	s.objectRoutes()
	s.peopleRoutes()
	s.proofRoutes()
	s.dependsRoutes()
	s.reportRoutes()
	s.nextRoutes()
	s.roundRoutes()
	s.diagnoseRoutes()
	s.scheduleRoutes()
	s.watchRoutes()
	s.metricsRoute()
	s.trustRoutes()
	s.sharedRoutes()
	s.outsideRoutes()
	s.slowedRoutes()
}

// logged writes a line for each request of the API: no query, no body, for secrets may be in them.
func (s *Service) logged(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		ww := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		begun := time.Now()
		next.ServeHTTP(ww, r)
		s.Log.Debug("request", "method", r.Method, "path", r.URL.Path, "status", ww.Status(), "took", time.Since(begun))
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

// Journal writes a line; a journal that cannot be written is told in the log.
func (s *Service) Journal(e gateway.Event) {
	if err := s.write(e); err != nil {
		s.Log.Error("journal", "error", err)
	}
}

// admitPatience is for how long a login waits to be recorded, within the time that a login may take.
const admitPatience = 25 * time.Second

// Admit records a login that is about to be let in; one that cannot be recorded is not.
func (s *Service) Admit(e gateway.Event) error {
	return patiently(admitPatience, func() error { return s.write(e) })
}

// eventPatience is for how long the gateway's events wait to be written while the database is somebody else's. They queue meanwhile.
const eventPatience = time.Minute

// Event writes what the gateway tells of.
func (s *Service) Event(e gateway.Event) {
	if err := patiently(eventPatience, func() error { return s.write(e) }); err != nil {
		s.Log.Error("journal", "error", err)
	}
}

// patiently tries again for a while what the storage may do in a moment.
func patiently(most time.Duration, do func() error) error {
	for begun := time.Now(); ; {
		err := do()
		if t := store.TroubleOf(err); t == nil || !t.Later || time.Since(begun) > most {
			return err
		}
	}
}

// write writes a line and tells who looks on. Of identities made for trials nothing is written: their reports say it all, and a schedule
// would fill the journal.
func (s *Service) write(e gateway.Event) error {
	if people.IsTester(e.User) {
		return nil
	}
	rec := store.JournalEntry{
		At: e.Time.UTC(), Kind: e.Kind, Gateway: e.Gateway, User: e.User, From: e.From, Words: e.Words, Reason: string(e.Code), With: paramsOf(e.Reason),
	}
	if err := s.Store.AddJournal(context.Background(), rec); err != nil {
		return err
	}
	s.viewers.tell(e)
	s.hook.tell(e)
	s.Log.Info("journal", "kind", e.Kind, "user", e.User, "from", e.From, "code", e.Code, "with", e.With, "words", e.Words)
	return nil
}

func register[I, O any](s *Service, method, path, id, summary string, h func(context.Context, *I) (*O, error)) {
	huma.Register(s.api, huma.Operation{
		OperationID: id, Method: method, Path: "/api/v1" + path, Summary: summary,
		Security: []map[string][]string{{"token": {}}}, MaxBodyBytes: mostBody,
	}, legibly(h))
}

// body wraps a value as an answer.
type body[T any] struct{ Body T }

func answer[T any](v T) *body[T] { return &body[T]{v} }

// console serves the built console; every page of it is its index.
func (s *Service) console(w http.ResponseWriter, r *http.Request) {
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
