package sources

import (
	"context"
	"crypto/rand"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/eap"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/people"
	"yellowlantern/internal/people/source"
)

// SourceTrial is what came of trying a source.
type SourceTrial struct {
	OK      bool           `json:"ok"`
	Words   string         `json:"words" doc:"What came of it, or why nothing did."`
	Fix     string         `json:"fix,omitempty"`
	Steps   []source.Asked `json:"steps" nullable:"false" doc:"What was done, with what came of it."`
	Person  string         `json:"person,omitempty" doc:"Whom it was about, by their name there."`
	User    string         `json:"user,omitempty" doc:"Who would come in."`
	There   []string       `json:"there" nullable:"false" doc:"Their groups there."`
	Groups  []string       `json:"groups" nullable:"false" doc:"Which of the plan's they make."`
	Passage string         `json:"passage,omitempty" doc:"Which takes them."`
}

// Trial says what is tried.
type Trial struct {
	Source, Draft  string // of the draft; without one of what runs
	User, Password string // without a password they are looked up
	// Secret is the source's, given again: a draft whose source has other servers, or another authority, than its secret was stored for
	// is not sent the one that is kept.
	Secret string
}

// Try tries a source of what runs, or of a draft: everything up to the person, with a password their login too.
func (s *Service) Try(ctx context.Context, t Trial) (SourceTrial, error) {
	draft, name, user, password := t.Draft, t.Source, t.User, t.Password
	out := SourceTrial{Steps: []source.Asked{}, There: []string{}, Groups: []string{}}
	w, _, err := s.Plans.Whole(ctx, draft)
	if err != nil {
		return out, err
	}
	m, err := w.Model()
	if err != nil {
		return out, refusal.Mistaken(err)
	}
	src := m.Names.Sources[name]
	if src == nil {
		return out, refusal.Missing(fmt.Sprintf("there is no source %q in the plan", name))
	}
	secret, why, err := s.secretOf(ctx, t, *src)
	if err != nil {
		return out, err
	}
	s.Journal.Tell(reason.Of(reason.SourceTried, reason.With{
		reason.Administrator: actor.Name(ctx), reason.Source: name, reason.Server: strings.Join(src.Servers, ", "), reason.What: draft, reason.Name: user,
		reason.Error: why,
	}), "")
	if why != "" {
		out.Words = why + ": it is not sent there"
		out.Fix = "give it again (yl sources try --secret-file FILE), or have another administrator approve the draft"
		return out, nil
	}
	at, err := s.open(*src, secret)
	if err != nil {
		return out, refusal.Mistaken(err)
	}
	defer at.Close()
	step := func(x source.Asked) { out.Steps = append(out.Steps, x) }
	var who source.Person
	switch {
	case password != "":
		wait, _ := s.Guesses.Try(user, people.Everywhere, func() people.Verdict {
			who, err = byWays(ctx, at, waysOf(m.Plan, src.Kind), user, password, step)
			switch kind := source.KindOf(err); {
			case err == nil:
				return people.RightGuess
			case kind == source.Wrong || kind == source.Refused || kind == source.Unknown:
				return people.WrongGuess
			}
			return people.NoGuess
		})
		if wait > 0 {
			return out, &refusal.Error{Sort: refusal.TooMuch, Wait: wait, Words: fmt.Sprintf(
				"too many wrong passwords of %s were tried here: wait %d seconds, or leave the password out", user, int(wait.Seconds())+1)}
		}
	case at.Looks() || src.Kind == plan.KindLDAP:
		who, err = at.Look(ctx, user, step)
	default:
		return out, refusal.Mistaken(fmt.Errorf("source %s judges logins alone: give the password of %s as well (yl sources try --login)",
			name, user))
	}
	if err != nil {
		out.Words, out.Fix = err.Error(), fixes[source.KindOf(err)]
		return out, nil
	}
	out.Person, out.User = who.Name, who.Login
	for _, g := range who.Groups {
		out.There = append(out.There, g.Name)
	}
	out.Groups = append(out.Groups, source.Taken(*src, who.Groups, groupsOf(m.Plan))...)
	class := m.Class(out.Groups)
	switch {
	case len(out.Groups) == 0:
		out.Words = fmt.Sprintf("%s is found, and none of their groups (%s) is one of the plan's", who.Login, orNone(out.There))
		out.Fix = "say under groups of source " + name + " which of its groups is which of the plan's"
	case class.Shut != nil:
		off := m.Off(class.Shut)
		out.Words = fmt.Sprintf("%s is found, in %s, and the tunnels of passage %s are off (%s)", who.Login, strings.Join(out.Groups, ", "),
			class.Shut.Name, strings.Join(off, ", "))
		out.Fix = "switch tunnel " + off[0] + " on"
	case class.Passage == nil:
		out.Words = fmt.Sprintf("%s is found, in %s, and no passage admits that", who.Login, strings.Join(out.Groups, ", "))
		out.Fix = "let a passage admit one of these groups"
	default:
		out.OK, out.Passage = true, class.Passage.Name
		out.Words = fmt.Sprintf("%s is found, in %s, and comes in by passage %s", who.Login, strings.Join(out.Groups, ", "), out.Passage)
		if by := Tunnels(m.Plan, src.Kind, class.Passage.Tunnels); len(by) == 0 {
			out.OK = false
			out.Words += ", if not by a password: by none of its tunnels the source could judge one"
			out.Fix = "say login: eap-ttls at a tunnel of the passage, or have them come by certificates"
		}
	}
	return out, nil
}

// secretOf is what the service proves itself with in a trial; why tells that the one that is kept may not be sent to where the source is.
func (s *Service) secretOf(ctx context.Context, t Trial, src plan.Source) (
	secret func(context.Context) (string, error), why string, err error,
) {
	if t.Secret != "" {
		return func(context.Context) (string, error) { return t.Secret, nil }, "", nil
	}
	secret = s.secret(src.Secret)
	u, sends := src.SecretUse()
	if t.Draft == "" || !sends {
		return secret, "", nil
	}
	if why, err = s.Plans.SecretMay(ctx, u); err != nil || why == "" {
		return secret, why, err
	}
	d, err := s.Store.Draft(ctx, t.Draft)
	if err != nil {
		return nil, "", refusal.Known(err, "draft", t.Draft)
	}
	approved, err := s.Plans.ApprovedByAnother(ctx, d)
	if approved {
		why = ""
	}
	return secret, why, err
}

// waysOf are those of a plan's ways of logging in that a kind of source judges; none: a password that is handed over is the one to try.
func waysOf(p *plan.Plan, kind string) (out []string) {
	for _, t := range p.Tunnels {
		for _, way := range t.Logins() {
			if !t.Off && plan.Judges(kind, way) && !slices.Contains(out, way) {
				out = append(out, way)
			}
		}
	}
	if len(out) == 0 {
		return []string{plan.LoginTTLS}
	}
	return out
}

// byWays tries somebody's login by each way. A server may take one and not another.
func byWays(ctx context.Context, at source.Source, ways []string, user,
	password string,
	step func(source.Asked),
) (who source.Person, err error) {
	for _, way := range ways {
		challenged, several := at.(source.Challenged)
		said := func(a source.Asked) {
			if several {
				a.Words = named[way] + ": " + a.Words
			}
			step(a)
		}
		relayed, _ := at.(source.Relayed)
		switch {
		case way == plan.LoginMSCHAPv2 && challenged != nil:
			who, err = byChallenge(ctx, challenged, user, password, said)
		case way == plan.LoginRelayed && relayed != nil:
			who, err = byRelay(ctx, relayed, user, password, said)
		default:
			who, err = at.Login(ctx, source.Call{User: user, Password: password}, said)
		}
		if err != nil {
			return who, err
		}
	}
	return who, nil
}

// named are the ways as steps of a trial call them.
var named = map[string]string{
	plan.LoginTTLS: "password handed over", plan.LoginMSCHAPv2: "answer to a challenge", plan.LoginRelayed: "EAP carried on there",
}

const mostRounds = 30 // of a conversation

// byChallenge tries an answer to a challenge, as a device gives it.
func byChallenge(ctx context.Context, at source.Challenged, user, password string, step func(source.Asked)) (who source.Person, err error) {
	device := eap.NewPeer(rand.Reader, user, password)
	asks := eap.Converse(eap.ByMSCHAPv2(rand.Reader, "", func(c eap.Check) (v eap.Verdict) {
		if who, v, err = at.Challenge(ctx, netip.Addr{}, c, step); v.MustChange {
			err = source.Fail(source.Barred, "their password has expired")
		}
		v.Later = err != nil
		return v
	}))
	message := asks.Next(nil).Send
	for range mostRounds {
		answer, done, wrong := device.Handle(message)
		switch {
		case done || err != nil:
			return who, err
		case wrong != nil:
			return who, source.Fail(source.Mistaken, "the server does not prove that it knows the password: %v", wrong)
		}
		message = asks.Next(answer).Send
	}
	return who, source.Fail(source.Mistaken, "the login comes to no end")
}

// byRelay tries a whole conversation, by EAP-MSCHAPv2.
func byRelay(ctx context.Context, at source.Relayed, user, password string, step func(source.Asked)) (who source.Person, err error) {
	device, relay := eap.NewPeer(rand.Reader, user, password), at.Relay(login.Call{})
	begun := time.Now()
	message := eap.AskIdentity()
	for n := range mostRounds {
		answer, _, wrong := device.Handle(message)
		if wrong != nil {
			return who, source.Fail(source.Mistaken, "EAP-MSCHAPv2 with the server: %v", wrong)
		}
		back, err := relay.Next(ctx, answer)
		if err != nil || back.Over {
			words := fmt.Sprintf("%d messages to and fro by EAP-MSCHAPv2, with a key at the end", n+1)
			if err != nil {
				words = fmt.Sprintf("message %d: %v", n+1, err)
			}
			step(source.Asked{Words: words, OK: err == nil, Took: time.Since(begun)})
			return back.Person, err
		}
		message = back.Send
	}
	return who, source.Fail(source.Mistaken, "the login comes to no end")
}

// Tunnels are those of some that people of a kind of source can log in by with a password.
func Tunnels(p *plan.Plan, kind string, of []string) (out []string) {
	for _, t := range p.Tunnels {
		if !t.Off && slices.Contains(of,
			t.Name) && slices.ContainsFunc(t.Logins(),
			func(way string) bool { return plan.Judges(kind, way) }) {
			out = append(out, t.Name)
		}
	}
	return out
}

func orNone(words []string) string {
	if len(words) == 0 {
		return "none"
	}
	return strings.Join(words, ", ")
}

// fixes are what to do about each kind of error.
var fixes = map[source.Kind]string{
	source.Away:     "look at the server, its name, its certificate and what stands in between; a RADIUS server must know this client",
	source.Account:  "set account and secret to what the server has, and keep the secret: yl secret keep",
	source.Unknown:  "look at base, login-by and filter, or at the spelling",
	source.Several:  "choose a login-by or a filter that finds one entry alone",
	source.Wrong:    "let them type it again",
	source.Refused:  "let them type it again; the server's own record says why",
	source.Barred:   "mend it there",
	source.Expired:  "change it there, or let them do so at their login: change-passwords",
	source.Mistaken: "correct what the plan says of it",
}
