// Package source is what a source of people is to whoever asks it: who somebody is, whether what they show is right, and what follows for
// their session. How each kind of source is asked is a package of its own.
package source

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/go-ldap/ldap/v3"

	"yellowlantern/internal/core/eap"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/plan"
)

// Source is one. It is safe for concurrent use.
type Source interface {
	// Settings are what the plan says of it.
	Settings() plan.Source
	// Login tells who somebody is whose password is right. step is told what is done; nil: nobody is.
	Login(ctx context.Context, c Call, step func(Asked)) (Person, error)
	// Looks tells whether people can be looked up without their password.
	Looks() bool
	// Look tells who somebody is, without their password.
	Look(ctx context.Context, user string, step func(Asked)) (Person, error)
	// Probe asks whether it can be asked.
	Probe(ctx context.Context)
	// State is what it said last.
	State() State
	// Close ends what is kept open.
	Close()
}

// Changer is a source where a password can be changed that has expired.
type Changer interface {
	Source
	// Changes tells whether the plan has it so.
	Changes() bool
	// Change puts another password in place of the call's.
	Change(ctx context.Context, c Call, next string) error
}

// Challenged is a source that can also tell whether an answer to a challenge is right (MS-CHAPv2).
type Challenged interface {
	Source
	// Challenge judges an answer. Without an error the verdict is OK.
	Challenge(ctx context.Context, from netip.Addr, c eap.Check, step func(Asked)) (Person, eap.Verdict, error)
}

// Relayed is a source that carries on whole conversations by EAP itself (RFC 3579).
type Relayed interface {
	Source
	// Relay begins one.
	Relay(c login.Call) Relay
}

// Relay is a conversation that is carried to and fro. There is one call at a time.
type Relay interface {
	// Next carries a device's message, an EAP packet, and gives the answer.
	Next(ctx context.Context, message []byte) (Answer, error)
}

// Answer is what comes back. With an error beside it that the source gave itself, Send is what the device is told of it.
type Answer struct {
	Send   []byte // for the device
	Person Person // who came in, once it is over
	Over   bool
	Key    []byte // 64 octets, once it is over; nil: the method gives none
}

// Call is somebody who hands over a password.
type Call struct {
	User     string
	Password string
	From     netip.Addr // where they call from; none: it is not known
}

// Person is who somebody is there.
type Person struct {
	Name     string // their whole name there, such as a distinguished one
	Login    string // what they log in with, as it is written there
	FullName string
	Mail     string
	Groups   []Group
	Limits   login.Limits
	Class    [][]byte // what a server wants to be told again in accounting (RFC 2865 §5.25)
}

// Group is one of the source's.
type Group struct {
	DN   string // whole distinguished name, where it has one
	Name string // its common name
}

// Change is what a source says of somebody while they are connected; nil: nothing of that.
type Change struct {
	Groups  *[]Group
	Longest *time.Duration
	Idle    *time.Duration
}

// Kind is why somebody does not come in.
type Kind int

// Kinds of errors.
const (
	Away     Kind = iota // no server answers as it should
	Account              // the service itself is refused
	Unknown              // nobody of that name
	Several              // more than one
	Wrong                // the password is wrong
	Barred               // the person is, there: switched off, locked, over
	Expired              // the password is right, and counts only to choose another with
	Unfit                // the password that was chosen will not do there
	Mistaken             // what the plan says makes no sense to it
	Refused              // it lets them not in, and does not say whether it knows them
)

// Error is why.
type Error struct {
	Kind   Kind
	Words  string
	Person string // whom it is about, by what they log in with there, where that is known
}

// Error implements error.
func (e *Error) Error() string { return e.Words }

// Fail is an error of a kind.
func Fail(k Kind, format string, args ...any) error {
	return &Error{Kind: k, Words: fmt.Sprintf(format, args...)}
}

// About says of an error whom it is about.
func About(err error, person string) error {
	var e *Error
	if !errors.As(err, &e) {
		return err
	}
	about := *e
	about.Person = person
	return &about
}

// PersonOf is whom an error is about; empty: it is not known.
func PersonOf(err error) string {
	var e *Error
	if errors.As(err, &e) {
		return e.Person
	}
	return ""
}

// KindOf is an error's; of others it is Away.
func KindOf(err error) Kind {
	var e *Error
	if errors.As(err, &e) {
		return e.Kind
	}
	return Away
}

// Asked is one thing that was done, for whoever tries it.
type Asked struct {
	Words string        `json:"words"`
	OK    bool          `json:"ok"`
	Took  time.Duration `json:"took-ns"`
}

const longestUser = 128

// CheckUser tells what is wrong with a name before anybody is asked about it.
func CheckUser(user string) error {
	if user == "" || len(user) > longestUser || !utf8.ValidString(user) || strings.ContainsFunc(user, unicode.IsControl) {
		return Fail(Unknown, "that is no name of anybody")
	}
	return nil
}

// Taken are the plan's groups that somebody is in by a source's. Names of groups are the same only where they are written alike: whoever
// may name groups there must not make one that passes for another.
func Taken(s plan.Source, have []Group, known []string) (out []string) {
	take := func(name string) {
		if i := slices.Index(known, name); i >= 0 {
			out = append(out, known[i])
		}
	}
	for _, g := range have {
		if len(s.Groups) == 0 {
			take(g.Name)
		}
		for _, m := range s.Groups {
			switch {
			case !matches(m.From, g):
			case m.To == "":
				take(star(m.From, g.Name))
			default:
				take(m.To)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// In tells whether one of a source's groups is among those that are named: by name, by a name with *, or by a distinguished name.
func In(named []string, have []Group) bool {
	return slices.ContainsFunc(have, func(g Group) bool {
		return slices.ContainsFunc(named, func(from string) bool { return matches(from, g) })
	})
}

func matches(from string, g Group) bool {
	if want, err := ldap.ParseDN(from); err == nil && strings.Contains(from, "=") && g.DN != "" {
		have, err := ldap.ParseDN(g.DN)
		return err == nil && want.EqualFold(have)
	}
	before, after, starred := strings.Cut(from, "*")
	name := g.Name
	if !starred {
		return name == before
	}
	return len(name) >= len(before)+len(after) && strings.HasPrefix(name, before) && strings.HasSuffix(name, after)
}

// star is what * stands for; of a name without one it is the whole name.
func star(from, name string) string {
	before, after, starred := strings.Cut(from, "*")
	if !starred || len(name) < len(before)+len(after) {
		return name
	}
	return name[len(before) : len(name)-len(after)]
}
