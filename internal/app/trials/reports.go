package trials

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"strings"
	"time"

	"yellowlantern/internal/app/refusal"
	"yellowlantern/internal/core/legible"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/store"
)

// Reports lists the newest reports.
func (s *Service) Reports(ctx context.Context, limit int) ([]probe.Report, error) {
	records, err := s.Store.ProbeReports(ctx, 0, limit)
	return reportsOf(records), err
}

// Newest gives the newest report of each class from each vantage on a revision, newest first.
func (s *Service) Newest(ctx context.Context, number int) ([]probe.Report, error) {
	records, err := s.Store.NewestReports(ctx, number)
	return reportsOf(records), err
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

// HandIn takes a report that somebody's probe wrote: it is believed for what it says was seen, and judged anew.
func (s *Service) HandIn(ctx context.Context, r probe.Report) error {
	tame(reflect.ValueOf(&r)) // pages and names that a probe saw are what others wrote: they are shown, and do nothing
	if len(r.Results) > mostTrials {
		return refusal.Invalid(fmt.Sprintf("this is no report that a probe writes: it holds more than %d trials",
			mostTrials))
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
	text, err := json.Marshal(r)
	if err != nil {
		return err
	}
	_, err = s.Store.AddProbeReport(ctx, store.ProbeReport{
		At: time.Now().UTC(), User: r.User, Class: r.Class, Vantage: r.Vantage,
		Revision: r.Revision, OK: r.OK, Handed: true, Report: string(text),
	})
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
