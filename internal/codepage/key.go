package codepage

import (
	"context"
	_ "embed" // of what the page does with a security key
	"encoding/json"
	"net/http"
	"strings"

	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/gateway"
)

//go:embed key.js
var script []byte

// mostAnswer bounds what a browser says of a security key.
const mostAnswer = 20 << 10

// keyStep is what a browser says of a security key.
type keyStep struct {
	Adds   bool   `json:"adds"`
	Name   string `json:"name"`
	Code   string `json:"code"`   // for one that is added, the first time
	Answer string `json:"answer"` // of the key, JSON; empty: what it is to answer is asked for
}

// keySaid is what it is told: what the key is to answer, or what is wrong; neither: it is done.
type keySaid struct {
	Options string `json:"options,omitempty"`
	Wrong   string `json:"wrong,omitempty"`
	// Recovery are codes in its place, of who had no second factor of their own before.
	Recovery []string `json:"recovery,omitempty"`
}

// key takes a step with a security key.
func (s *Server) key(w http.ResponseWriter, r *http.Request, who gateway.Visitor) {
	w.Header().Set("Content-Type", "application/json")
	status, said := http.StatusOK, keySaid{}
	var in keyStep
	switch {
	case r.Method != http.MethodPost || !strings.HasPrefix(r.Header.Get("Content-Type"), "application/json"):
		status, said.Wrong = http.StatusMethodNotAllowed, "That is not how it is asked."
	case json.NewDecoder(http.MaxBytesReader(w, r.Body, mostAnswer)).Decode(&in) != nil || len(in.Name) > 64:
		status, said.Wrong = http.StatusBadRequest, "That could not be read: try again."
	default:
		ctx, stop := context.WithTimeout(r.Context(), judgeTime)
		defer stop()
		o := who.Touch(ctx, login.Touch{
			Page: s.page.Name, Origin: "https://" + s.page.Name, Title: s.page.Site, Adds: in.Adds, Name: strings.TrimSpace(in.Name),
			Answer: []byte(in.Answer),
		}, in.Code)
		switch {
		case o.OK:
			said.Recovery = o.Recovery
		case o.Why.Code == reason.SecurityKeyAsked:
			said.Options = string(o.Asked)
		default:
			status, said.Wrong = http.StatusForbidden, words(o)
		}
	}
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(said)
}
