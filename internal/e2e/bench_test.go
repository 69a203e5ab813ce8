package e2e

import (
	"testing"

	"yellowlantern/internal/client"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/tour"
	"yellowlantern/internal/underlay"
)

// BenchmarkTrials tries a thousand things by one login in the lab, a third of which must not be reached, before and after connecting.
func BenchmarkTrials(b *testing.B) {
	d, err := tour.Prepare(b.Context(), "", options(b))
	if err != nil {
		b.Fatal(err)
	}
	defer d.Stop()
	if _, _, err := d.Commit(b.Context()); err != nil {
		b.Fatal(err)
	}
	o, err := client.Get[probe.Order](b.Context(), d.Client, "/probes/order?user=both.birdwatcher")
	if err != nil {
		b.Fatal(err)
	}
	var want, not []reach.Trial
	for _, t := range o.Trials {
		switch {
		case t.Edge:
		case t.Want:
			want = append(want, t)
		default:
			not = append(not, t)
		}
	}
	o.Trials = nil
	for i := range 1000 {
		if i%3 == 2 {
			o.Trials = append(o.Trials, not[i%len(not)])
		} else {
			o.Trials = append(o.Trials, want[i%len(want)])
		}
	}
	for b.Loop() {
		u, err := underlay.Vantage(b.Context(), d.Lab.Vantages()[0].Link)
		if err != nil {
			b.Fatal(err)
		}
		r, err := probe.Run(b.Context(), u, o, probe.Options{Password: d.Passwords[o.User]})
		u.Close()
		if err != nil || r.Missed > 0 {
			b.Fatal(err, r.Missed, r.Causes)
		}
	}
}
