// Package login is the conversation in which a person logs in: messages to and fro, and an outcome. Who carries it on (local people, a
// directory, a server elsewhere) and by which method is nothing that a tunnel needs to know; what a message says neither.
package login

import (
	"errors"
	"net/netip"
	"time"

	"yellowlantern/internal/core/reason"
)

// Conversation carries one login. Calls may take long, for passwords are kept in a database or elsewhere; there is one at a time.
type Conversation interface {
	// Next takes the device's message, an EAP packet (RFC 3748 §4) without what carries it; nil begins.
	Next(message []byte) Step
	// End frees what the login holds, for it goes no further: it is not to come while Next is under way, unless whoever made it says
	// otherwise, and may come more than once. After a step that is over it need not come.
	End()
}

// Call is how somebody calls.
type Call struct {
	From   netip.Addr `json:"from,omitzero"`
	Server string     `json:"server,omitempty"` // what the gateway calls itself
	Tunnel string     `json:"tunnel,omitempty"` // by which they come, by its name in the plan
	// Station is which device it is, as equipment has it that asks about its person; empty: nobody said.
	Station string `json:"station,omitempty"`
	// Coded is that whoever has a second factor is asked for it, whatever their passage says.
	Coded bool `json:"coded,omitempty"`
}

// Step is what comes next.
type Step struct {
	Send    []byte // for the device; with Over the closing message
	Claimed string // who the device says that it is, so far; nothing may be decided by it
	Over    bool
	Later   bool // with Over: nobody who could judge answers. The device is told nothing, so that it tries again and asks for no password
	Outcome      // with Over
}

// Outcome is what came of a login.
type Outcome struct {
	OK     bool
	User   string   // who logged in; without OK whom it was about, where that is known
	Known  bool     // there is such a user
	Source string   // of people, which vouches for them
	Groups []string // with OK
	Limits Limits   // of their own, with OK
	// Barred is that what they showed is right, and that they may not come in all the same. Without OK.
	Barred bool
	// Stamp stands for all that the person proved who they are with, as it is now; it is another once any of that changes. With OK;
	// empty: they log in anew each time.
	Stamp string
	// Coded is that their second factor was given with the login; Asks that it can be asked for now, in a further round. With OK.
	Coded, Asks bool
	// Asked is what a security key is to answer, for the browser, without OK; Recovery are codes in its place, with OK of a first one.
	Asked    []byte
	Recovery []string
	// Public is the public key that they proved themselves with, DER, where the conversation has it shown; with OK.
	Public []byte
	// ProvedBy names that key for the record, and its certificate where there is one; with OK; empty: something else.
	ProvedBy string
	Key      []byte        // with OK: the key that both sides have of it (RFC 3748 §7.10), 64 octets; nil: the method gives none
	Why      reason.Reason // without OK
}

// Limits are what whoever keeps people says of one, beside what the plan says of their passage: the narrower of both holds. The zero value
// says nothing.
type Limits struct {
	Until    time.Time `json:"until,omitzero"`     // no session of theirs goes on after it
	Hours    string    `json:"hours,omitempty"`    // when they may be connected, by its name in the plan
	Sessions int       `json:"sessions,omitempty"` // at once, by all passages; 0: as the plan says
	Tunnels  []string  `json:"tunnels,omitempty"`  // by which they may come, by their names in the plan; none: by those of their passage
	// Addresses are what they are to have of each family; none: any of their pool.
	Addresses []netip.Addr  `json:"addresses,omitempty"`
	Longest   time.Duration `json:"longest,omitempty"` // how long a session of theirs lasts from its login on; 0: as the plan says
	Idle      time.Duration `json:"idle,omitempty"`    // after so long without a packet from them it ends; 0: as the plan says
}

// Code is a second factor that somebody gives after their login, from within their session.
type Code struct {
	User string     `json:"user"`
	Code string     `json:"code"`
	Mail bool       `json:"mail,omitempty"` // they have none, and ask for one by mail
	From netip.Addr `json:"from,omitzero"`  // where their device is seen
	// Keys are what their device came in by that only it has: it is remembered by them. None: it is not remembered.
	Keys []string `json:"keys,omitempty"`
	// Touch is that a security key is used in place of a code, or added; nil: it is a code.
	Touch *Touch `json:"touch,omitempty"`
}

// Touch is a step in which somebody uses a security key, or adds one, at a page (Web Authentication).
type Touch struct {
	Page   string `json:"page"`   // name of its host
	Origin string `json:"origin"` // as browsers write it
	Title  string `json:"title"`
	Adds   bool   `json:"adds,omitempty"`
	Name   string `json:"name,omitempty"`   // of the key that is added
	Answer []byte `json:"answer,omitempty"` // none: what the key is to answer is asked for
}

// Coded asks when the second factor was given last by a device that comes in by one of these keys.
type Coded struct {
	User string   `json:"user"`
	Keys []string `json:"keys"`
}

// Standing is who a person is for a gateway, now.
type Standing struct {
	Groups []string `json:"groups"` // none: they may not come in
	Limits Limits   `json:"limits,omitzero"`
	// Ended is when sessions from before it were to end; zero: never.
	Ended time.Time `json:"ended,omitzero"`
}

// ErrStamp is where what somebody proved themselves with is not what it was, or they may not come in any more: they must log in anew.
var ErrStamp = errors.New("password or state of the person have changed since they logged in, or an administrator ended their sessions")

// Key is the public key that somebody has shown to have: whose it is, a source of people says.
type Key struct {
	Tunnel string   `json:"tunnel"`          // by which they come
	Public []byte   `json:"public"`          // SubjectPublicKeyInfo, DER
	Chain  [][]byte `json:"chain,omitempty"` // certificates, DER, the person's first; none: a raw key
}

// Shared is a key that a person and the gateway both know.
type Shared struct {
	ID      string `json:"id"` // of the key; no secret
	Outcome        // whose it is; without OK there is none that counts
	Secret  []byte `json:"secret,omitempty"` // with OK
}

// SharedKey asks for one.
type SharedKey struct {
	MixedIn bool `json:"mixed-in,omitempty"` // by its own name one that goes into the keys for traffic (RFC 8784)
	// Identity is that name, or who the device claims to be: then it is the one by which the person proves that they are.
	Identity string `json:"identity"`
	// From is where the device calls from.
	From netip.Addr `json:"from,omitzero"`
}

// Refused ends a conversation.
func Refused(why reason.Reason) Step { return Step{Over: true, Outcome: Outcome{Why: why}} }
