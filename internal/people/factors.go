package people

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"net/netip"
	"strings"
	"time"

	"yellowlantern/internal/core/fold"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/onetime"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/people/source"
	"yellowlantern/internal/store"
)

// mostFactors is how many second factors one person may have: each is looked at for every code.
const mostFactors = 5

// recoveryCodes is how many somebody is given.
const recoveryCodes = 10

// ErrFactors is where somebody has as many second factors as they may.
var ErrFactors = errors.New("this person has five second factors already: forget those that are of no use any more")

// ErrCode is where somebody shows a code that their new second factor did not make.
var ErrCode = errors.New("that code is not of this key: look whether the device's clock is right, and type the newest")

// Code implements gateway.People: it judges the second factor of somebody who has logged in.
func (p *People) Code(ctx context.Context, c login.Code) login.Outcome {
	if c.Mail {
		return p.mailCode(ctx, c.User)
	}
	if c.Touch != nil && (c.Touch.Adds || len(c.Touch.Answer) == 0) {
		return p.touch(ctx, c)
	}
	o := login.Outcome{User: c.User, Known: true, Why: reason.Of(reason.CodeWaits, nil)}
	p.Codes.Try(c.User, oneSource(fold.Name(c.User)), func() Verdict {
		if c.Touch != nil {
			o = p.touch(ctx, c)
		} else {
			o.Why = p.judgeCode(ctx, c.User, c.Code)
			o.OK = o.Why.None()
		}
		if Undecided(o.Why) || o.Why.Code == reason.NoFactor {
			return NoGuess
		}
		return Guessed(o.OK)
	})
	if o.OK && len(c.Keys) > 0 {
		if err := p.keeper.SetCoded(ctx, c.User, c.Keys, time.Now()); err != nil { // they are asked again
			return login.Outcome{User: c.User, Known: true, Why: reason.Of(reason.LoginsLater, reason.With{reason.Error: err.Error()})}
		}
	}
	return o
}

// Coded implements gateway.People.
func (p *People) Coded(ctx context.Context, c login.Coded) time.Time {
	at, err := p.keeper.Coded(ctx, c.User, c.Keys)
	if err != nil {
		return time.Time{}
	}
	return at
}

// othersPrefix begins what second factors that are no person's are kept under: no person's name can begin so.
const othersPrefix = "~"

// IsPerson tells whether a name is one that a person can have, and not what is kept of somebody else under a name.
func IsPerson(name string) bool { return !strings.HasPrefix(name, othersPrefix) }

// Everywhere is the source of guesses that are counted wherever they come from.
var Everywhere = netip.IPv6Unspecified()

// oneSource stands for everywhere that somebody's codes come from: they are slowed by name alone, and each name by itself, so that wrong
// codes of many people are nobody's burden.
func oneSource(name string) netip.Addr {
	sum := sha256.Sum256([]byte(name))
	return netip.AddrFrom16([16]byte(sum[:16]))
}

// use is a code that is right, with what uses it up.
type use struct {
	user string
	up   func(context.Context) error
}

// judgeCode judges a code and uses it up; none: it was right.
func (p *People) judgeCode(ctx context.Context, user, code string) reason.Reason {
	if p.mailed.use(user, code, time.Now()) {
		return reason.Reason{}
	}
	right, why := p.find(ctx, user, code)
	if right == nil {
		return why
	}
	switch err := right.up(ctx); {
	case errors.Is(err, store.ErrNotFound):
		return reason.Of(reason.CodeUsed, nil)
	case err != nil:
		return reason.Of(reason.LoginsLater, reason.With{reason.Error: err.Error()})
	}
	return reason.Reason{}
}

// find finds what a code is of, and uses nothing up.
func (p *People) find(ctx context.Context, user, code string) (*use, reason.Reason) {
	later := func(err error) (*use, reason.Reason) {
		return nil, reason.Of(reason.LoginsLater, reason.With{reason.Error: err.Error()})
	}
	all, err := p.keeper.Factors(ctx, user)
	if err != nil {
		return later(err)
	}
	if len(all) == 0 {
		if p.Mail != nil && p.Mail.CodesByMail() {
			return nil, reason.Of(reason.WrongCode, nil)
		}
		return nil, reason.Of(reason.NoFactor, nil)
	}
	if hash, ok := recovery(user, code); ok {
		return &use{user, func(ctx context.Context) error { return p.keeper.UseRecovery(ctx, user, hash) }}, reason.Reason{}
	}
	why := reason.Of(reason.WrongCode, nil)
	now := time.Now()
	for _, x := range all {
		if x.Kind == onetime.ByKey {
			continue
		}
		f, secret, err := p.keeper.FactorSecret(ctx, x.ID)
		if err != nil {
			return later(err)
		}
		switch verdict, next := onetime.Of(f.Kind, secret).Judge(code, f.Next, now); verdict {
		case onetime.Right:
			return &use{user, func(ctx context.Context) error { return p.keeper.UseFactor(ctx, f.ID, next, now) }}, reason.Reason{}
		case onetime.Used:
			why = reason.Of(reason.CodeUsed, nil)
		}
	}
	return nil, why
}

// withAppended judges a password that was handed over, which may have a code of its person's behind it. A code behind a password that is
// right counts as an attempt at codes, whatever becomes of it; nobody learns from here whether a code was right without the password.
func (p *People) withAppended(ctx context.Context, c source.Call) login.Outcome {
	rest, digits := cutDigits(c.Password)
	user := ""
	if digits != "" {
		own, elsewhere, err := p.keeper.Spelled(ctx, c.User)
		if user = own; user == "" {
			user = elsewhere
		}
		if has, bad := p.HasFactor(ctx, user); err != nil || bad != nil || !has {
			user = "" // there is nobody whose codes could be looked at
		}
	}
	if user == "" {
		return p.handedOver(ctx, c)
	}
	short := c
	short.Password = rest
	if right, _ := p.find(ctx, user, digits); right != nil {
		if o := p.handedOver(ctx, short); o.OK {
			return p.coded(ctx, o, user, digits)
		} else if o.Why.Code != reason.WrongPassword {
			return o
		}
		return p.handedOver(ctx, c) // the password ends like that by chance
	}
	whole := p.handedOver(ctx, c)
	if whole.Why.Code != reason.WrongPassword {
		return whole
	}
	if o := p.handedOver(ctx, short); o.OK {
		return p.coded(ctx, o, user, digits)
	}
	return whole
}

// cutDigits cuts what may be a code off the end of a password; empty: nothing may be.
func cutDigits(secret string) (rest, digits string) {
	at := len(secret) - onetime.Digits
	if at <= 0 || strings.Trim(secret[at:], "0123456789") != "" {
		return secret, ""
	}
	return secret[:at], secret[at:]
}

// coded judges the code that was appended to a password that is right, as every code is judged.
func (p *People) coded(ctx context.Context, o login.Outcome, user, code string) login.Outcome {
	if user != o.User {
		return login.Outcome{User: o.User, Known: true, Why: reason.Of(reason.CodeUsed, nil)}
	}
	judged := p.Code(ctx, login.Code{User: user, Code: code})
	if !judged.OK {
		return login.Outcome{User: o.User, Known: true, Why: judged.Why}
	}
	o.Coded = true
	return o
}

// asks says whether somebody is to be asked for a code who has one.
func (p *People) asks(ctx context.Context, o *login.Outcome, call login.Call) {
	if o.OK && !o.Coded && (call.Coded || p.Ways != nil && p.Ways.Asks(o.Groups, call.From)) {
		has, err := p.HasFactor(ctx, o.User)
		o.Asks = err == nil && has
	}
}

// HasFactor tells whether somebody has a second factor.
func (p *People) HasFactor(ctx context.Context, user string) (bool, error) {
	all, err := p.keeper.Factors(ctx, user)
	return len(all) > 0, err
}

// Factor is somebody's second factor.
type Factor struct {
	ID       string    `json:"id"`
	User     string    `json:"user"`
	Kind     string    `json:"kind" enum:"time,counter,security-key" doc:"Whether its codes are made by time (RFC 6238) or by a counter (RFC 4226), or it is a security key, which is touched in place of a code."`
	Device   string    `json:"device,omitempty" doc:"What gives the codes."`
	Added    time.Time `json:"added"`
	Used     time.Time `json:"used,omitzero" doc:"When a code of it was taken last."`
	Recovery int       `json:"recovery" doc:"How many recovery codes its person has left."`
}

// Factors lists those of a person, or of everybody.
func (p *People) Factors(ctx context.Context, user string) ([]Factor, error) {
	all, err := p.keeper.Factors(ctx, user)
	if err != nil {
		return nil, err
	}
	left, err := p.keeper.RecoveryLeft(ctx)
	out := make([]Factor, 0, len(all))
	for _, f := range all {
		if user == "" && !IsPerson(f.User) { // an administrator's
			continue
		}
		out = append(out, Factor{f.ID, f.User, f.Kind, f.Device, f.At, f.Used, left[f.User]})
	}
	return out, err
}

// AddFactor gives somebody a second factor whose newest code they show; without one it counts from its next on. It gives their recovery
// codes, which are shown this once. link is the digest of the link by which they do it, which is used up; empty: an administrator does.
func (p *People) AddFactor(ctx context.Context, user, device string, s onetime.Secret, code *string, link string) ([]string, error) {
	all, err := p.keeper.Factors(ctx, user)
	switch {
	case err != nil:
		return nil, err
	case len(all) >= mostFactors:
		return nil, ErrFactors
	}
	now := time.Now()
	next := uint64(0)
	if code != nil { // nobody guesses it: whoever is asked for it is shown the secret
		var v onetime.Verdict
		if v, next = s.Judge(*code, 0, now); v != onetime.Right {
			return nil, ErrCode
		}
	}
	codes, hashes := newRecovery(user)
	f := store.Factor{ID: rand.Text()[:12], User: user, Kind: s.Kind, Device: device, Next: next, At: now.UTC()}
	return codes, p.keeper.AddFactor(ctx, f, s.Octets(), hashes, link)
}

// newRecovery makes somebody recovery codes, with what is kept of them.
func newRecovery(user string) (codes, hashes []string) {
	for range recoveryCodes {
		text := rand.Text()[:16]
		shown := text[:4] + "-" + text[4:8] + "-" + text[8:12] + "-" + text[12:]
		hash, _ := recovery(user, shown)
		codes, hashes = append(codes, shown), append(hashes, hash)
	}
	return codes, hashes
}

// ForgetFactors forgets all second factors of somebody, and which devices were remembered. It gives how many factors there were.
func (p *People) ForgetFactors(ctx context.Context, user string) (int, error) {
	return p.keeper.ForgetFactors(ctx, user)
}

// recovery is the digest of a recovery code; ok is false for what does not look like one. They are of eighty bits: a plain digest keeps
// them.
func recovery(user, code string) (hash string, ok bool) {
	plain := strings.ToUpper(strings.NewReplacer("-", "", " ", "").Replace(code))
	if len(plain) != 16 {
		return "", false
	}
	sum := sha256.Sum256([]byte(user + "\x00" + plain))
	return hex.EncodeToString(sum[:]), true
}
