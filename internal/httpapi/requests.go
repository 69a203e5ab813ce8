package httpapi

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/store"
)

// held are the calls that change who may do or reach what without a commit. While the plan that runs demands that commits are approved,
// they wait for another administrator too; the value tells whether one with this body does so.
var held = map[string]func(s *Server, ctx huma.Context, body []byte) bool{
	"add-administrator": always, "change-role": always,
	"import-users": func(_ *Server, _ huma.Context, body []byte) bool { // what would become of a table may be looked at
		var in struct {
			Take bool `json:"take"`
		}
		return json.Unmarshal(body, &in) == nil && in.Take
	},
	"add-user": func(_ *Server, _ huma.Context, body []byte) bool { return len(groupsIn(body)) > 0 },
	"change-user": func(s *Server, ctx huma.Context, body []byte) bool {
		u, err := s.App.Members.User(ctx.Context(), ctx.Param("name"))
		return err == nil && !slices.Equal(u.Groups, groupsIn(body))
	},
}

func always(*Server, huma.Context, []byte) bool { return true }

func groupsIn(body []byte) []string {
	var in struct {
		Groups []string `json:"groups"`
	}
	_ = json.Unmarshal(body, &in) // what is no call is told so by the call
	slices.Sort(in.Groups)
	return slices.Compact(in.Groups)
}

// mostHeld is how large a call may be that waits, in octets.
const mostHeld = 1 << 20

// approvedKey is where a context has whose call it is that another administrator approved.
type approvedKey struct{}

func approvedOf(ctx context.Context) (actor.Actor, bool) {
	a, ok := ctx.Value(approvedKey{}).(actor.Actor)
	return a, ok
}

type callContext = huma.Context

// read is a call whose body was read already.
type read struct {
	callContext
	body io.Reader
}

// BodyReader implements huma.Context.
func (r *read) BodyReader() io.Reader { return r.body }

// unlessHeld keeps a call for another administrator's approval, where it needs that, and says so; it is false then.
func (s *Server) unlessHeld(ctx huma.Context) (huma.Context, bool) {
	needs := held[ctx.Operation().OperationID]
	_, approved := approvedOf(ctx.Context())
	if needs == nil || approved || !s.App.Commits.Demanded(ctx.Context()) {
		return ctx, true
	}
	b, err := io.ReadAll(io.LimitReader(ctx.BodyReader(), mostHeld+1))
	switch {
	case err != nil:
		_ = huma.WriteErr(s.api, ctx, http.StatusRequestTimeout, "the request did not come whole")
		return ctx, false
	case len(b) > mostHeld:
		_ = huma.WriteErr(s.api, ctx, http.StatusRequestEntityTooLarge,
			"what another administrator is to approve has at most 1 MiB: send it in parts")
		return ctx, false
	case !needs(s, ctx, b):
		return &read{ctx, bytes.NewReader(b)}, true
	}
	who := actor.Of(ctx.Context())
	op, u := ctx.Operation(), ctx.URL()
	id, err := s.App.Access.Store.AddRequest(ctx.Context(), store.Request{
		Call: op.OperationID, Method: op.Method, Path: u.RequestURI(), Words: op.Summary + about(ctx).detail(b), By: who.Name, At: time.Now(),
		Seen: s.seen(ctx.Context(), op.OperationID, ctx.Param("name")),
	}, b)
	if err != nil {
		_ = huma.WriteErr(s.api, ctx, http.StatusInternalServerError, "the request could not be kept", err)
		return ctx, false
	}
	why := reason.Of(reason.NeedsApproval, reason.With{reason.Count: strconv.Itoa(int(id))})
	s.App.Journal.Tell(reason.Of(reason.Changed, reason.With{
		reason.Administrator: who.Name, reason.Way: who.By, reason.Source: who.From.String(), reason.Change: "Ask for approval: " + op.Summary,
		reason.What: fmt.Sprintf("request %d", id),
	}), "")
	r := &Refusal{
		ErrorModel: huma.ErrorModel{Status: http.StatusConflict, Title: http.StatusText(http.StatusConflict), Detail: why.Words()}, Reason: why,
	}
	ctx.SetStatus(http.StatusConflict)
	ctx.SetHeader("Content-Type", "application/problem+json")
	_ = json.NewEncoder(ctx.BodyWriter()).Encode(r)
	return ctx, false
}

// detail is whom a call is about, and what becomes of them, as whoever approves it is told.
func (a asked) detail(body []byte) string {
	var in struct {
		Name   string   `json:"name"`
		Role   string   `json:"role"`
		Groups []string `json:"groups"`
	}
	_ = json.Unmarshal(body, &in)
	out := ""
	if name := cmp.Or(a.name, in.Name); name != "" {
		out += fmt.Sprintf(": %.64s", name)
	}
	if in.Role != "" {
		out += fmt.Sprintf(", role %.20s", in.Role)
	}
	if len(in.Groups) > 0 {
		out += fmt.Sprintf(", groups %.300q", in.Groups)
	}
	return out
}

// seen is what a call is about that replaces all of it, as it is: nobody approves that what was changed since is changed back.
func (s *Server) seen(ctx context.Context, call, name string) string {
	var of any
	var err error
	switch call {
	case "change-user":
		of, err = s.App.Members.User(ctx, name)
	case "change-role":
		var a store.Administrator
		a, err = s.App.Access.Store.Administrator(ctx, name)
		of = a.Role
	}
	b, bad := json.Marshal(of)
	if err != nil || bad != nil {
		return ""
	}
	return string(b)
}

// shownOf is a call's body as whoever approves it sees it: all of it but a password.
func shownOf(body []byte) string {
	var in map[string]any
	if json.Unmarshal(body, &in) != nil {
		return ""
	}
	if _, has := in["password"]; has {
		in["password"] = "(not shown)"
	}
	if table, ok := in["table"].(string); ok {
		return table
	}
	b, _ := json.MarshalIndent(in, "", "  ")
	return string(b)
}

// Waiting is a call that waits for approval.
type Waiting struct {
	ID    uint      `json:"id"`
	Words string    `json:"words" doc:"What it does."`
	By    string    `json:"by" doc:"Who asked for it."`
	At    time.Time `json:"at"`
}

// WaitingWhole is one with its content.
type WaitingWhole struct {
	Waiting
	Content string `json:"content" doc:"What was sent, without a password: JSON, or the table of people."`
}

// Approved is what came of a call that was approved.
type Approved struct {
	Words  string          `json:"words"`
	Answer json.RawMessage `json:"answer,omitempty" doc:"What the call answers; a password that was made is shown here, this once."`
}

func (s *Server) requestRoutes() {
	register(s, "GET", "/requests", "list-requests", "Calls that wait for another administrator's approval", func(ctx context.Context, _ *struct{}) (*body[[]Waiting], error) {
		all, err := s.App.Access.Store.Requests(ctx)
		out := make([]Waiting, 0, len(all))
		for _, r := range all {
			out = append(out, Waiting{r.ID, r.Words, r.By, r.At})
		}
		return answered(out, err)
	})
	register(s, "GET", "/requests/{id}", "show-request", "A call that waits, with its content", func(ctx context.Context, in *struct {
		ID uint `path:"id"`
	},
	) (*body[WaitingWhole], error) {
		r, b, err := s.App.Access.Store.Request(ctx, in.ID)
		out := WaitingWhole{Waiting{r.ID, r.Words, r.By, r.At}, shownOf(b)}
		return answered(out, refusal.Known(err, "request", strconv.Itoa(int(in.ID))))
	})
	register(s, "POST", "/requests/{id}/approval", "approve-request", "Approve a call that waits, and have it done", func(ctx context.Context, in *struct {
		ID uint `path:"id"`
	},
	) (*body[Approved], error) {
		return answered(s.approve(ctx, in.ID))
	})
	register(s, "DELETE", "/requests/{id}", "withdraw-request", "Withdraw a call that waits: one's own, or, by an administrator, any", func(ctx context.Context, in *struct {
		ID uint `path:"id"`
	},
	) (*struct{}, error) {
		r, _, err := s.App.Access.Store.Request(ctx, in.ID)
		if err != nil {
			return nil, refusal.Known(err, "request", strconv.Itoa(int(in.ID)))
		}
		if who := actor.Of(ctx); r.By != who.Name && !has(who, whole) {
			return nil, &refusal.Error{Sort: refusal.Denied, Words: "the request is " + r.By + "'s"}
		}
		return nil, refusal.Known(s.App.Access.Store.EndRequest(ctx, in.ID), "request", strconv.Itoa(int(in.ID)))
	})
}

// approve does what somebody asked for, in their name, with their rights as they are now.
func (s *Server) approve(ctx context.Context, id uint) (Approved, error) {
	me := actor.Of(ctx)
	r, body, err := s.App.Access.Store.Request(ctx, id)
	if err != nil {
		return Approved{}, refusal.Known(err, "request", strconv.Itoa(int(id)))
	}
	by, err := s.App.Access.Store.Administrator(ctx, r.By)
	if err != nil || !s.App.Access.Stands(ctx, &by) {
		return Approved{}, refusal.Conflict(r.By + ", who asked for it, is no administrator now: withdraw the request")
	}
	theirs := actor.Actor{
		Name: r.By, Role: by.Role, From: me.From, Private: me.Private, Origin: me.Origin,
		By: fmt.Sprintf("request %d, approved by %s", id, me.Name),
	}
	why, err := s.App.Plans.NoOther(actor.With(ctx, theirs), store.Approval{By: me.Name, At: time.Now()})
	switch {
	case err != nil:
		return Approved{}, err
	case why != "":
		return Approved{}, &refusal.Error{
			Sort: refusal.Denied, Words: fmt.Sprintf("%s cannot approve a request of %s: %s", me.Name, r.By, why),
		}
	}
	if about := strings.Split(strings.TrimPrefix(r.Path, "/api/v1/"), "/"); len(about) > 1 {
		name, _ := url.PathUnescape(about[1])
		if s.seen(ctx, r.Call, name) != r.Seen {
			return Approved{}, refusal.Conflict(name + " was changed since the request was made: withdraw it, and ask again")
		}
	}
	if err := s.App.Access.Store.EndRequest(ctx, id); err != nil { // once
		return Approved{}, refusal.Known(err, "request", strconv.Itoa(int(id)))
	}
	anew := context.WithValue(ctx, chi.RouteCtxKey, (*chi.Context)(nil)) // it is routed like one that has just come
	call, err := http.NewRequestWithContext(context.WithValue(anew, approvedKey{}, theirs), r.Method, "http://localhost"+r.Path,
		bytes.NewReader(body))
	if err != nil {
		return Approved{}, err
	}
	call.RequestURI, call.RemoteAddr = r.Path, "127.0.0.1:0"
	call.Header.Set("Content-Type", "application/json")
	call.Header.Set("Authorization", "Bearer approved") // by what the body is read of a call; the context says whose it is
	w := &kept{header: http.Header{}, status: http.StatusOK}
	s.router.ServeHTTP(w, call)
	if w.status >= 300 {
		if err := s.App.Access.Store.ReturnRequest(context.WithoutCancel(ctx), r); err != nil {
			return Approved{}, err
		}
		var no Refusal
		_ = json.Unmarshal(w.Bytes(), &no.ErrorModel)
		return Approved{}, refusal.Conflict("the request was approved and could not be done: " +
			cmp.Or(no.Detail, strings.TrimSpace(w.String())))
	}
	if made := r.Call == "add-administrator"; made { // whoever approves is shown the password
		var in struct {
			Name string `json:"name"`
		}
		_ = json.Unmarshal(body, &in)
		if err := s.App.Access.Store.AddHand(ctx, store.Hand{Administrator: in.Name, By: me.Name, At: time.Now()}); err != nil {
			return Approved{}, err
		}
	}
	return Approved{Words: r.Words, Answer: w.Bytes()}, nil
}

// kept is an answer that is kept.
type kept struct {
	bytes.Buffer
	header http.Header
	status int
}

func (k *kept) Header() http.Header    { return k.header }
func (k *kept) WriteHeader(status int) { k.status = status }
