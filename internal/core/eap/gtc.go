package eap

import (
	"unicode/utf8"

	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/reason"
)

// typeGTC is the method by which a device shows a question and sends what a person types (RFC 3748 §5.6).
const typeGTC = 6

// ByGTC asks for a password in the clear: it is for inside a tunnel alone. judge judges it, and may take long. Where the password is right
// and the outcome asks for a code, that is asked for in a further round; code nil: it is not. The method gives no key.
func ByGTC(judge func(password string) login.Outcome, code func(code string) login.Outcome) Method {
	return &gtc{judge: judge, code: code}
}

type gtc struct {
	judge, code func(string) login.Outcome
	asked       bool // for a code
}

// Type implements Method.
func (*gtc) Type() byte { return typeGTC }

// Begin implements Method.
func (*gtc) Begin() ([]byte, error) { return []byte("Password: "), nil }

// Respond implements Method.
func (g *gtc) Respond(data []byte) Turn {
	if len(data) == 0 || !utf8.Valid(data) {
		return Refused(reason.Of(reason.EAPBadResponse, nil))
	}
	if g.asked {
		return Turn{Over: true, Outcome: g.code(string(data))}
	}
	o := g.judge(string(data))
	if o.OK && o.Asks && g.code != nil {
		g.asked = true
		return Turn{Send: []byte("Code: ")}
	}
	return Turn{Over: true, Outcome: o}
}
