// Package securitykey is what a page asks of somebody's security key, and whether its answer is right (Web Authentication, W3C): a key is
// bound to the name of the page that it was added at, so that a page of another name gets nothing of it. Whose the keys are, and where they
// are kept, is left to others.
package securitykey

import (
	"cmp"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"
)

// Lasts is for how long a question to a key may be answered.
const Lasts = 2 * time.Minute

const longestAnswer = 16 << 10

// Page is where keys are used.
type Page struct {
	Name   string // of its host: keys are bound to it
	Origin string // such as https://code.tern.example
	Title  string // what people are shown
}

// Key is what is kept of one: nothing of it is secret.
type Key struct {
	Page       string              `json:"page"`
	Credential webauthn.Credential `json:"credential"`
}

// Question is what a key is asked.
type Question struct {
	Options []byte // for the browser, JSON
	State   []byte // to judge the answer by; it counts once
}

// ErrNone is where somebody has no key for a page.
var ErrNone = errors.New("there is no security key of theirs for this page")

// ErrCopied is where a key's counter goes back: two of it are about.
var ErrCopied = errors.New("the key's counter went back: there may be a copy of it")

type user struct {
	name string
	keys []webauthn.Credential
}

// WebAuthnID implements webauthn.User: it tells nothing of the name.
func (u user) WebAuthnID() []byte {
	sum := sha256.Sum256([]byte("security key of " + u.name))
	return sum[:]
}
func (u user) WebAuthnName() string                       { return u.name }
func (u user) WebAuthnDisplayName() string                { return u.name }
func (u user) WebAuthnCredentials() []webauthn.Credential { return u.keys }

func (p Page) party() (*webauthn.WebAuthn, error) {
	return webauthn.New(&webauthn.Config{RPID: p.Name, RPDisplayName: cmp.Or(p.Title, p.Name), RPOrigins: []string{p.Origin}})
}

// of are somebody's keys for a page.
func (p Page) of(name string, keys []Key) user {
	u := user{name: name}
	for _, k := range keys {
		if k.Page == p.Name {
			u.keys = append(u.keys, k.Credential)
		}
	}
	return u
}

// Add asks for a key that is to be added to those that somebody has.
func (p Page) Add(name string, keys []Key) (Question, error) {
	w, err := p.party()
	if err != nil {
		return Question{}, err
	}
	u := p.of(name, keys)
	options, state, err := w.BeginRegistration(u,
		webauthn.WithExclusions(webauthn.Credentials(u.keys).CredentialDescriptors()),
		webauthn.WithConveyancePreference(protocol.PreferNoAttestation),
		webauthn.WithAuthenticatorSelection(protocol.AuthenticatorSelection{
			ResidentKey: protocol.ResidentKeyRequirementDiscouraged, UserVerification: protocol.VerificationDiscouraged,
		}))
	return question(options, state, err)
}

// Added judges the answer.
func (p Page) Added(name string, state, answer []byte) (Key, error) {
	w, s, err := p.resume(state, answer)
	if err != nil {
		return Key{}, err
	}
	read, err := protocol.ParseCredentialCreationResponseBytes(answer)
	if err != nil {
		return Key{}, words(err)
	}
	c, err := w.CreateCredential(user{name: name}, s, read)
	if err != nil {
		return Key{}, words(err)
	}
	return Key{p.Name, *c}, nil
}

// Use asks for one of somebody's keys; ErrNone: they have none for this page.
func (p Page) Use(name string, keys []Key) (Question, error) {
	w, err := p.party()
	if err != nil {
		return Question{}, err
	}
	u := p.of(name, keys)
	if len(u.keys) == 0 {
		return Question{}, ErrNone
	}
	options, state, err := w.BeginLogin(u, webauthn.WithUserVerification(protocol.VerificationDiscouraged))
	return question(options, state, err)
}

// Used judges the answer, and gives the key that it is of as it is to be kept from now on, by its place among keys.
func (p Page) Used(name string, keys []Key, state, answer []byte) (which int, k Key, err error) {
	w, s, err := p.resume(state, answer)
	if err != nil {
		return 0, k, err
	}
	read, err := protocol.ParseCredentialRequestResponseBytes(answer)
	if err != nil {
		return 0, k, words(err)
	}
	c, err := w.ValidateLogin(p.of(name, keys), s, read)
	if err != nil {
		return 0, k, words(err)
	}
	if c.Authenticator.CloneWarning {
		return 0, k, ErrCopied
	}
	for i, k := range keys {
		if string(k.Credential.ID) == string(c.ID) {
			return i, Key{p.Name, *c}, nil
		}
	}
	return 0, k, ErrNone
}

func question(options any, state *webauthn.SessionData, err error) (q Question, _ error) {
	if err != nil {
		return q, words(err)
	}
	if q.Options, err = json.Marshal(options); err == nil {
		q.State, err = json.Marshal(state)
	}
	return q, err
}

func (p Page) resume(state, answer []byte) (w *webauthn.WebAuthn, s webauthn.SessionData, err error) {
	if len(answer) > longestAnswer {
		return nil, s, fmt.Errorf("the answer is longer than %d octets", longestAnswer)
	}
	if err = json.Unmarshal(state, &s); err == nil {
		w, err = p.party()
	}
	return w, s, err
}

// words are an error's, with what it hides.
func words(err error) error {
	var e *protocol.Error
	if errors.As(err, &e) && e.DevInfo != "" {
		return fmt.Errorf("%s (%s)", e.Details, e.DevInfo)
	}
	return err
}
