package httpapi

import (
	"html/template"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/handover"
	"yellowlantern/internal/app/members"
	"yellowlantern/internal/app/trust"
)

// openStyle is what pages for people look like.
const openStyle = `
body { font: 18px/1.5 system-ui, sans-serif; max-width: 36em; margin: 0 auto; padding: 24px; color: #14213d; background: #fff }
button, a.file { display: block; width: 100%; box-sizing: border-box; font: inherit; font-weight: 600; text-align: center; text-decoration: none; padding: 14px; margin: 12px 0; border: 0; border-radius: 4px; background: #14213d; color: #fff }
label { display: block; margin: 12px 0 } input { display: block; width: 100%; box-sizing: border-box; font: inherit; padding: 10px; border: 1px solid #4a5568; border-radius: 4px }
li { margin: 10px 0 } small { color: #4a5568 } .banner { border-left: 4px solid #f5a623; padding-left: 12px }
@media print { a.file, button { display: none } }
`

// kitPage is for phones too, without a script: before the button it tells nothing of the person, for whoever scans mail opens links.
var kitPage = template.Must(template.New("kit").Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1">
<title>{{with .Site}}{{.}}{{else}}Yellow Lantern{{end}}</title>
<style>` + openStyle + `</style></head><body>
{{if .Wrong}}<h1>This link does not count</h1><p>{{.Wrong}}</p>
{{else if .Made}}<h1>{{.Site}}</h1>
{{with .Banner}}<p class="banner">{{.}}</p>{{end}}
{{with .Choose}}<p class="banner">Your password was made for you, and must be changed first. <a href="{{.}}">Choose your own</a></p>{{end}}
<p>For <b>{{.Made.User}}</b>. These files can be fetched for a quarter of an hour; the link itself is used up.</p>
{{with .Enrol}}<p class="banner">You are asked for a second factor when you connect, and have none yet. <a href="{{.}}">Get one</a> first: you need your phone.</p>{{end}}
{{range .Files}}<a class="file" href="{{.Href}}" download>{{.Name}}</a>{{end}}
<ol>{{range .Made.Steps}}<li>{{.}}</li>{{end}}</ol>
<p><small>{{if .Made.Key}}A key for this device alone is in it: delete the file once it is installed.{{else if .Made.Shared}}The key that proves who you are is in it: keep it to yourself.{{else}}Your password is not in it.{{end}} Keep this page open, or print it, until you are connected.</small></p>
{{else}}<h1>{{.Site}}</h1>
<p>What a device needs to connect: <b>{{.Platform}}</b>.</p>
<form method="post"><button>Show it to me</button></form>
<p><small>The link works once: press the button on the device that is to connect.</small></p>
{{end}}</body></html>`))

type kitView struct {
	Site, Platform, Banner, Wrong string
	Made                          *handover.Made
	Files                         []kitFile
	Enrol                         string // where they get a second factor; empty: they need not
	Choose                        string // where the person chooses a password; empty: they need not
}

type kitFile struct{ Name, Href string }

func (s *Server) kitRoutes(r chi.Router) {
	r.Get(handover.LinkPath+"{token}", func(w http.ResponseWriter, r *http.Request) {
		site, platform, err := s.App.Handover.Look(r.Context(), chi.URLParam(r, "token"))
		if err != nil {
			showKit(w, http.StatusGone, kitView{Wrong: handover.ErrLink.Error()})
			return
		}
		showKit(w, http.StatusOK, kitView{Site: site, Platform: platform})
	})
	r.Post(handover.LinkPath+"{token}", func(w http.ResponseWriter, r *http.Request) {
		made, key, err := s.App.Handover.Open(r.Context(), chi.URLParam(r, "token"), r.RemoteAddr)
		if err != nil {
			showKit(w, http.StatusGone, kitView{Wrong: handover.ErrLink.Error()})
			return
		}
		v := kitView{Site: made.Site, Banner: made.Banner, Made: &made}
		v.Enrol = s.factorFor(r.Context(), made)
		u, err := s.App.Members.User(r.Context(), made.User)
		if err == nil && u.MustChange && !made.Key && !made.Shared && made.Password == "" {
			c, err := s.App.Members.PasswordLink(actor.With(r.Context(), actor.Actor{Name: "the page of a kit"}), made.User, time.Hour)
			if err == nil {
				_, token, _ := strings.Cut(c.URL, members.PasswordPath)
				v.Choose = members.PasswordPath + token
			}
		}
		for _, f := range made.Files {
			v.Files = append(v.Files, kitFile{f.Name, handover.LinkPath + "file/" + key + "/" + url.PathEscape(f.Name)})
		}
		showKit(w, http.StatusOK, v)
	})
	r.Get(handover.LinkPath+"file/{key}/{name}", func(w http.ResponseWriter, r *http.Request) {
		name, err := url.PathUnescape(chi.URLParam(r, "name"))
		kind, data, ok := s.App.Handover.Fetched(r.Context(), chi.URLParam(r, "key"), name)
		if err != nil || !ok {
			showKit(w, http.StatusGone, kitView{Wrong: handover.ErrLink.Error()})
			return
		}
		private(w)
		w.Header().Set("Content-Type", kind)
		w.Header().Set("Content-Disposition", "attachment; filename=\""+name+"\"")
		_, _ = w.Write(data)
	})
}

// private keeps what a link opens out of caches, and scripts and strangers off the page.
func private(w http.ResponseWriter) {
	h := w.Header()
	h.Set("Cache-Control", "no-store")
	h.Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; form-action 'self'; frame-ancestors 'none'; base-uri 'none'")
	h.Set("X-Robots-Tag", "noindex")
}

func showKit(w http.ResponseWriter, status int, v kitView) {
	private(w)
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(status)
	_ = kitPage.Execute(w, v)
}

// Kits serves what people and their devices need without an account, and nothing else: pages of kits, renewals of certificates, calls
// of enrolled probes, the revocation list. It answers by one name alone.
func (s *Server) Kits(host func() string) http.Handler {
	r := chi.NewRouter()
	r.Use(guarded, s.logged, secured, calledOnly(host), s.located, s.bounded, s.received)
	r.Use(http.NewCrossOriginProtection().Handler)
	s.kitRoutes(r)
	s.enrolRoutes(r)
	s.passwordRoutes(r)
	s.factorRoutes(r)
	s.forgottenRoutes(r)
	r.Get(trust.ListPath, s.openList)
	r.Get(trust.ListPaths, s.openList)
	for _, path := range []string{"/api/v1/renewals", "/api/v1/probes/enrol", "/api/v1/probes/calls"} {
		r.Post(path, func(w http.ResponseWriter, r *http.Request) {
			inside := r.Clone(r.Context())
			inside.Host = "localhost" // it was called rightly here
			s.router.ServeHTTP(w, inside)
		})
	}
	r.NotFound(func(w http.ResponseWriter, _ *http.Request) {
		http.Error(w, "there is nothing here: use the link that you were given", http.StatusNotFound)
	})
	return r
}

// calledOnly answers by one name.
func calledOnly(host func() string) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			asked := r.Host
			if h, _, err := net.SplitHostPort(asked); err == nil {
				asked = h
			}
			if !strings.EqualFold(strings.TrimSuffix(asked, "."), host()) {
				http.Error(w, "nobody is called that here", http.StatusMisdirectedRequest)
				return
			}
			next.ServeHTTP(w, r)
		})
	}
}
