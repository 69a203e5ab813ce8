package people

import (
	"context"
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/crowd"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/onetime"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/people/source"
	"yellowlantern/internal/store"
)

// register is a source whose people are a map from what they log in with to how it writes their name.
type register struct {
	name   string
	people map[string]string
	groups []source.Group
}

func (r *register) Settings() plan.Source { return plan.Source{Name: r.name, Kind: plan.KindRADIUS} }

func (r *register) Looks() bool           { return false }
func (r *register) Probe(context.Context) {}
func (r *register) State() source.State   { return source.State{} }
func (r *register) Close()                {}
func (r *register) Look(context.Context, string, func(source.Asked)) (source.Person, error) {
	return source.Person{}, source.Fail(source.Mistaken, "it judges logins alone")
}

func (r *register) Login(_ context.Context, c source.Call, _ func(source.Asked)) (source.Person, error) {
	written, there := r.people[c.User]
	if !there {
		return source.Person{}, source.Fail(source.Refused, "no")
	}
	return source.Person{Name: written, Login: written, Groups: r.groups}, nil
}

type registers struct {
	all    []source.Source
	groups []string
}

func (r *registers) Sources() []source.Source { return r.all }
func (r *registers) Groups() []string         { return r.groups }

// A person is a name at one source. Whoever another source calls the same, however it is written, gets nothing of theirs: no groups, no
// second factor, no keys; and takes nothing from them. Groups are compared as they are written.
func TestOneNameOneSource(t *testing.T) {
	ctx := t.Context()
	st, err := store.Open(t.TempDir())
	require.NoError(t, err)
	defer st.Close()
	p := New(st)
	staff := &register{"staff", map[string]string{"dora": "dora", "änne": "änne"}, []source.Group{{Name: "staff"}}}
	guests := &register{
		"guests", map[string]string{"DORA": "DORA", "ｄｏｒａ": "ｄｏｒａ", "ÄNNE": "A\u0308NNE", "gil": "gil"}, []source.Group{{Name: "ſtaff"}, {Name: "guests"}},
	}
	all := &registers{[]source.Source{staff, guests}, []string{"staff", "guests"}}
	p.Sources = all
	require.NoError(t, p.Add(ctx, User{Name: "rory", Groups: []string{"researchers"}}, "salt-harbour-plank"))
	come := func(name string) login.Outcome { return p.elsewhere(ctx, source.Call{User: name, Password: "x"}) }

	o := come("dora")
	require.True(t, o.OK)
	require.Equal(t, []string{"staff"}, o.Groups)
	made, err := onetime.New(onetime.ByTime)
	require.NoError(t, err)
	_, err = p.AddFactor(ctx, "dora", "", made, nil, "")
	require.NoError(t, err)
	for _, written := range []string{"DORA", "ｄｏｒａ"} {
		o = come(written)
		require.False(t, o.OK, written)
		require.Equal(t, reason.NameHeld, o.Why.Code, written)
		require.Equal(t, "source guests has somebody called dora, and so has source staff, whose person has that name here", o.Why.Words())
	}
	was, err := p.Standing(ctx, "dora")
	require.NoError(t, err)
	require.Equal(t, []string{"staff"}, was.Groups, "the session of the other stays as it is")
	require.True(t, come("änne").OK)
	require.Equal(t, reason.NameHeld, come("ÄNNE").Why.Code)
	o = come("gil")
	require.True(t, o.OK)
	require.Equal(t, []string{"guests"}, o.Groups, "ſtaff is not staff")

	// The service's own users hold names in the same way, and give none that a source's person has.
	guests.people["ＲＯＲＹ"] = "ＲＯＲＹ"
	require.Equal(t, reason.SourceBars, come("ＲＯＲＹ").Why.Code)
	var held *store.HeldError
	require.ErrorAs(t, p.Add(ctx, User{Name: "Dora"}, "salt-harbour-plank"), &held)
	require.ErrorIs(t, p.Add(ctx, User{Name: "RORY"}, "salt-harbour-plank"), store.ErrExists)

	// Two who come for the first time at the same moment.
	twice := make(chan error, 2)
	for _, s := range []string{"staff", "guests"} {
		go func() {
			name := map[string]string{"staff": "nils", "guests": "NILS"}[s]
			twice <- st.SaveSourcePerson(ctx, store.SourcePerson{Name: name, Source: s, At: time.Now()})
		}()
	}
	first, second := <-twice, <-twice
	require.True(t, (first == nil) != (second == nil), "%v, %v", first, second)

	// Once the plan has the source no more the name is free, with nothing of who had it.
	all.all = []source.Source{guests}
	o = come("DORA")
	require.True(t, o.OK, "%v", o.Why)
	require.Equal(t, "guests", o.Source)
	has, err := p.HasFactor(ctx, "dora")
	require.NoError(t, err)
	require.False(t, has)
	require.NoError(t, st.ForgetSourcePerson(ctx, o.User))
	require.ErrorIs(t, st.ForgetSourcePerson(ctx, o.User), store.ErrNotFound)
	require.NoError(t, p.Add(ctx, User{Name: "Dora"}, "salt-harbour-plank"))
}

// Wrong passwords are counted for the name however it is written, and for whoever it turns out to be; not those of somebody who is disabled
// and knows the password. A device behind equipment is counted by itself.
func TestGuessesAreCountedByPerson(t *testing.T) {
	ctx := t.Context()
	st, err := store.Open(t.TempDir())
	require.NoError(t, err)
	defer st.Close()
	p := New(st)
	stopped(p)
	const right = "salt-harbour-plank"
	require.NoError(t, p.Add(ctx, User{Name: "rory", Groups: []string{"researchers"}}, right))
	require.NoError(t, p.Add(ctx, User{Name: "off", Off: true}, right))
	home := login.Call{From: netip.MustParseAddr("203.0.113.45")}
	judged := 0
	for i := range 200 {
		spelled := []string{"rory", "RORY", " rory", "ｒｏｒｙ", "Rory ", "rOry"}[i%6]
		if o := p.Password(ctx, spelled, "wrong", home); o.Why.Code != reason.GuessWaits {
			judged++
		}
	}
	require.Equal(t, 1, judged, "of 200 ways to write it")

	// A source that knows the person by several names.
	aliases := &alias{of: "dora"}
	p.Sources = &registers{[]source.Source{aliases}, []string{"staff"}}
	judged = 0
	for i := range 100 {
		if o := p.Password(ctx, fmt.Sprintf("dora.%d@tern.example", i), "wrong", home); o.Why.Code != reason.GuessWaits {
			judged++
		}
	}
	require.Equal(t, 1, judged, "of 100 names of one person")
	o := p.Password(ctx, "dora.again@tern.example", "right", home)
	require.Equal(t, reason.GuessWaits, o.Why.Code, "nobody learns that it is right")
	p.Sources = nil

	for range 5 {
		require.Equal(t, reason.SwitchedOff, p.Password(ctx, "off", right, home).Why.Code, "it stays what it is")
	}
	require.Equal(t, reason.SwitchedOff, p.Password(ctx, "off", "wrong", home).Why.Code)
	require.Equal(t, reason.GuessWaits, p.Password(ctx, "off", right, home).Why.Code)

	// Equipment: whoever came in by their device before is not kept out by strangers there; strangers who call themselves anything have no
	// more guesses for it.
	p.Guesses.Lift("", netip.Addr{}, nil)
	at := func(station string) login.Call {
		return login.Call{From: netip.MustParseAddr("10.20.0.30"), Station: station}
	}
	require.True(t, p.Password(ctx, "rory", right, at("00-53-00-00-00-01")).OK)
	judged = 0
	for i := range 100 {
		if o := p.Password(ctx, "rory", "wrong", at(fmt.Sprintf("00-53-00-00-01-%02x", i))); o.Why.Code != reason.GuessWaits {
			judged++
		}
	}
	require.Equal(t, 1, judged)
	require.True(t, p.Password(ctx, "rory", right, at("00-53-00-00-00-01")).OK)
	require.Equal(t, "100:53:0:1::/64", crowd.Source(Station("00-53-00-00-00-01")).String(), "the list shows which device it is")
}

// stopped makes throttling see no time pass, however long passwords take to be judged on a slow machine.
func stopped(p *People) {
	at := time.Now()
	p.Guesses.clock = func() time.Time { return at }
	p.Codes.clock = p.Guesses.clock
}

// alias is a source with one person, who has any name.
type alias struct {
	register
	of string
}

func (a *alias) Login(_ context.Context, c source.Call, _ func(source.Asked)) (source.Person, error) {
	if c.Password != "right" {
		return source.Person{}, source.About(source.Fail(source.Wrong, "the password is wrong"), a.of)
	}
	return source.Person{Name: a.of, Login: a.of, Groups: []source.Group{{Name: "staff"}}}, nil
}

// A code behind a password that is right is an attempt at codes: whoever has the password has no more of those for it.
func TestAppendedCodesAreAttempts(t *testing.T) {
	ctx := t.Context()
	st, err := store.Open(t.TempDir())
	require.NoError(t, err)
	defer st.Close()
	p := New(st)
	stopped(p)
	const right = "salt-harbour-plank"
	require.NoError(t, p.Add(ctx, User{Name: "rory", Groups: []string{"researchers"}}, right))
	made, err := onetime.New(onetime.ByTime)
	require.NoError(t, err)
	_, err = p.AddFactor(ctx, "rory", "", made, nil, "")
	require.NoError(t, err)
	tried := 0
	for i := range 50 { // from everywhere
		o := p.Password(ctx, "rory", right+fmt.Sprintf("%06d", i), login.Call{From: netip.AddrFrom4([4]byte{203, 0, 113, byte(i)})})
		require.False(t, o.OK)
		if o.Why.Code == reason.WrongCode {
			tried++
		} else {
			require.Equal(t, reason.CodeWaits, o.Why.Code)
		}
	}
	require.Equal(t, 1, tried)
	require.Equal(t, reason.CodeWaits, p.Code(ctx, login.Code{User: "RORY", Code: "000000"}).Why.Code, "and on the page they are the same")
	o := p.Password(ctx, "rory", "wrong000000", login.Call{From: netip.MustParseAddr("198.51.100.9")})
	require.Equal(t, reason.WrongPassword, o.Why.Code, "without the password nothing is said of codes")
	o = p.Password(ctx, "rory", right, login.Call{From: netip.MustParseAddr("198.51.100.10")})
	require.True(t, o.OK && !o.Coded)
}
