package people

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"errors"
	"fmt"
	"math/big"
	"sync"
	"time"

	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/onetime"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/store"
)

// Mail sends people what they are told by mail.
type Mail interface {
	CodesByMail() bool
	Site() string
	Send(ctx context.Context, to, subject, text string) error
}

const (
	mailedLasts = 10 * time.Minute
	mailedEvery = time.Minute // that somebody is sent another
	mostMailed  = 10_000
)

// mailed are codes that were sent, by whose they are. They live in memory alone.
type mailed struct {
	mu sync.Mutex
	of map[string]mailedCode
}

type mailedCode struct {
	code string
	at   time.Time
}

// mailCode sends somebody a code who has no second factor of their own. The outcome is never OK: its reason says what was done.
func (p *People) mailCode(ctx context.Context, user string) login.Outcome {
	no := func(why string) login.Outcome {
		return login.Outcome{User: user, Known: true, Why: reason.Of(reason.CodeNotMailed, reason.With{reason.Error: why})}
	}
	if p.Mail == nil || !p.Mail.CodesByMail() {
		return no("the plan lets nobody have codes by mail")
	}
	if has, err := p.HasFactor(ctx, user); err != nil || has {
		return no("they have a second factor of their own")
	}
	to, err := p.mailOf(ctx, user)
	if err != nil || to == "" {
		return no("no mail address of theirs is known")
	}
	n, err := rand.Int(rand.Reader, big.NewInt(1_000_000))
	if err != nil {
		return no(err.Error())
	}
	c := mailedCode{fmt.Sprintf("%06d", n), time.Now()}
	if !p.mailed.keep(user, c) {
		return no("one was sent less than a minute ago")
	}
	text := fmt.Sprintf("Your code for %s is %s\n\nIt counts once, for ten minutes, and only where you are connected as %s.\n"+
		"If you are not connecting just now, somebody else knows your password: tell your administrator.\n", p.Mail.Site(), c.code, user)
	if err := p.Mail.Send(ctx, to, "Your code for "+p.Mail.Site(), text); err != nil {
		p.mailed.forget(user)
		return no("the mail did not go") // the journal says why
	}
	return login.Outcome{User: user, Known: true, Why: reason.Of(reason.CodeMailed, nil)}
}

// mailOf is somebody's mail address; empty: none is known.
func (p *People) mailOf(ctx context.Context, user string) (string, error) {
	u, err := p.User(ctx, user)
	if !errors.Is(err, store.ErrNotFound) {
		return u.Mail, err
	}
	there, err := p.keeper.SourcePerson(ctx, user)
	return there.Mail, err
}

func (m *mailed) keep(user string, c mailedCode) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	if was, there := m.of[user]; there && c.at.Sub(was.at) < mailedEvery {
		return false
	}
	if m.of == nil {
		m.of = map[string]mailedCode{}
	}
	for name, was := range m.of {
		if len(m.of) >= mostMailed || c.at.Sub(was.at) > mailedLasts {
			delete(m.of, name)
		}
	}
	m.of[user] = c
	return true
}

func (m *mailed) forget(user string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	delete(m.of, user)
}

// use uses a code up that was sent to somebody; false: it is none.
func (m *mailed) use(user, code string, now time.Time) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	c, there := m.of[user]
	right := there && now.Sub(c.at) < mailedLasts && len(code) == onetime.Digits && subtle.ConstantTimeCompare([]byte(c.code),
		[]byte(code)) == 1
	if right {
		delete(m.of, user)
	}
	return right
}
