package eap

import (
	"unicode/utf8"

	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/reason"
)

// TypeGTC is the method by which a device shows a question and sends what a person types (RFC 3748 §5.6).
const TypeGTC = 6

// What a person is asked, as devices show it. Our own device knows by it what to answer; what stands before it is for people.
const (
	AskPassword = "Password: "
	AskCode     = "Code: "
	AskNext     = "New password: "
)

// mostUnfit is how many passwords somebody may choose that will not do.
const mostUnfit = 3

// GTC is what judges what a person types. Each may take long.
type GTC struct {
	Password func(password string) login.Outcome
	// Code judges the code that is asked for where the password is right and its outcome asks for one; nil: none is asked for.
	Code func(code string) login.Outcome
	// Next takes another password, which is asked for where the password is right and counts only to choose another with; nil: none is.
	Next func(password string) login.Outcome
}

// ByGTC asks for a password in the clear: it is for inside a tunnel alone. What else is needed is asked for in further rounds. The method
// gives no key.
func ByGTC(by GTC) Method {
	g := &gtc{by: by}
	g.judge = by.Password
	return g
}

type gtc struct {
	by    GTC
	judge func(string) login.Outcome // of what is asked for now
	asked bool                       // for a code
	unfit int
}

// Type implements Method.
func (*gtc) Type() byte { return TypeGTC }

// Begin implements Method.
func (*gtc) Begin() ([]byte, error) { return []byte(AskPassword), nil }

// Respond implements Method.
func (g *gtc) Respond(data []byte) Turn {
	if len(data) == 0 || !utf8.Valid(data) {
		return Refused(reason.Of(reason.EAPBadResponse, nil))
	}
	o := g.judge(string(data))
	switch {
	case !o.OK && o.Why.Code == reason.PasswordToChange && g.by.Next != nil:
		g.judge = g.by.Next
		return Turn{Send: []byte("This password must be changed. " + AskNext)}
	case !o.OK && o.Why.Code == reason.PasswordUnfit && g.unfit < mostUnfit:
		g.unfit++
		return Turn{Send: []byte("That will not do: " + o.Why.With[reason.Error] + ". " + AskNext)}
	case o.OK && o.Asks && !g.asked && g.by.Code != nil:
		g.judge, g.asked = g.by.Code, true
		return Turn{Send: []byte(AskCode)}
	}
	return Turn{Over: true, Outcome: o}
}
