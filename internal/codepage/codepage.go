// Package codepage serves the page on which people of held sessions give their second factor, through the tunnel: a TCP/IP stack in user
// space at the page's own addresses, and on it HTTP over TLS. Who has an address, and whether a code is right, is left to the gateway.
package codepage

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"log"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"yellowlantern/internal/core/fold"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/doors"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/guard"
	"yellowlantern/internal/userstack"
)

const (
	// mtu fits the smallest tunnel (RFC 8200 §5).
	mtu = 1280
	// mostOpen bounds connections of everybody, mostEach of one address.
	mostOpen, mostEach = 512, 8
	mostForm           = 4 << 10 // octets
	// judgeTime is for whoever keeps people, who may be starting again; mailTime for a mail server.
	judgeTime = 6 * time.Second
	mailTime  = 15 * time.Second
)

// Server serves one page.
type Server struct {
	page  gateway.Page
	stack *userstack.Stack
	http  []*http.Server
}

// Open begins to serve a page.
func Open(p gateway.Page) (gateway.PageServer, error) {
	stack, err := userstack.New(p.Addresses, mtu, p.Send)
	if err != nil {
		return nil, err
	}
	s := &Server{page: p, stack: stack}
	pages := &http.Server{
		Handler: guard.HTTP("codepage.page", http.NewCrossOriginProtection().Handler(http.HandlerFunc(s.serve))), ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 20 * time.Second, WriteTimeout: 40 * time.Second,
		IdleTimeout: 20 * time.Second, MaxHeaderBytes: 8 << 10, ErrorLog: log.New(io.Discard, "", 0),
		TLSConfig: &tls.Config{MinVersion: tls.VersionTLS12, Certificates: []tls.Certificate{{
			Certificate: p.Certificate.Chain, PrivateKey: p.Certificate.Key,
		}}},
	}
	// Whoever types the name alone comes here first.
	plain := &http.Server{
		Handler: http.RedirectHandler("https://"+p.Name+"/", http.StatusFound), ReadHeaderTimeout: 5 * time.Second, ReadTimeout: 5 * time.Second,
		WriteTimeout: 5 * time.Second, MaxHeaderBytes: 4 << 10, ErrorLog: log.New(io.Discard, "", 0),
	}
	s.http = []*http.Server{pages, plain}
	for _, a := range p.Addresses {
		secure, err := s.listen(a, 443)
		if err == nil {
			guard.Go("codepage.tls", func() { _ = pages.ServeTLS(secure, "", "") })
			var open net.Listener
			if open, err = s.listen(a, 80); err == nil {
				guard.Go("codepage.plain", func() { _ = plain.Serve(open) })
			}
		}
		if err != nil {
			s.Close()
			return nil, fmt.Errorf("at %s: %w", a, err)
		}
	}
	return s, nil
}

func (s *Server) listen(a netip.Addr, port uint16) (net.Listener, error) {
	l, err := s.stack.ListenTCP(netip.AddrPortFrom(a, port))
	if err != nil {
		return nil, err
	}
	return doors.Bounded(l, mostOpen, mostEach), nil
}

// Take implements gateway.PageServer.
func (s *Server) Take(packet []byte) { s.stack.Inject(packet) }

// Close implements gateway.PageServer.
func (s *Server) Close() {
	for _, h := range s.http {
		_ = h.Close()
	}
	s.stack.Close()
}

// page is for phones too. It works without a script, but for security keys.
var page = template.Must(template.New("code").Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1">
<title>{{if .Free}}Connected{{else}}Second factor{{end}}</title>
<style>
body { font: 18px/1.5 system-ui, sans-serif; max-width: 32em; margin: 0 auto; padding: 24px; color: #14213d; background: #fff }
button { display: block; width: 100%; box-sizing: border-box; font: inherit; font-weight: 600; padding: 14px; margin: 12px 0; border: 0; border-radius: 4px; background: #14213d; color: #fff }
label { display: block; margin: 12px 0 } input { display: block; width: 100%; box-sizing: border-box; font: inherit; font-size: 24px; letter-spacing: 2px; padding: 10px; border: 1px solid #4a5568; border-radius: 4px }
input.name { font-size: 18px; letter-spacing: 0 } [hidden] { display: none } button.other { background: #fff; color: #14213d; border: 1px solid #4a5568 } small { color: #4a5568 } .banner { border-left: 4px solid #f5a623; padding-left: 12px } .wrong { border-left: 4px solid #b3261e; padding-left: 12px }
</style></head><body>
{{if .Gone}}<h1>Nobody is connected here</h1><p>This page is for devices that are connected to {{.Site}}. Connect, and open it again.</p>
{{else if .Free}}<h1>You are connected</h1>{{with .Banner}}<p class="banner">{{.}}</p>{{end}}
<p><b>{{.User}}</b> may use {{.Site}} from this device now.</p>
{{else}}<div id="held"><h1>{{.Site}}</h1>{{with .Banner}}<p class="banner">{{.}}</p>{{end}}
<p>This device is connected as <b>{{.User}}</b>. One step is left: until it is done, nothing else can be reached.</p>
{{with .Wrong}}<p class="wrong" role="alert">{{.}}</p>{{end}}
<form method="post"><label>Code <input id="code" name="code" inputmode="numeric" autocomplete="one-time-code" autocapitalize="characters" maxlength="32" required autofocus></label>
<button>Go on</button></form>
<p><small>Six digits from your app, or one of your recovery codes. Each works once.</small></p>
{{with .Sent}}<p class="banner" role="status">{{.}}</p>{{end}}
{{if .Mail}}<form method="post"><input type="hidden" name="mail" value="yes"><button class="other">Send me a code by mail</button></form>{{end}}
<form id="key" hidden><button class="other">Use a security key</button></form>
<form id="add" hidden><details><summary>Add a security key</summary><label>What is it called? <input class="name" name="name" maxlength="64" value="my security key" required></label>
<button class="other">Add it, and go on</button><p><small>Type a code above first. From the next time on the key is enough.</small></p></details></form>
<p id="key-says" class="wrong" role="alert" hidden></p><p id="without" hidden><a href="/">Go on without a security key</a></p></div>
<div id="free" hidden><h1>You are connected</h1>{{with .Banner}}<p class="banner">{{.}}</p>{{end}}<p><b>{{.User}}</b> may use {{.Site}} from this device now.</p>
<p id="key-added" class="banner" hidden>The security key is added: it is enough from the next time on.</p></div>
{{end}}<script src="/key.js" defer></script></body></html>`))

type view struct {
	Site, User, Banner, Wrong string
	Sent                      string
	Gone, Free, Mail          bool
}

func (s *Server) serve(w http.ResponseWriter, r *http.Request) {
	h := w.Header()
	h.Set("Cache-Control", "no-store")
	h.Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; script-src 'self'; connect-src 'self'; form-action 'self'; frame-ancestors 'none'; base-uri 'none'")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("Content-Type", "text/html; charset=utf-8")
	h.Set("Connection", "close") // whoever has the address next is somebody else
	if r.URL.Path == "/key.js" {
		h.Set("Content-Type", "text/javascript; charset=utf-8")
		_, _ = w.Write(script)
		return
	}
	v := view{Site: s.page.Site}
	status := http.StatusOK
	from, err := netip.ParseAddrPort(r.RemoteAddr)
	who, known := s.page.Visitor(fold.Addr(from.Addr()))
	switch {
	case err != nil || !known:
		v.Gone, status = true, http.StatusForbidden
	case r.URL.Path == "/key":
		s.key(w, r, who)
		return
	case r.Method != http.MethodPost:
		if who.Go != nil && r.URL.Path == "/" {
			who.Go()
			who.Held = false
		}
		v.User, v.Banner, v.Free, v.Mail = who.User, who.Banner, !who.Held, who.Mail != nil
	default:
		v.User, v.Banner, v.Mail = who.User, who.Banner, who.Mail != nil
		v.Sent, v.Wrong, status = s.take(w, r, who)
		v.Free = v.Wrong == "" && v.Sent == ""
	}
	if strings.Contains(r.Header.Get("Accept"), "application/json") { // yl probe
		h.Set("Content-Type", "application/json")
		w.WriteHeader(status)
		_ = json.NewEncoder(w).Encode(map[string]any{"held": !v.Free, "wrong": v.Wrong})
		return
	}
	w.WriteHeader(status)
	_ = page.Execute(w, v)
}

// take takes a code, or has one sent, and says what is wrong; both empty: nothing is.
func (s *Server) take(w http.ResponseWriter, r *http.Request, who gateway.Visitor) (sent, wrong string, status int) {
	r.Body = http.MaxBytesReader(w, r.Body, mostForm)
	if r.ParseForm() != nil {
		return "", "That could not be read: type the code once more.", http.StatusBadRequest
	}
	patience := judgeTime
	byMail := r.PostForm.Get("mail") != "" && who.Mail != nil
	if byMail {
		patience = mailTime
	}
	ctx, stop := context.WithTimeout(r.Context(), patience)
	defer stop()
	if byMail {
		if o := who.Mail(ctx); o.Why.Code != reason.CodeMailed {
			return "", words(o), http.StatusForbidden
		}
		return "A code is on its way to your mail address. It counts for ten minutes.", "", http.StatusOK
	}
	o := who.Give(ctx, r.PostForm.Get("code"))
	if o.OK {
		return "", "", http.StatusOK
	}
	return "", words(o), http.StatusForbidden
}

// words tell somebody about their code. They know their password: what is wrong may be said.
func words(o login.Outcome) string {
	switch o.Why.Code {
	case reason.NoFactor:
		return "There is no second factor for you yet: ask your administrator for a link by which you get one."
	case reason.CodeNotMailed:
		return "No code was sent: " + o.Why.With[reason.Error] + "."
	case reason.NoSecurityKey:
		return "No security key of yours is known here: type a code, and add one beside it."
	case reason.SecurityKeyWrong:
		return "The security key does not count: " + o.Why.With[reason.Error] + "."
	case reason.CodeUsed:
		return "That code was used already: wait for the next one."
	case reason.CodeWaits:
		return "Too many wrong codes: wait a while, then try again with a new one."
	case reason.LoginsLater:
		return "The code cannot be looked at just now: try again in a moment."
	}
	return "That code is not right. Look whether your device's clock is, and type the newest."
}
