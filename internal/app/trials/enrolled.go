package trials

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/forward"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/enrolled"
	"yellowlantern/internal/people"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/store"
)

const (
	inviteTime = 24 * time.Hour
	// callTime is how long a call of a probe's waits for a job. A probe calls again at once, so one that has not called for awayTime is not
	// connected; after a restart of the service it may take pickTime until it does.
	callTime = 20 * time.Second
	awayTime = 3 * time.Second
	pickTime = 15 * time.Second
	jobTime  = 4 * time.Minute // from when it is taken until its report is there

	callsAtOnce = 200
	callsEach   = 20
)

// Recorder is what keeps the gateway's own record of a trial.
type Recorder interface {
	Follow(user string) error
	Followed(user string) (forward.Evidence, error)
}

// EnrolledProbe is a machine elsewhere that tries when it is asked to. It is a vantage.
type EnrolledProbe struct {
	Name      string    `json:"name"`
	Enrolled  time.Time `json:"enrolled,omitzero" doc:"When; left out: it was invited, and has not enrolled."`
	Until     time.Time `json:"until,omitzero" doc:"Until when the invitation counts."`
	From      string    `json:"from,omitempty" doc:"The address that it enrolled from."`
	By        string    `json:"by" doc:"Who invited it."`
	Connected bool      `json:"connected" doc:"It waits for something to try."`
	Seen      time.Time `json:"seen,omitzero" doc:"Of its newest call since the service started."`
}

// job is one class of people to be tried as by one probe.
type job struct {
	enrolled.Job
	probe string
	taken chan struct{} // closed when it is
	done  chan probe.Report
}

// desk is where probes get their jobs and leave their reports.
type desk struct {
	mu      sync.Mutex
	jobs    []*job // not taken
	under   map[string]*job
	wake    chan struct{} // closed when there is a job; nil: nobody waits
	seen    map[string]time.Time
	waiting map[string]int
	used    map[string]time.Time // numbers of calls, which count once
	turns   map[string]int       // how often a probe of that name was revoked
	paces   map[string]*rate.Limiter
}

// Invite makes an invitation, by which one machine becomes a probe of that name.
func (s *Service) Invite(ctx context.Context, name string) (enrolled.Invitation, error) {
	if err := enrolled.Named(name); err != nil {
		return enrolled.Invitation{}, refusal.Invalid(err.Error())
	}
	taken := func(v Vantage) bool { return v.Name == name }
	if name == ThisNetwork || name == everyVantage || slices.ContainsFunc(s.Vantages, taken) {
		return enrolled.Invitation{}, refusal.Conflict(fmt.Sprintf("there is a vantage %q already", name))
	}
	at := s.At()
	if at == "" {
		return enrolled.Invitation{}, refusal.Invalid("it is not known where a machine elsewhere reaches this service: set kits-at in " +
			"the plan (yl plan set kits-at https://NAME), and open that port (--listen-kits)")
	}
	authority, err := s.Trust.Authorities(ctx)
	if err != nil {
		return enrolled.Invitation{}, err
	}
	now := time.Now().UTC()
	i := enrolled.Invitation{
		Format: enrolled.Format, Name: name, Service: at, Authority: authority, Code: rand.Text(), Until: now.Add(inviteTime),
	}
	sum := sha256.Sum256([]byte(i.Code))
	err = s.Store.InviteProbe(ctx, store.EnrolledProbe{Name: name, By: actor.Name(ctx), Invited: now, Code: sum[:], Until: i.Until})
	if errors.Is(err, store.ErrExists) {
		err = refusal.Conflict(fmt.Sprintf("there is a probe %q already: yl probe revoke %s first", name, name))
	}
	return i, err
}

var errEnrolment = &refusal.Error{Sort: refusal.Unproved, Words: "this invitation is not valid: it was used, has ended, " +
	"or was revoked; have another one made (yl probe invite)"}

// Enrol takes a machine's key by an invitation.
func (s *Service) Enrol(ctx context.Context, e enrolled.Enrolment) error {
	public, err := enrolled.PublicKey(e.Key)
	if err != nil {
		return refusal.Invalid("the probe's key cannot be read: " + err.Error())
	}
	now := time.Now()
	c, err := enrolled.Verify(e.Proof, nil, now, func(string) (ed25519.PublicKey, error) { return public, nil })
	if errors.Is(err, enrolled.ErrClocks) {
		return refusal.Invalid(err.Error())
	}
	if err != nil || c.Issuer != e.Name {
		return errEnrolment
	}
	sum := sha256.Sum256([]byte(e.Code))
	from := actor.Of(ctx).From.String()
	if err := s.Store.EnrolProbe(ctx, e.Name, sum[:], e.Key, from, now); errors.Is(err, store.ErrNotFound) {
		return errEnrolment
	} else if err != nil {
		return err
	}
	s.Journal.Tell(reason.Of(reason.ProbeEnrolled, reason.With{reason.Name: e.Name, reason.Source: from}), "")
	return nil
}

// Enrolled lists probes, and those that are invited.
func (s *Service) Enrolled(ctx context.Context) ([]EnrolledProbe, error) {
	all, err := s.Store.EnrolledProbes(ctx)
	out := []EnrolledProbe{}
	for _, p := range all {
		one := EnrolledProbe{Name: p.Name, By: p.By, From: p.From, Enrolled: p.Since}
		if p.Key == nil {
			one.Until = p.Until
		}
		one.Seen, one.Connected = s.desk.lastSeen(p.Name, time.Now())
		out = append(out, one)
	}
	return out, err
}

// Connected tells of the probes that enrolled which are connected, and which are not.
func (s *Service) Connected(ctx context.Context) (connected, gone []string, err error) {
	all, err := s.Enrolled(ctx)
	for _, p := range all {
		switch {
		case p.Enrolled.IsZero():
		case p.Connected:
			connected = append(connected, p.Name)
		default:
			gone = append(gone, p.Name)
		}
	}
	return connected, gone, err
}

// Revoke forgets a probe: from now on nothing that it says counts.
func (s *Service) Revoke(ctx context.Context, name string) error {
	if err := s.Store.RemoveProbe(ctx, name); err != nil {
		return refusal.Known(err, "probe", name)
	}
	s.desk.turnAway(name)
	return nil
}

var errStranger = &refusal.Error{Sort: refusal.Unproved, Words: "this probe is not enrolled, or was revoked: " +
	"have it invited again (yl probe invite)"}

// Call takes the report that a probe brings, if any, and gives it its next job; nil: there is none yet.
func (s *Service) Call(ctx context.Context, in enrolled.Call) (enrolled.Answer, error) {
	now := time.Now()
	c, err := enrolled.Verify(in.Token, in.Report, now, func(name string) (ed25519.PublicKey, error) {
		p, err := s.Store.EnrolledProbe(ctx, name)
		if err != nil {
			return nil, err
		}
		return enrolled.PublicKey(p.Key)
	})
	switch {
	case errors.Is(err, enrolled.ErrClocks):
		return enrolled.Answer{}, refusal.Invalid(err.Error())
	case err != nil:
		return enrolled.Answer{}, errStranger
	case !s.desk.mayCall(c.Issuer, now):
		return enrolled.Answer{}, &refusal.Error{Sort: refusal.TooMuch, Wait: callTime, Words: "this probe calls too often"}
	case !s.desk.first(c.ID, now):
		return enrolled.Answer{}, errStranger
	}
	if in.Report != nil {
		r, err := enrolled.Unpack(in.Report)
		if err != nil {
			return enrolled.Answer{}, refusal.Invalid(err.Error())
		}
		tame(reflect.ValueOf(&r))
		if !s.desk.hand(c.Issuer, c.Job, r) {
			return enrolled.Answer{}, refusal.Conflict("nobody waits for that report any longer")
		}
		return enrolled.Answer{}, nil
	}
	bounded, stop := context.WithTimeout(ctx, callTime)
	defer stop()
	defer context.AfterFunc(s.Running, stop)()
	return enrolled.Answer{Job: s.desk.take(bounded, c.Issuer)}, nil
}

// tryFrom has an enrolled probe try, and holds what it says against the gateway's record.
func (s *Service) tryFrom(ctx context.Context, name string, o probe.Order, t *people.Tester) (*probe.Report, error) {
	if _, err := s.Store.EnrolledProbe(ctx, name); err != nil {
		return nil, fmt.Errorf("probe %s is not enrolled any longer", name)
	}
	recorder, ok := s.Gateway.(Recorder)
	if !ok {
		return nil, errors.New("this gateway keeps no record of trials")
	}
	key, err := x509.MarshalPKCS8PrivateKey(t.Key)
	if err != nil {
		return nil, err
	}
	if err := recorder.Follow(t.Name); err != nil {
		return nil, err
	}
	r, err := s.desk.have(ctx, &job{probe: name, Job: enrolled.Job{
		ID: rand.Text(), Order: o, Password: t.Password, Key: key, Certificate: t.Certificate,
	}})
	record, lost := recorder.Followed(t.Name)
	if err = errors.Join(err, lost); err != nil {
		return nil, err
	}
	return r.Recorded(o, record, time.Now()), nil
}

// mayCall bounds how often a probe calls: callsAtOnce, and callsEach a second after that.
func (d *desk) mayCall(name string, now time.Time) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.paces == nil {
		d.paces = map[string]*rate.Limiter{}
	}
	if d.paces[name] == nil {
		d.paces[name] = rate.NewLimiter(callsEach, callsAtOnce)
	}
	return d.paces[name].AllowN(now, 1)
}

// first tells whether a call's number was not seen before, and remembers it for as long as such a call would count.
func (d *desk) first(id string, now time.Time) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	for old, at := range d.used {
		if now.Sub(at) > 2*enrolled.Apart {
			delete(d.used, old)
		}
	}
	if d.used == nil {
		d.used = map[string]time.Time{}
	}
	_, known := d.used[id]
	d.used[id] = now
	return !known
}

func (d *desk) lastSeen(name string, now time.Time) (at time.Time, connected bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	at = d.seen[name]
	return at, d.waiting[name] > 0 || d.busy(name) || !at.IsZero() && now.Sub(at) < awayTime
}

// have puts a job, and waits for its report.
func (d *desk) have(ctx context.Context, j *job) (probe.Report, error) {
	j.taken, j.done = make(chan struct{}), make(chan probe.Report, 1)
	d.mu.Lock()
	d.jobs = append(d.jobs, j)
	d.wakes()
	d.mu.Unlock()
	defer func() {
		d.mu.Lock()
		defer d.mu.Unlock()
		d.jobs = slices.DeleteFunc(d.jobs, func(x *job) bool { return x == j })
		delete(d.under, j.ID)
	}()
	limit := time.NewTimer(pickTime) // a probe that tries something already takes the next when it is done
	defer limit.Stop()
	taken := j.taken
	for {
		select {
		case <-taken:
			limit.Reset(jobTime)
			taken = nil
		case r := <-j.done:
			return r, nil
		case <-ctx.Done():
			return probe.Report{}, fmt.Errorf("the time for it was over before probe %s was done", j.probe)
		case <-limit.C:
			if taken == nil {
				return probe.Report{}, fmt.Errorf("probe %s took it, and did not report within %s: "+
					"journalctl -u yl-probe on its machine says why", j.probe, jobTime)
			}
			d.mu.Lock()
			busy := d.busy(j.probe)
			d.mu.Unlock()
			if busy {
				limit.Reset(pickTime)
				continue
			}
			return probe.Report{}, fmt.Errorf("probe %s is not connected: is yl-probe running on its machine, and does it reach "+
				"this service (systemctl status yl-probe)", j.probe)
		}
	}
}

// busy tells whether a probe tries something at the moment. d.mu is held.
func (d *desk) busy(name string) bool {
	for _, j := range d.under {
		if j.probe == name {
			return true
		}
	}
	return false
}

// wakes has those look again who wait for a job. d.mu is held.
func (d *desk) wakes() {
	if d.wake != nil {
		close(d.wake)
		d.wake = nil
	}
}

// turnAway ends the calls of a probe that was revoked.
func (d *desk) turnAway(name string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.turns == nil {
		d.turns = map[string]int{}
	}
	d.turns[name]++
	d.wakes()
}

// take gives a probe its next job, and waits for one; nil: there was none.
func (d *desk) take(ctx context.Context, name string) *enrolled.Job {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.seen == nil {
		d.seen, d.waiting, d.under = map[string]time.Time{}, map[string]int{}, map[string]*job{}
	}
	turn := d.turns[name]
	d.waiting[name]++
	defer func() {
		d.waiting[name]--
		d.seen[name] = time.Now()
	}()
	for d.turns[name] == turn {
		if i := slices.IndexFunc(d.jobs, func(j *job) bool { return j.probe == name }); i >= 0 && ctx.Err() == nil {
			j := d.jobs[i]
			d.jobs = slices.Delete(d.jobs, i, i+1)
			d.under[j.ID] = j
			close(j.taken)
			return &j.Job
		}
		if d.wake == nil {
			d.wake = make(chan struct{})
		}
		wake := d.wake
		d.mu.Unlock()
		select {
		case <-wake:
		case <-ctx.Done():
		}
		d.mu.Lock()
		if ctx.Err() != nil {
			return nil
		}
	}
	return nil
}

// hand takes the report of a job that this probe has; false: nobody waits for it.
func (d *desk) hand(name, id string, r probe.Report) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	j := d.under[id]
	if j == nil || j.probe != name {
		return false
	}
	delete(d.under, id)
	j.done <- r
	return true
}

// enrolledVantages are the probes that a trial can be made from.
func (s *Service) enrolledVantages(ctx context.Context) (out []Vantage, err error) {
	all, err := s.Enrolled(ctx)
	for _, p := range all {
		if !p.Enrolled.IsZero() {
			about := "an enrolled probe elsewhere, connected"
			if !p.Connected {
				about = "an enrolled probe elsewhere, not connected"
			}
			out = append(out, Vantage{Name: p.Name, About: about, Enrolled: true, Connected: p.Connected})
		}
	}
	return out, err
}
