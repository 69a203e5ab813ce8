package gateway

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/tunnel"
)

// stamped is a source of one person.
type stamped struct {
	People
	stamp string
	err   error
}

func (s *stamped) Again(_ context.Context, _, stamp string) (login.Standing, error) {
	switch {
	case s.err != nil:
		return login.Standing{}, s.err
	case stamp != s.stamp:
		return login.Standing{}, login.ErrStamp
	}
	return login.Standing{Groups: []string{"researchers"}}, nil
}

// What is remembered of a person counts for as long as a session may last, from their login on and not from their last return; not under
// another revision, not once what they logged in with has changed, and not while nobody knows.
func TestRemembered(t *testing.T) {
	g := idle(t)
	people := &stamped{stamp: "first"}
	g.cfg.People = people
	h := host{g, plan.KindIKEv2}
	g.model.Class([]string{"researchers"}).Passage.Limits.Longest = plan.Duration(4 * time.Hour)
	ask := tunnel.Request{User: "rory", Groups: []string{"researchers"}, Tunnel: "main", Stamp: "first", Key: []byte("a key")}
	s, grant := g.grant(ask, plan.KindIKEv2)
	require.NotNil(t, s, "%v", grant.Refusal)
	require.Equal(t, s.Since.Add(4*time.Hour), grant.Until)

	who := h.Back(grant.Remember)
	require.True(t, who.OK, "%v", who.Why)
	require.Equal(t, "rory", who.User)
	ask.Back, ask.Stamp, ask.Key = grant.Remember, "", nil
	time.Sleep(10 * time.Millisecond)
	later, again := g.grant(ask, plan.KindIKEv2)
	require.NotNil(t, later)
	require.True(t, later.Since.After(s.Since))
	require.True(t, later.LoggedIn.Equal(s.Since))
	require.Equal(t, "a key", string(later.Key), "it is still what they came in by")
	require.True(t, again.Until.Equal(grant.Until), "coming back does not make it last longer")
	require.True(t, h.Back(again.Remember).OK)

	refused := func() reason.Code { return h.Back(again.Remember).Why.Code }
	people.stamp = "second"
	require.Equal(t, reason.LoginAnew, refused())
	people.stamp, people.err = "first", ErrLater
	require.Equal(t, reason.LoginsLater, refused())
	people.err = errors.New("the disk is full")
	require.Equal(t, reason.LoginsLater, refused())
	people.err = nil
	g.revision.Add(1)
	require.Equal(t, reason.LoginAnew, refused())
	require.False(t, h.Back(nil).OK)
	require.False(t, h.Back([]byte("{")).OK)

	ask.Back = nil
	_, none := g.grant(ask, plan.KindIKEv2)
	require.Nil(t, none.Remember, "nothing stands for what they logged in with")
}
