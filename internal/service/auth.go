package service

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"golang.org/x/crypto/argon2"

	"yellowlantern/internal/store"
)

const (
	cookieName  = "yl_session"
	sessionLife = 12 * time.Hour
	leastAdmin  = 12 // characters of an administrator's password

	// argon2id by RFC 9106 §4, second recommended option.
	argonTime, argonMemory, argonLanes = 3, 64 << 10, 4
)

type adminKey struct{}

type credentialKey struct{}

// credential is the hash of what the request was let in by.
func credential(ctx context.Context) string {
	hash, _ := ctx.Value(credentialKey{}).(string)
	return hash
}

// administrator is who makes the request.
func administrator(ctx context.Context) string {
	name, _ := ctx.Value(adminKey{}).(string)
	return name
}

// open are the calls that need no signing in.
var open = map[string]bool{"start-status": true, "start": true, "sign-in": true}

// authenticate admits by the console's cookie or by an API token.
func (s *Service) authenticate(ctx huma.Context, next func(huma.Context)) {
	if open[ctx.Operation().OperationID] {
		next(ctx)
		return
	}
	name, hash, expires := "", "", time.Time{}
	if token, ok := strings.CutPrefix(ctx.Header("Authorization"), "Bearer "); ok {
		if t, err := s.Store.Token(ctx.Context(), digest(token)); err == nil {
			name, hash, expires = t.Administrator, t.Hash, t.Expires
		}
	} else if c, err := huma.ReadCookie(ctx, cookieName); err == nil {
		if cs, err := s.Store.ConsoleSession(ctx.Context(), digest(c.Value)); err == nil {
			name, hash, expires = cs.Administrator, cs.Hash, cs.Expires
		}
	}
	if name == "" {
		_ = huma.WriteErr(s.api, ctx, http.StatusUnauthorized, "sign in first: yl sign-in, or the console's first page")
		return
	}
	with, done := s.credentials.use(context.WithValue(context.WithValue(ctx.Context(), adminKey{}, name), credentialKey{}, hash), hash)
	defer done()
	if !expires.IsZero() {
		var stop context.CancelFunc
		with, stop = context.WithDeadline(with, expires)
		defer stop()
	}
	next(huma.WithContext(ctx, with))
}

func digest(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}

func newSecret() string {
	b := make([]byte, 32)
	_, _ = rand.Read(b)
	return base64.RawURLEncoding.EncodeToString(b)
}

func argon(password string, salt []byte) []byte {
	return argon2.IDKey([]byte(password), salt, argonTime, argonMemory, argonLanes, 32)
}

// hashPassword writes argon2id in the form that its parameters can be read from again.
func hashPassword(password string) string {
	salt := make([]byte, 16)
	_, _ = rand.Read(salt)
	enc := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=19$m=%d,t=%d,p=%d$%s$%s", argonMemory, argonTime, argonLanes, enc.EncodeToString(salt),
		enc.EncodeToString(argon(password, salt)))
}

func passwordMatches(hash, password string) bool {
	parts := strings.Split(hash, "$")
	if len(parts) != 6 {
		argon(password, make([]byte, 16)) // an unknown name takes as long as a wrong password
		return false
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	want, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	return err1 == nil && err2 == nil && subtle.ConstantTimeCompare(argon(password, salt), want) == 1
}

type startStatus struct {
	NeedsAdministrator bool `json:"needs-administrator" doc:"The first administrator is not Named yet."`
}

// Credentials of an administrator.
type Credentials struct {
	Name     string `json:"name" maxLength:"64"`
	Password string `json:"password" maxLength:"256"`
}

type signedIn struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      struct {
		Name string `json:"name"`
	}
}

func (s *Service) authRoutes() {
	register(s, "GET", "/start", "start-status", "Whether the first administrator is still to be named", func(ctx context.Context, _ *struct{}) (*body[startStatus], error) {
		has, err := s.Store.HasAdministrator(ctx)
		return answer(startStatus{!has}), err
	})
	register(s, "POST", "/start", "start", "Name the first administrator", s.start)
	register(s, "POST", "/sign-in", "sign-in", "Sign in to the console", s.signIn)
	register(s, "POST", "/sign-out", "sign-out", "Sign out", func(ctx context.Context, in *struct {
		Session http.Cookie `cookie:"yl_session"`
	},
	) (*signedIn, error) {
		out := &signedIn{SetCookie: http.Cookie{Name: cookieName, Path: "/", MaxAge: -1, HttpOnly: true}}
		err := s.Store.EndConsoleSession(ctx, digest(in.Session.Value))
		s.credentials.end(digest(in.Session.Value))
		return out, err
	})
	register(s, "GET", "/me", "me", "Who is signed in", func(ctx context.Context, _ *struct{}) (*body[struct {
		Name string `json:"name"`
	}], error,
	) {
		out := &body[struct {
			Name string `json:"name"`
		}]{}
		out.Body.Name = administrator(ctx)
		return out, nil
	})
	register(s, "PUT", "/me/password", "change-own-password", "Change one's own password; every other session and token of one's own ends", s.ownPassword)
	register(s, "GET", "/me/sessions", "own-sessions", "Where one is signed in to the console", s.ownSessions)
	register(s, "DELETE", "/me/sessions/{name}", "end-own-session", "Sign a browser of one's own out", s.endOwnSession)
	register(s, "POST", "/tokens", "make-token", "Make an API token", s.makeToken)
	register(s, "GET", "/tokens", "list-tokens", "All API tokens, without their secrets", s.listTokens)
	register(s, "DELETE", "/tokens/{name}", "remove-token", "Make an API token worthless; its id, or own for the one that is used", s.removeToken)
}

func (s *Service) start(ctx context.Context, in *struct {
	Body struct {
		Credentials
		Code string `json:"code" doc:"The setup code that the service printed at its first start."`
	}
},
) (*signedIn, error) {
	// The code has 120 bits: nobody guesses it, so nobody needs to be slowed, and no stranger can keep the right one from being taken.
	if s.SetupCode == "" || subtle.ConstantTimeCompare([]byte(in.Body.Code), []byte(s.SetupCode)) != 1 {
		return nil, huma.Error403Forbidden("the setup code is wrong: the service printed it when it started")
	}
	if err := s.NameAdministrator(ctx, in.Body.Name, in.Body.Password); err != nil {
		if errors.Is(err, store.ErrExists) {
			return nil, huma.Error409Conflict("the first administrator is named already: sign in")
		}
		return nil, mistaken(err)
	}
	return s.newSession(ctx, in.Body.Name)
}

// NameAdministrator makes the first administrator; store.ErrExists if there is one.
func (s *Service) NameAdministrator(ctx context.Context, name, password string) error {
	if len(name) < 1 || strings.ContainsFunc(name, func(r rune) bool { return r <= ' ' || r == 0x7f }) {
		return errors.New("give the administrator a name without spaces")
	}
	if len([]rune(password)) < leastAdmin {
		return fmt.Errorf("give a password of at least %d characters", leastAdmin)
	}
	return s.Store.AddFirstAdministrator(ctx, store.Administrator{Name: name, Hash: hashPassword(password), At: time.Now().UTC()})
}

func (s *Service) newSession(ctx context.Context, name string) (*signedIn, error) {
	secret, expires := newSecret(), time.Now().Add(sessionLife)
	if err := s.Store.AddConsoleSession(ctx, store.ConsoleSession{
		Hash: digest(secret), Administrator: name, At: time.Now().UTC(), From: source(ctx).String(), Expires: expires,
	}); err != nil {
		return nil, err
	}
	out := &signedIn{SetCookie: http.Cookie{
		Name: cookieName, Value: secret, Path: "/", Expires: expires, HttpOnly: true,
		SameSite: http.SameSiteStrictMode,
	}}
	out.Body.Name = name
	return out, nil
}

func (s *Service) verify(ctx context.Context, c Credentials) error {
	from := source(ctx)
	a, err := s.Store.Administrator(ctx, c.Name)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	var refusal error
	wait, next := s.attempts.Try(c.Name, from, func() bool {
		done, ok := s.turns.take(ctx, from)
		if !ok {
			refusal = huma.Error429TooManyRequests("too many sign-ins at once from there: try again in a moment")
			return false
		}
		defer done()
		if !passwordMatches(a.Hash, c.Password) {
			refusal = huma.Error401Unauthorized("name or password is wrong")
		}
		return refusal == nil
	})
	if wait > 0 {
		seconds := int(wait.Seconds()) + 1
		return notBefore(huma.Error429TooManyRequests(fmt.Sprintf("too many tries: wait %d seconds", seconds)), seconds)
	}
	if next > 0 && refusal != nil {
		return notBefore(refusal, int(next.Seconds())+1)
	}
	return refusal
}

// notBefore tells with a refusal when the next try is heard (RFC 9110 §10.2.3).
func notBefore(refusal error, seconds int) error {
	return huma.ErrorWithHeaders(refusal, http.Header{"Retry-After": {strconv.Itoa(seconds)}})
}

func (s *Service) signIn(ctx context.Context, in *struct{ Body Credentials }) (*signedIn, error) {
	if err := s.verify(ctx, in.Body); err != nil {
		return nil, err
	}
	return s.newSession(ctx, in.Body.Name)
}

// tokenDays is for how long a token is good that says nothing.
const tokenDays = 365

type tokenMade struct {
	Token string `json:"token" doc:"Shown once."`
}

func (s *Service) makeToken(ctx context.Context, in *struct {
	Body struct {
		Name string `json:"name" maxLength:"64" doc:"What the token is for."`
		Days int    `json:"days,omitempty" minimum:"1" maximum:"3650" doc:"For how long it is good; 365 if not given."`
	}
},
) (*body[tokenMade], error) {
	secret := newSecret()
	err := s.Store.AddToken(ctx, store.Token{
		Hash: digest(secret), Name: in.Body.Name, Administrator: administrator(ctx),
		At: time.Now().UTC(), Expires: time.Now().UTC().AddDate(0, 0, cmp.Or(in.Body.Days, tokenDays)),
	})
	return answer(tokenMade{secret}), err
}

// TokenInfo is what may be told of an API token.
type TokenInfo struct {
	ID            string    `json:"id"`
	Name          string    `json:"name" doc:"What it is for."`
	Administrator string    `json:"administrator"`
	At            time.Time `json:"at"`
	Expires       time.Time `json:"expires,omitzero" doc:"After that it is worth nothing; not there, of older ones: never."`
}

// tokenIDLen is how much of a token's hash names it: enough to tell tokens apart, and no help in guessing one.
const tokenIDLen = 12

func (s *Service) listTokens(ctx context.Context, _ *struct{}) (*body[[]TokenInfo], error) {
	ts, err := s.Store.Tokens(ctx)
	out := make([]TokenInfo, 0, len(ts))
	for _, t := range ts {
		out = append(out, TokenInfo{t.Hash[:tokenIDLen], t.Name, t.Administrator, t.At, t.Expires})
	}
	return answer(out), err
}

func (s *Service) removeToken(ctx context.Context, in *struct {
	Named
	Authorization string `header:"Authorization"`
},
) (*struct{}, error) {
	id := in.Name
	if token, ok := strings.CutPrefix(in.Authorization, "Bearer "); ok && id == "own" {
		id = digest(token)[:tokenIDLen]
	}
	ts, err := s.Store.Tokens(ctx)
	if err != nil {
		return nil, err
	}
	for _, t := range ts {
		if t.Hash[:tokenIDLen] == id {
			err := s.Store.RemoveToken(ctx, t.Hash)
			s.credentials.end(t.Hash)
			return nil, known(err, "token", in.Name)
		}
	}
	return nil, known(store.ErrNotFound, "token", in.Name)
}

// NewSetupCode makes the code by which the first administrator is named.
func NewSetupCode() string { return newSecret()[:20] }
