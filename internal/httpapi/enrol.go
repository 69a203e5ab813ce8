package httpapi

import (
	"encoding/base64"
	"io"
	"net/http"

	"github.com/go-chi/chi/v5"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/members"
	"yellowlantern/internal/core/crowd"
	"yellowlantern/internal/enrol"
)

// Requests of devices that are worked out at once: each takes an RSA key some milliseconds, and strangers send them too. One source has one
// of them, while a few more of its requests wait.
const (
	atOnce  = 2
	waiting = 8 // of one source, the one that is worked out among them
)

// enrolRoutes are open to every device: what they may have, an invitation says.
func (s *Server) enrolRoutes(r chi.Router) {
	busy, turns := make(chan struct{}, atOnce), &places{each: 1, most: waiting}
	handle := func(w http.ResponseWriter, r *http.Request) {
		switch op := r.URL.Query().Get("operation"); {
		case op == "GetCACaps":
			w.Header().Set("Content-Type", "text/plain")
			_, _ = io.WriteString(w, enrol.Capabilities)
		case op == "GetCACert":
			s.enrolCertificates(w, r)
		case op == "PKIOperation":
			leave, ok := turns.enter(r.Context(), crowd.Source(actor.Of(r.Context()).From).String())
			if !ok {
				tooMany(w)
				return
			}
			defer leave()
			select {
			case busy <- struct{}{}:
				defer func() { <-busy }()
			case <-r.Context().Done():
				return
			}
			s.enrolOne(w, r)
		default:
			http.Error(w, "devices ask here for certificates (SCEP, RFC 8894); there is nothing to look at", http.StatusBadRequest)
		}
	}
	r.Get(members.EnrolPath, handle)
	r.Post(members.EnrolPath, handle)
}

func (s *Server) enrolCertificates(w http.ResponseWriter, r *http.Request) {
	by, authority, err := s.App.Trust.Enrolment(r.Context())
	var bag []byte
	if err == nil {
		bag, err = enrol.Bag(by.Certificate, authority)
	}
	if err != nil {
		http.Error(w, "the certificates cannot be had just now", http.StatusServiceUnavailable)
		return
	}
	w.Header().Set("Content-Type", "application/x-x509-ca-ra-cert")
	_, _ = w.Write(bag)
}

func (s *Server) enrolOne(w http.ResponseWriter, r *http.Request) {
	var b []byte
	var err error
	if r.Method == http.MethodPost {
		b, err = io.ReadAll(io.LimitReader(r.Body, enrol.MostMessage+1))
	} else {
		b, err = base64.StdEncoding.DecodeString(r.URL.Query().Get("message"))
	}
	if err != nil || len(b) > enrol.MostMessage {
		http.Error(w, "the message cannot be read", http.StatusBadRequest)
		return
	}
	answer, err := s.App.Members.Enrol(r.Context(), b, actor.Of(r.Context()).From)
	if err != nil {
		http.Error(w, "the message cannot be answered", http.StatusBadRequest)
		return
	}
	w.Header().Set("Content-Type", "application/x-pki-message")
	_, _ = w.Write(answer)
}
