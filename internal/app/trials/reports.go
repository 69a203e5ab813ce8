package trials

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/legible"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/store"
)

// Reports lists the newest reports.
func (s *Service) Reports(ctx context.Context, limit int) ([]probe.Report, error) {
	records, err := s.Store.ProbeReports(ctx, 0, limit)
	return reportsOf(records), err
}

// Newest gives the newest report of each class from each vantage on a revision, newest first: of what the service tried itself.
func (s *Service) Newest(ctx context.Context, number int) ([]probe.Report, error) {
	tried, _, err := s.newest(ctx, number)
	return tried, err
}

// HandedIn gives those that somebody handed in. Nothing vouches for them: they are shown apart, and nothing is green by them.
func (s *Service) HandedIn(ctx context.Context, number int) ([]probe.Report, error) {
	_, handed, err := s.newest(ctx, number)
	return handed, err
}

func (s *Service) newest(ctx context.Context, number int) (tried, handed []probe.Report, err error) {
	records, err := s.Store.NewestReports(ctx, number)
	for _, r := range reportsOf(records) {
		if r.Handed {
			handed = append(handed, r)
		} else {
			tried = append(tried, r)
		}
	}
	return tried, handed, err
}

func reportsOf(records []store.ProbeReport) []probe.Report {
	out := []probe.Report{}
	for _, rec := range records {
		var r probe.Report
		if json.Unmarshal([]byte(rec.Report), &r) == nil {
			out = append(out, r)
		}
	}
	return out
}

// mostTrials is how many things one report may be about.
const mostTrials = 20000

// One administrator hands in at most handedAtOnce reports, and one each handedEvery after that: each is a line of the journal. Of all that
// were handed in the newest are kept.
const (
	handedAtOnce = 60
	handedEvery  = 10 * time.Second
	handedKept   = 200
)

// pace is how often each administrator handed something in.
type pace struct {
	mu sync.Mutex
	by map[string]*rate.Limiter
}

// wait is how long somebody must wait until they may hand in another; 0: they may now, and have.
func (p *pace) wait(now time.Time, who string) time.Duration {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.by == nil {
		p.by = map[string]*rate.Limiter{}
	}
	if p.by[who] == nil {
		p.by[who] = rate.NewLimiter(rate.Every(handedEvery), handedAtOnce)
	}
	r := p.by[who].ReserveN(now, 1)
	d := r.DelayFrom(now)
	if d > 0 {
		r.CancelAt(now)
	}
	return d
}

// HandIn takes a report that somebody says their probe wrote, and judges it again. Whoever hands it in can have made it up: it is kept
// apart from what the service tried, and the journal says who did.
func (s *Service) HandIn(ctx context.Context, r probe.Report) error {
	tame(reflect.ValueOf(&r)) // pages and names that a probe saw are what others wrote: they are shown, and do nothing
	if len(r.Results) > mostTrials {
		return refusal.Invalid(fmt.Sprintf("this is no report that a probe writes: it holds more than %d trials",
			mostTrials))
	}
	if wait := s.handed.wait(time.Now(), actor.Name(ctx)); wait > 0 {
		return &refusal.Error{Sort: refusal.TooMuch, Wait: wait, Words: fmt.Sprintf(
			"you handed in %d reports within minutes: wait %d seconds", handedAtOnce, int(wait.Seconds())+1)}
	}
	rev, err := s.Store.Revision(ctx, r.Revision)
	if errors.Is(err, store.ErrNotFound) {
		return refusal.Invalid(fmt.Sprintf("there is no revision %d", r.Revision))
	}
	if err != nil {
		return err
	}
	w, err := s.Wholes.Of(rev.Text)
	if err != nil {
		return refusal.Mistaken(err)
	}
	known, err := w.Known(ctx)
	if err != nil {
		return refusal.Mistaken(err)
	}
	o, err := OrderOf(known, r.User)
	if err != nil {
		return refusal.Invalid(fmt.Sprintf(
			"it is about %q, and there is no active user of that name: whoever made it was not one of yours", r.User))
	}
	o.Revision = r.Revision
	r = *r.Again(*o, time.Now().UTC())
	r.By = actor.Name(ctx)
	text, err := json.Marshal(r)
	if err != nil {
		return err
	}
	_, err = s.Store.AddProbeReport(ctx, store.ProbeReport{
		At: time.Now().UTC(), User: r.User, Class: r.Class, Vantage: r.Vantage,
		Revision: r.Revision, OK: r.OK, Handed: true, Report: string(text),
	})
	if err == nil {
		err = s.Store.ThinHandedIn(ctx, handedKept)
	}
	if err == nil {
		s.Journal.Tell(reason.Of(reason.ReportHandedIn, reason.With{
			reason.Administrator: r.By, reason.Way: actor.Of(ctx).By, reason.Source: actor.Of(ctx).From.String(), reason.Address: r.Vantage,
			reason.Revision: strconv.Itoa(r.Revision),
		}), r.User)
	}
	return err
}

// mostSeen is how much of a text that was seen elsewhere is kept, in octets.
const mostSeen = 512

// tame escapes and bounds every text of a value that was written elsewhere.
func tame(v reflect.Value) {
	switch v.Kind() {
	case reflect.Pointer, reflect.Interface:
		if !v.IsNil() {
			tame(v.Elem())
		}
	case reflect.String:
		if v.CanSet() {
			text := v.String()
			v.SetString(legible.Escape(strings.ReplaceAll(strings.ToValidUTF8(text[:min(len(text), mostSeen)], ""), "\n", " ")))
		}
	case reflect.Slice, reflect.Array:
		for i := range v.Len() {
			tame(v.Index(i))
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Type().Field(i).IsExported() {
				tame(v.Field(i))
			}
		}
	}
}
