package httpapi

import (
	"html/template"
	"net/http"
	"net/netip"

	"github.com/go-chi/chi/v5"

	"yellowlantern/internal/app/members"
	"yellowlantern/internal/core/fold"
)

// forgottenPage says the same whoever asks, and whatever for.
var forgottenPage = template.Must(template.New("forgotten").Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1">
<title>Forgotten password</title>
<style>` + openStyle + `</style></head><body>
{{if .Off}}<h1>Ask your administrator</h1><p>Here nobody is sent another password by mail: your administrator can make you a link by which you choose one.</p>
{{else if .Asked}}<h1>Look into your mail</h1><p>If you come in with a password that is kept here, and a mail address of yours is known, a link is on its way. It counts for an hour. Nothing comes? Ask your administrator.</p>
{{else}}<h1>Forgotten your password?</h1>
<form method="post"><label>Your user name <input name="user" autocomplete="username" autocapitalize="none" maxlength="64" required autofocus></label>
<button>Send me a link</button></form>
<p><small>It goes to the mail address that your administrator has of you.</small></p>
{{end}}</body></html>`))

type forgottenView struct{ Off, Asked bool }

func (s *Server) forgottenRoutes(r chi.Router) {
	show := func(w http.ResponseWriter, v forgottenView) {
		private(w)
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		v.Off = !s.App.Members.HelpsByMail()
		_ = forgottenPage.Execute(w, v)
	}
	r.Get(members.ForgottenPath, func(w http.ResponseWriter, _ *http.Request) { show(w, forgottenView{}) })
	r.Post(members.ForgottenPath, func(w http.ResponseWriter, r *http.Request) {
		r.Body = http.MaxBytesReader(w, r.Body, 4<<10)
		from, _ := netip.ParseAddrPort(r.RemoteAddr)
		s.App.Members.Forgotten(r.PostFormValue("user"), fold.Addr(from.Addr()))
		show(w, forgottenView{Asked: true})
	})
}
