package httpapi

import (
	"errors"
	"html/template"
	"net/http"
	"net/netip"

	"github.com/go-chi/chi/v5"

	"yellowlantern/internal/app/members"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/fold"
	"yellowlantern/internal/core/password"
)

// passwordPage is for phones too, without a script. It tells nobody whose link it is: whoever scans mail opens links.
var passwordPage = template.Must(template.New("password").Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1">
<title>Choose a password</title>
<style>` + openStyle + `</style></head><body>
{{if .Gone}}<h1>This link does not count</h1><p>{{.Gone}}</p>
{{else if .Done}}<h1>It is your password now</h1><p>Use it for the connection from now on. A device that keeps the former one asks for it, or wants it changed in its settings.</p>
{{else}}<h1>Choose a password</h1>
{{with .Wrong}}<p class="banner" role="alert">{{.}}.</p>{{end}}
<form method="post">
<label>Password <input name="password" type="password" autocomplete="new-password" minlength="{{.Least}}" maxlength="256" required autofocus></label>
<label>The same once more <input name="again" type="password" autocomplete="new-password" maxlength="256" required></label>
<button>Take this password</button></form>
<p><small>At least {{.Least}} characters: four unrelated words are easy to keep in mind. The link works once.</small></p>
{{end}}</body></html>`))

type passwordView struct {
	Gone, Wrong string
	Done        bool
	Least       int
}

func (s *Server) passwordRoutes(r chi.Router) {
	r.Get(members.PasswordPath+"{token}", func(w http.ResponseWriter, r *http.Request) {
		if _, err := s.App.Members.Chooser(r.Context(), chi.URLParam(r, "token")); err != nil {
			showPassword(w, http.StatusGone, passwordView{Gone: gone(err)})
			return
		}
		showPassword(w, http.StatusOK, passwordView{})
	})
	r.Post(members.PasswordPath+"{token}", func(w http.ResponseWriter, r *http.Request) {
		first, again := r.PostFormValue("password"), r.PostFormValue("again")
		if first != again {
			showPassword(w, http.StatusUnprocessableEntity, passwordView{Wrong: "the two are not the same"})
			return
		}
		from, _ := netip.ParseAddrPort(r.RemoteAddr)
		err := s.App.Members.Choose(r.Context(), chi.URLParam(r, "token"), first, fold.Addr(from.Addr()))
		var no *refusal.Error
		switch {
		case err == nil:
			showPassword(w, http.StatusOK, passwordView{Done: true})
		case errors.As(err, &no):
			showPassword(w, http.StatusUnprocessableEntity, passwordView{Wrong: no.Words})
		default:
			showPassword(w, http.StatusGone, passwordView{Gone: gone(err)})
		}
	})
}

// gone tells no stranger what is wrong with the service.
func gone(err error) string {
	if errors.Is(err, members.ErrChoice) {
		return "Either " + err.Error() + "."
	}
	return "The service cannot look it up just now: try again in a moment."
}

func showPassword(w http.ResponseWriter, status int, v passwordView) {
	v.Least = password.Least
	private(w)
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(status)
	_ = passwordPage.Execute(w, v)
}
