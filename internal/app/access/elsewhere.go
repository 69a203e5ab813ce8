package access

import (
	"context"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/fold"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/people/source"
	"yellowlantern/internal/store"
)

// trustedFor is for how long an administrator of a source goes on while it does not answer.
const trustedFor = time.Hour

// Sources are the plan's sources of people.
type Sources interface {
	Sources() []source.Source
}

// keepers are the entries by which administrators of sources sign in; none: they are the service's own.
func (s *Service) keepers() ([]plan.Administrators, *plan.Plan) {
	if s.Plan == nil {
		return nil, nil
	}
	p := s.Plan()
	if p == nil {
		return nil, nil
	}
	return p.Keepers(), p
}

// roleOf is what somebody may do who is in these groups of a source; empty: nothing.
func roleOf(keepers []plan.Administrators, from string, groups []source.Group) string {
	for _, k := range keepers {
		if k.Source == from && source.In(k.Groups, groups) {
			return k.Role
		}
	}
	return ""
}

var wrong = &refusal.Error{Sort: refusal.Unproved, Words: "name or password is wrong"}

// wrongOf is wrong, with whom it is about where a source knows them.
type wrongOf struct {
	error
	person string
}

// Unwrap lets it be what it is about.
func (w *wrongOf) Unwrap() error { return w.error }

// fromSource judges an administrator's password by the sources that keep administrators. inner is what the journal is told of somebody
// whom a source knows; whoever asks learns less.
func (s *Service) fromSource(ctx context.Context, keepers []plan.Administrators, c Credentials) (a store.Administrator, inner string,
	no error,
) {
	asked := map[string]bool{}
	for _, k := range keepers {
		if asked[k.Source] {
			continue
		}
		asked[k.Source] = true
		all := s.Elsewhere.Sources()
		i := slices.IndexFunc(all, func(x source.Source) bool { return x.Settings().Name == k.Source })
		if i < 0 {
			continue // a commit has looked at it
		}
		who, err := all[i].Login(ctx, source.Call{User: c.Name, Password: c.Password, From: actor.Of(ctx).From}, nil)
		kind := source.KindOf(err)
		switch {
		case err == nil:
			return s.came(ctx, keepers, k.Source, who)
		case kind == source.Unknown:
		case slices.Contains([]source.Kind{source.Wrong, source.Barred, source.Expired, source.Refused}, kind):
			return a, "source " + k.Source + ": " + err.Error(), &wrongOf{wrong, source.PersonOf(err)}
		default:
			s.Log.Warn("an administrator cannot sign in", "source", k.Source, "error", err)
			return a, "", &refusal.Error{Sort: refusal.Away, Words: "source " + k.Source + " does not answer, so that its administrators cannot sign in; " +
				"the administrator of last resort can"} // strangers are told no more
		}
	}
	return a, "", wrong
}

// came keeps somebody whom a source let in as one of its administrators.
func (s *Service) came(ctx context.Context, keepers []plan.Administrators, from string, who source.Person) (a store.Administrator,
	inner string, err error,
) {
	role := roleOf(keepers, from, who.Groups)
	if role == "" {
		words := "source " + from + " knows you, and no group of yours there makes an administrator"
		return a, words, &refusal.Error{Sort: refusal.Unproved, Words: words}
	}
	if err := fitName(who.Login); err != nil {
		return a, "", refusal.Mistaken(err)
	}
	all, err := s.Store.Administrators(ctx)
	if err != nil {
		return a, "", err
	}
	a = store.Administrator{Name: who.Login, At: time.Now().UTC()}
	for _, have := range all {
		switch {
		case !fold.Same(have.Name, who.Login):
		case have.Source == "" || have.Source != from:
			words := "an administrator " + have.Name + " is there already, who is not of source " + from
			return a, words, &refusal.Error{Sort: refusal.Unproved, Words: words}
		default: // who comes once as dora and once as Dora is one
			a.Name, a.At = have.Name, have.At
		}
	}
	a.Source, a.Role = from, role
	return a, "", s.said(ctx, &a, who)
}

// said keeps what a source says of an administrator.
func (s *Service) said(ctx context.Context, a *store.Administrator, who source.Person) error {
	groups, err := json.Marshal(who.Groups)
	if err != nil {
		return err
	}
	a.Groups, a.Checked, a.Gone = string(groups), time.Now().UTC(), false
	return s.Store.SaveElsewhere(ctx, *a)
}

// Stands tells whether an administrator of a source is one still, by what it said last and what the plan says now, and what they may do.
func (s *Service) Stands(ctx context.Context, a *store.Administrator) bool {
	if a.Source == "" {
		return true
	}
	if time.Since(a.Checked) >= trustedFor {
		s.look(ctx, a)
	}
	keepers, _ := s.keepers()
	var groups []source.Group
	if err := json.Unmarshal([]byte(a.Groups), &groups); err != nil {
		return false
	}
	a.Role = roleOf(keepers, a.Source, groups)
	return !a.Gone && a.Role != "" && time.Since(a.Checked) < trustedFor
}

// look asks the source of an administrator about them, and ends what they have open where they are none any more.
func (s *Service) look(ctx context.Context, a *store.Administrator) {
	s.looking.Lock() // one after the other: it is for few, and seldom
	defer s.looking.Unlock()
	if fresh, err := s.Store.Administrator(ctx, a.Name); err != nil || !fresh.Checked.Equal(a.Checked) {
		if err == nil {
			*a = fresh
		}
		return // somebody else has asked meanwhile
	}
	all := s.Elsewhere.Sources()
	i := slices.IndexFunc(all, func(x source.Source) bool { return x.Settings().Name == a.Source })
	if i < 0 || !all[i].Looks() {
		return
	}
	who, err := all[i].Look(ctx, a.Name, nil)
	keepers, _ := s.keepers()
	var why string
	switch kind := source.KindOf(err); {
	case err != nil && !slices.Contains([]source.Kind{source.Unknown, source.Barred, source.Expired}, kind):
		return // what was said before counts on, for a while
	case err != nil:
		why = err.Error()
	case roleOf(keepers, a.Source, who.Groups) == "":
		why = "no group of theirs there makes an administrator"
	}
	was := a.Gone
	if err == nil {
		err = s.said(ctx, a, who)
	}
	if why != "" {
		a.Gone, a.Checked = true, time.Now().UTC()
		err = s.Store.SaveElsewhere(ctx, *a)
	}
	if err != nil || why == "" || was {
		return
	}
	s.Journal.Tell(reason.Of(reason.AdministratorGone, reason.With{reason.Source: a.Source, reason.Error: why}), a.Name)
	_, _ = s.EndSessions(ctx, a.Name)
	s.credentials.endOf(a.Name)
}

// Keep asks sources about their administrators who have something open, as often as the plan says of the source.
func (s *Service) Keep(ctx context.Context) {
	keepers, p := s.keepers()
	if len(keepers) == 0 {
		return
	}
	all, err := s.Store.Administrators(ctx)
	if err != nil {
		return
	}
	again := map[string]time.Duration{}
	for i := range p.Sources {
		again[p.Sources[i].Name] = p.Sources[i].LDAP().Again()
	}
	for i := range all {
		a := &all[i]
		if a.Source == "" || time.Since(a.Checked) < min(again[a.Source], trustedFor/2) {
			continue
		}
		if open, err := s.open(ctx, a.Name); err == nil && open {
			s.look(ctx, a)
		}
	}
}

// open tells whether an administrator has a browser signed in, or a token.
func (s *Service) open(ctx context.Context, name string) (bool, error) {
	browsers, err := s.Store.ConsoleSessions(ctx, name)
	tokens, bad := s.Store.Tokens(ctx)
	return len(browsers) > 0 || slices.ContainsFunc(tokens, func(t store.Token) bool { return t.Administrator == name }),
		errors.Join(err, bad)
}

// LastResort is who of the service's own administrators signs in where the others are of sources, while they have a browser signed in, or a
// token; empty: they have none.
func (s *Service) LastResort(ctx context.Context) (name string, since time.Time, err error) {
	keepers, p := s.keepers()
	if len(keepers) == 0 || p.LastResort == "" {
		return "", since, nil
	}
	open, err := s.Store.ConsoleSessions(ctx, p.LastResort)
	tokens, bad := s.Store.Tokens(ctx)
	if err = errors.Join(err, bad); err != nil {
		return "", since, err
	}
	for _, c := range open {
		name, since = p.LastResort, earlier(since, c.At)
	}
	for _, t := range tokens {
		if t.Administrator == p.LastResort {
			name, since = p.LastResort, earlier(since, t.At)
		}
	}
	return name, since, nil
}

func earlier(a, b time.Time) time.Time {
	if a.IsZero() || b.Before(a) {
		return b
	}
	return a
}

// alarm tells that the administrator of last resort signed in.
func (s *Service) alarm(ctx context.Context, p *plan.Plan, name string) {
	from := actor.Of(ctx).From.String()
	s.Journal.Tell(reason.Of(reason.LastResortUsed, reason.With{reason.Source: from}), name)
	if s.Mail == nil || len(p.AlarmTo) == 0 {
		return
	}
	to, site := p.AlarmTo, p.Name
	s.Background(func(ctx context.Context) {
		for _, address := range to {
			err := s.Mail.Send(ctx, address, "The administrator of last resort signed in at "+site,
				name+", the administrator of last resort of "+site+", signed in from "+from+" at "+time.Now().UTC().Format("15:04 MST on 2 January 2006")+
					".\n\nIf none of you meant to: sign in, look at the journal (yl journal --user "+name+"), and make "+name+
					" another password (yl administrators password "+name+").\n")
			if errors.Is(err, context.Canceled) {
				return
			}
		}
	})
}
