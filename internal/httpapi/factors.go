package httpapi

import (
	"context"
	"encoding/base64"
	"errors"
	"html/template"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/skip2/go-qrcode"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/handover"
	"yellowlantern/internal/app/members"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/fold"
	"yellowlantern/internal/people"
)

// RecoveryCodes are those that somebody was given.
type RecoveryCodes struct {
	Codes []string `json:"recovery-codes" nullable:"false" doc:"Each counts once in place of a code; shown this once."`
}

func (s *Server) factorCalls() {
	m := s.App.Members
	register(s, "GET", "/second-factors", "list-second-factors", "Who has a second factor, and how many recovery codes are left", func(ctx context.Context, in *struct {
		User string `query:"user" doc:"Only this person's."`
	},
	) (*body[[]people.Factor], error) {
		return answered(m.Factors(ctx, in.User))
	})
	register(s, "POST", "/users/{name}/second-factors", "add-second-factor", "Give a person a device that makes codes, by the secret that its maker told", func(ctx context.Context, in *struct {
		Named
		Body members.NewFactor
	},
	) (*body[RecoveryCodes], error) {
		codes, err := m.AddFactor(ctx, in.Name, in.Body)
		return answered(RecoveryCodes{codes}, err)
	})
	register(s, "DELETE", "/users/{name}/second-factors", "forget-second-factors", "Forget a person's second factors, and which of their devices were remembered", func(ctx context.Context, in *Named) (*struct{}, error) {
		return nil, m.ForgetFactors(ctx, in.Name)
	})
	register(s, "POST", "/users/{name}/second-factor-links", "make-second-factor-link", "A link by which a person gets a second factor, once", func(ctx context.Context, in *struct {
		Named
		Body struct {
			Hours int `json:"hours,omitempty" minimum:"0" maximum:"720" doc:"For how long it counts; 48 if not given."`
		}
	},
	) (*body[members.Choice], error) {
		return answered(m.FactorLink(ctx, in.Name, time.Duration(in.Body.Hours)*time.Hour))
	})
	register(s, "POST", "/users/{name}/lost-device", "lost-device", "End a person's sessions, forget their second factors and remembered devices, take back the keys of a device, and make a link for another second factor", func(ctx context.Context, in *struct {
		Named
		Body struct {
			Device string `json:"device,omitempty" maxLength:"63" doc:"Whose keys are taken back, by the name that their list has; not given: none."`
		}
	},
	) (*body[members.Lost], error) {
		return answered(m.LostDevice(ctx, in.Name, in.Body.Device))
	})
}

// factorFor makes a link for whoever fetches a kit, is asked for a second factor and has none; empty: they need none.
func (s *Server) factorFor(ctx context.Context, made handover.Made) string {
	if made.CodePage == "" {
		return ""
	}
	have, err := s.App.Members.Factors(ctx, made.User)
	if err != nil || len(have) > 0 {
		return ""
	}
	c, err := s.App.Members.FactorLink(actor.With(ctx, actor.Actor{Name: "the page of a kit"}), made.User, time.Hour)
	if err != nil {
		return ""
	}
	_, token, _ := strings.Cut(c.URL, members.FactorPath)
	return members.FactorPath + token
}

// factorPage is for phones too, without a script. Before the button it tells nothing: whoever scans mail opens links.
var factorPage = template.Must(template.New("factor").Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1">
<title>Second factor</title>
<style>` + openStyle + `
.codes { font: 20px/1.6 ui-monospace, monospace; columns: 2; list-style: none; padding: 0 } .codes li { margin: 4px 0 } .picture { display: block; margin: 0 auto }
code { font: 18px ui-monospace, monospace; overflow-wrap: anywhere }
</style></head><body>
{{if .Gone}}<h1>This link does not count</h1><p>{{.Gone}}</p>
{{else if .Codes}}<h1>You have a second factor now</h1>
<p>Keep these recovery codes where you find them without your phone. Each counts once in place of a code. They are shown this once.</p>
<ul class="codes">{{range .Codes}}<li>{{.}}</li>{{end}}</ul>
<p><small>Print this page, or write them down.</small></p>
{{else if .Secret}}<h1>Second factor for {{.Site}}</h1>
<p>For <b>{{.User}}</b>. Scan this with an app on your phone that makes codes:</p>
<img class="picture" alt="the key below, as a picture" width="240" height="240" src="{{.Picture}}">
<p><small>On the phone itself: <a href="{{.URI}}">open it in the app</a>, or type this key: <code>{{.Secret}}</code></small></p>
{{with .Wrong}}<p class="banner" role="alert">{{.}}.</p>{{end}}
<form method="post"><label>The code that the app shows now <input name="code" inputmode="numeric" autocomplete="one-time-code" maxlength="16" required autofocus></label>
<button>Take it</button></form>
{{else}}<h1>Set up a second factor</h1>
<p>You need a phone with an app that makes codes by time, and a minute.</p>
<form method="post"><button>Show me the key</button></form>
<p><small>The link works once: press the button when you have the phone at hand.</small></p>
{{end}}</body></html>`))

type factorView struct {
	Gone, Wrong        string
	Site, User, Secret string
	URI, Picture       template.URL
	Codes              []string
}

func (s *Server) factorRoutes(r chi.Router) {
	r.Get(members.FactorPath+"{token}", func(w http.ResponseWriter, r *http.Request) {
		if err := s.App.Members.LookFactor(r.Context(), chi.URLParam(r, "token")); err != nil {
			showFactor(w, http.StatusGone, factorView{Gone: gone(err)})
			return
		}
		showFactor(w, http.StatusOK, factorView{})
	})
	r.Post(members.FactorPath+"{token}", func(w http.ResponseWriter, r *http.Request) {
		ctx, token, code := r.Context(), chi.URLParam(r, "token"), r.PostFormValue("code")
		e, err := s.App.Members.BeginFactor(ctx, token)
		if err != nil {
			showFactor(w, http.StatusGone, factorView{Gone: gone(err)})
			return
		}
		v, status := factorView{Site: e.Site, User: e.User, Secret: grouped(e.Secret.Text())}, http.StatusOK
		uri := e.Secret.URI(e.Site, e.User)
		v.URI = template.URL(uri) // of our own making
		if png, err := qrcode.Encode(uri, qrcode.Medium, 480); err == nil {
			v.Picture = template.URL("data:image/png;base64," + base64.StdEncoding.EncodeToString(png))
		}
		if code != "" {
			from, _ := netip.ParseAddrPort(r.RemoteAddr)
			codes, err := s.App.Members.TakeFactor(ctx, token, code, fold.Addr(from.Addr()))
			var no *refusal.Error
			switch {
			case err == nil:
				v = factorView{Codes: codes}
			case errors.As(err, &no):
				v.Wrong, status = no.Words, http.StatusUnprocessableEntity
			default:
				v, status = factorView{Gone: gone(err)}, http.StatusGone
			}
		}
		showFactor(w, status, v)
	})
}

// grouped is a key as somebody types it: four signs at a time.
func grouped(key string) string {
	var out []string
	for ; len(key) > 4; key = key[4:] {
		out = append(out, key[:4])
	}
	return strings.Join(append(out, key), " ")
}

func showFactor(w http.ResponseWriter, status int, v factorView) {
	private(w)
	h := w.Header()
	h.Set("Content-Security-Policy", h.Get("Content-Security-Policy")+"; img-src data:")
	h.Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(status)
	_ = factorPage.Execute(w, v)
}
