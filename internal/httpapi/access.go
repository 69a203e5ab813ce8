package httpapi

import (
	"context"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"yellowlantern/internal/app/access"
	"yellowlantern/internal/app/actor"
)

const cookieName = "yl_session"

// open are the calls that need no signing in.
var open = map[string]bool{
	"start-status": true, "start": true, "sign-in": true, "ask-key": true, "renew-certificate": true, "enrol-probe": true, "call-of-probe": true,
}

// authenticate admits by the console's cookie or by an API token.
func (s *Server) authenticate(ctx huma.Context, next func(huma.Context)) {
	if open[ctx.Operation().OperationID] {
		next(ctx)
		return
	}
	token, session := "", ""
	if t, ok := strings.CutPrefix(ctx.Header("Authorization"), "Bearer "); ok {
		token = t
	}
	if c, err := huma.ReadCookie(ctx, cookieName); err == nil {
		session = c.Value
	}
	with, done, ok := s.App.Access.Admit(ctx.Context(), token, session)
	if who, replayed := approvedOf(ctx.Context()); replayed { // somebody's call, which another has approved
		with, ok = actor.With(ctx.Context(), who), true
	}
	defer done()
	if !ok {
		_ = huma.WriteErr(s.api, ctx, http.StatusUnauthorized, "sign in first: yl sign-in, or the console's first page")
		return
	}
	if why := denied(actor.Of(with), ctx.Operation(), about(ctx)); why != "" {
		_ = huma.WriteErr(s.api, ctx, http.StatusForbidden, why)
		return
	}
	inside := huma.WithContext(ctx, context.WithValue(with, objectKey{}, new(string)))
	if inside, ok = s.unlessHeld(inside); !ok {
		return
	}
	next(inside)
	s.changed(inside)
}

type startStatus struct {
	NeedsAdministrator bool `json:"needs-administrator" doc:"The first administrator is not Named yet."`
}

type signedIn struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      struct {
		Name       string `json:"name"`
		MustChange bool   `json:"must-change,omitempty" doc:"The password was made for them: nothing is done by it but choosing another."`
	}
}

func signIn(ctx context.Context, to access.SignedIn, err error) (*signedIn, error) {
	if err != nil {
		return nil, err
	}
	out := &signedIn{SetCookie: http.Cookie{
		Name: cookieName, Value: to.Secret, Path: "/", Expires: to.Expires, HttpOnly: true, SameSite: http.SameSiteStrictMode,
		Secure: actor.Of(ctx).Private,
	}}
	out.Body.Name, out.Body.MustChange = to.Name, to.MustChange
	return out, nil
}

// Me is who is signed in.
type Me struct {
	Name       string `json:"name"`
	Role       string `json:"role" enum:"administrator,operator,help-desk,auditor"`
	Narrowed   string `json:"narrowed,omitempty" doc:"The role that the token has, where it has less than its administrator."`
	MustChange bool   `json:"must-change,omitempty" doc:"The password was made for them: nothing is done by it but choosing another."`
}

type tokenMade struct {
	Token string `json:"token" doc:"Shown once."`
}

// Ended is how many sessions, or tokens, ended.
type Ended struct {
	Ended int `json:"ended"`
}

func (s *Server) accessRoutes() {
	register(s, "GET", "/start", "start-status", "Whether the first administrator is still to be named", func(ctx context.Context, _ *struct{}) (*body[startStatus], error) {
		needs, err := s.App.Access.NeedsAdministrator(ctx)
		return answered(startStatus{needs}, err)
	})
	register(s, "POST", "/start", "start", "Name the first administrator", func(ctx context.Context, in *struct {
		Body struct {
			access.Credentials
			Code string `json:"code" doc:"The setup code that the service printed at its first start."`
		}
	},
	) (*signedIn, error) {
		to, err := s.App.Access.Start(ctx, in.Body.Credentials, in.Body.Code)
		return signIn(ctx, to, err)
	})
	register(s, "POST", "/sign-in", "sign-in", "Sign in to the console", func(ctx context.Context, in *struct{ Body access.Credentials }) (*signedIn, error) {
		to, err := s.App.Access.SignIn(ctx, in.Body)
		return signIn(ctx, to, err)
	})
	register(s, "POST", "/sign-in/security-key", "ask-key", "What a security key is to answer in place of a code, with the name and the password", func(ctx context.Context, in *struct{ Body access.Credentials }) (*body[access.KeyAsked], error) {
		return answered(s.App.Access.AskKey(ctx, in.Body))
	})
	s.administratorRoutes()
	register(s, "POST", "/sign-out", "sign-out", "Sign out", func(ctx context.Context, in *struct {
		Session http.Cookie `cookie:"yl_session"`
	},
	) (*signedIn, error) {
		return &signedIn{SetCookie: http.Cookie{Name: cookieName, Path: "/", MaxAge: -1, HttpOnly: true}}, s.App.Access.SignOut(ctx,
			in.Session.Value)
	})
	register(s, "GET", "/me", "me", "Who is signed in", func(ctx context.Context, _ *struct{}) (*body[Me], error) {
		who := actor.Of(ctx)
		return answer(Me{who.Name, who.Role, who.Narrowed, who.MustChange}), nil
	})
	register(s, "PUT", "/me/password", "change-own-password", "Change one's own password; every other session and token of one's own ends", func(ctx context.Context, in *struct {
		Body struct {
			Password string `json:"password" maxLength:"256" lines:"many" doc:"The one that holds now."`
			New      string `json:"new" maxLength:"256" lines:"many" doc:"The one that is to hold from now on."`
			Code     string `json:"code,omitempty" maxLength:"32" doc:"Of one's second factor, where there is one."`
		}
	},
	) (*body[Ended], error) {
		n, err := s.App.Access.ChangePassword(ctx, in.Body.Password, in.Body.New, in.Body.Code)
		return answered(Ended{n}, err)
	})
	register(s, "GET", "/me/sessions", "own-sessions", "Where one is signed in to the console", func(ctx context.Context, _ *struct{}) (*body[[]access.OwnSession], error) {
		return answered(s.App.Access.OwnSessions(ctx))
	})
	register(s, "DELETE", "/me/sessions/{name}", "end-own-session", "Sign a browser of one's own out", func(ctx context.Context, in *Named) (*struct{}, error) {
		return nil, s.App.Access.EndOwnSession(ctx, in.Name)
	})
	register(s, "POST", "/tokens", "make-token", "Make an API token", func(ctx context.Context, in *struct {
		Body struct {
			Name string `json:"name" maxLength:"64" doc:"What the token is for."`
			Days int    `json:"days,omitempty" minimum:"1" maximum:"3650" doc:"For how long it is good; 365 if not given."`
			Role string `json:"role,omitempty" enum:"administrator,operator,help-desk,auditor" doc:"What it may do at most; as its administrator if not given."`
		}
	},
	) (*body[tokenMade], error) {
		token, err := s.App.Access.MakeToken(ctx, in.Body.Name, in.Body.Days, in.Body.Role)
		return answered(tokenMade{token}, err)
	})
	register(s, "GET", "/tokens", "list-tokens", "All API tokens, without their secrets", func(ctx context.Context, _ *struct{}) (*body[[]access.TokenInfo], error) {
		return answered(s.App.Access.Tokens(ctx))
	})
	register(s, "DELETE", "/tokens/{name}", "remove-token", "Make an API token worthless; its id, or own for the one that is used", func(ctx context.Context, in *Named) (*struct{}, error) {
		return nil, s.App.Access.RemoveToken(ctx, in.Name)
	})
}
