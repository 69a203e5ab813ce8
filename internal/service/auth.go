package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
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
	name := ""
	if token, ok := strings.CutPrefix(ctx.Header("Authorization"), "Bearer "); ok {
		if t, err := s.Store.Token(ctx.Context(), digest(token)); err == nil {
			name = t.Administrator
		}
	} else if c, err := huma.ReadCookie(ctx, cookieName); err == nil {
		if cs, err := s.Store.ConsoleSession(ctx.Context(), digest(c.Value)); err == nil {
			name = cs.Administrator
		}
	}
	if name == "" {
		_ = huma.WriteErr(s.api, ctx, http.StatusUnauthorized, "sign in first: yl sign-in, or the console's first page")
		return
	}
	next(huma.WithValue(ctx, adminKey{}, name))
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

// hashing bounds how much memory password checks take at once.
var hashing = make(chan struct{}, 2)

func argon(password string, salt []byte) []byte {
	hashing <- struct{}{}
	defer func() { <-hashing }()
	return argon2.IDKey([]byte(password), salt, argonTime, argonMemory, argonLanes, 32)
}

// hashPassword writes argon2id in the form that its parameters can be read from again.
func hashPassword(password string) string {
	salt := make([]byte, 16)
	_, _ = rand.Read(salt)
	enc := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=19$m=%d,t=%d,p=%d$%s$%s", argonMemory, argonTime, argonLanes, enc.EncodeToString(salt), enc.EncodeToString(argon(password, salt)))
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

// limiter slows down guessing: after each failure a name must wait, twice as long each time, up to half a minute.
type limiter struct {
	mu    sync.Mutex
	fails map[string]struct {
		n     int
		until time.Time
	}
}

func (l *limiter) wait(name string) time.Duration {
	l.mu.Lock()
	defer l.mu.Unlock()
	return time.Until(l.fails[name].until)
}

func (l *limiter) note(name string, ok bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.fails == nil || len(l.fails) > 10000 {
		l.fails = map[string]struct {
			n     int
			until time.Time
		}{}
	}
	f := l.fails[name]
	if ok {
		delete(l.fails, name)
		return
	}
	f.n++
	f.until = time.Now().Add(min(30*time.Second, 250*time.Millisecond<<min(f.n, 8)))
	l.fails[name] = f
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
	}) (*signedIn, error) {
		out := &signedIn{SetCookie: http.Cookie{Name: cookieName, Path: "/", MaxAge: -1, HttpOnly: true}}
		return out, s.Store.EndConsoleSession(ctx, digest(in.Session.Value))
	})
	register(s, "GET", "/me", "me", "Who is signed in", func(ctx context.Context, _ *struct{}) (*body[struct {
		Name string `json:"name"`
	}], error) {
		out := &body[struct {
			Name string `json:"name"`
		}]{}
		out.Body.Name = administrator(ctx)
		return out, nil
	})
	register(s, "POST", "/tokens", "make-token", "Make an API token", s.makeToken)
	register(s, "GET", "/tokens", "list-tokens", "All API tokens, without their secrets", s.listTokens)
	register(s, "DELETE", "/tokens/{name}", "remove-token", "Make an API token worthless; its id, or own for the one that is used", s.removeToken)
}

func (s *Service) start(ctx context.Context, in *struct {
	Body struct {
		Credentials
		Code string `json:"code" doc:"The setup code that the service printed at its first start."`
	}
}) (*signedIn, error) {
	if wait := s.attempts.wait("setup"); wait > 0 {
		return nil, huma.Error429TooManyRequests(fmt.Sprintf("too many tries: wait %d seconds", int(wait.Seconds())+1))
	}
	ok := s.SetupCode != "" && subtle.ConstantTimeCompare([]byte(in.Body.Code), []byte(s.SetupCode)) == 1
	s.attempts.note("setup", ok)
	if !ok {
		return nil, huma.Error403Forbidden("the setup code is wrong: the service printed it when it started")
	}
	if err := s.NameAdministrator(ctx, in.Body.Name, in.Body.Password); err != nil {
		if errors.Is(err, store.ErrExists) {
			return nil, huma.Error409Conflict("the first administrator is named already: sign in")
		}
		return nil, huma.Error422UnprocessableEntity(err.Error())
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
	if err := s.Store.AddConsoleSession(ctx, store.ConsoleSession{Hash: digest(secret), Administrator: name, Expires: expires}); err != nil {
		return nil, err
	}
	out := &signedIn{SetCookie: http.Cookie{Name: cookieName, Value: secret, Path: "/", Expires: expires, HttpOnly: true, SameSite: http.SameSiteStrictMode}}
	out.Body.Name = name
	return out, nil
}

func (s *Service) verify(ctx context.Context, c Credentials) error {
	if wait := s.attempts.wait(c.Name); wait > 0 {
		return huma.Error429TooManyRequests(fmt.Sprintf("too many tries: wait %d seconds", int(wait.Seconds())+1))
	}
	a, err := s.Store.Administrator(ctx, c.Name)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	ok := passwordMatches(a.Hash, c.Password)
	s.attempts.note(c.Name, ok)
	if !ok {
		return huma.Error401Unauthorized("name or password is wrong")
	}
	return nil
}

func (s *Service) signIn(ctx context.Context, in *struct{ Body Credentials }) (*signedIn, error) {
	if err := s.verify(ctx, in.Body); err != nil {
		return nil, err
	}
	return s.newSession(ctx, in.Body.Name)
}

type tokenMade struct {
	Token string `json:"token" doc:"Shown once."`
}

func (s *Service) makeToken(ctx context.Context, in *struct {
	Body struct {
		Name string `json:"name" maxLength:"64" doc:"What the token is for."`
	}
}) (*body[tokenMade], error) {
	secret := newSecret()
	err := s.Store.AddToken(ctx, store.Token{Hash: digest(secret), Name: in.Body.Name, Administrator: administrator(ctx), At: time.Now().UTC()})
	return answer(tokenMade{secret}), err
}

// TokenInfo is what may be told of an API token.
type TokenInfo struct {
	ID            string    `json:"id"`
	Name          string    `json:"name" doc:"What it is for."`
	Administrator string    `json:"administrator"`
	At            time.Time `json:"at"`
}

// tokenIDLen is how much of a token's hash names it: enough to tell tokens apart, and no help in guessing one.
const tokenIDLen = 12

func (s *Service) listTokens(ctx context.Context, _ *struct{}) (*body[[]TokenInfo], error) {
	ts, err := s.Store.Tokens(ctx)
	out := make([]TokenInfo, 0, len(ts))
	for _, t := range ts {
		out = append(out, TokenInfo{t.Hash[:tokenIDLen], t.Name, t.Administrator, t.At})
	}
	return answer(out), err
}

func (s *Service) removeToken(ctx context.Context, in *struct {
	Named
	Authorization string `header:"Authorization"`
}) (*struct{}, error) {
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
			return nil, known(s.Store.RemoveToken(ctx, t.Hash), "token", in.Name)
		}
	}
	return nil, known(store.ErrNotFound, "token", in.Name)
}

// NewSetupCode makes the code by which the first administrator is named.
func NewSetupCode() string { return newSecret()[:20] }
