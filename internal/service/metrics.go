package service

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"yellowlantern/internal/core/reach"
)

// metrics gathers what a monitoring system asks for, each time that it asks.
type metrics struct{ s *Service }

func described(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("yellow_lantern_"+name, help, labels, nil)
}

var (
	descRevision = described("revision", "Number of the newest revision.")
	descSessions = described("sessions", "Live sessions.", "passage", "tunnel", "over")
	descFlagged  = described("sessions_flagged", "Live sessions whose traffic goes one way or is lost.")
	descLogins   = described("logins_under_way", "Logins under way.")
	descFlows    = described("flows", "Flows that forwarding knows.")
	descOctets   = described("session_octets", "Octets of live sessions, from and to people.", "passage", "direction")
	descLost     = described("session_packets_lost", "Packets of live sessions that the gateway lost.", "station")
	descDropped  = described("datagrams_dropped_total", "Datagrams dropped without an answer.", "reason")
	descRule     = described("rule_packets_total", "Packets that a rule decided about.", "rule")
	descRuleFlow = described("rule_flows_total", "Flows that a rule let in, or packets that it refused.", "rule")
	descFree     = described("pool_addresses_free", "Addresses that a pool can still lease.", "pool")
	descLeased   = described("pool_addresses_leased", "Addresses that a pool has leased.", "pool")
	descTried    = described("trial_ok", "Whether the newest round saw everything as expected, by class of people and vantage.", "people",
		"vantage")
	descRoundAge = described("trial_age_seconds", "Time since the newest round ended.")
	descProof    = described("expectation_results", "Expectations held against computed reach, by outcome.", "outcome")
	descExpires  = described("certificate_expires_seconds", "When a certificate ends, as Unix time.", "certificate")
)

// Describe implements prometheus.Collector. Nothing is described beforehand: which metrics there are depends on the plan that runs.
func (m metrics) Describe(chan<- *prometheus.Desc) {}

// Collect implements prometheus.Collector.
func (m metrics) Collect(out chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		out <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	counter := func(d *prometheus.Desc, v uint64, labels ...string) {
		out <- prometheus.MustNewConstMetric(d, prometheus.CounterValue, float64(v), labels...)
	}
	m.sessions(gauge)
	st := m.s.Runner.Status()
	gauge(descLogins, float64(st.LoggingIn))
	gauge(descFlows, float64(st.Flows))
	for reason, n := range st.Dropped {
		counter(descDropped, n, reason)
	}
	for name, r := range st.Rules {
		counter(descRule, r.Packets, name)
		counter(descRuleFlow, r.Flows, name)
	}
	for _, p := range m.s.Runner.Pools() {
		gauge(descFree, float64(p.Free), p.Name)
		gauge(descLeased, float64(p.Leased), p.Name)
	}
	m.tried(ctx, gauge)
	model, number, persons, err := m.s.model(ctx, "")
	if err != nil {
		return
	}
	gauge(descRevision, float64(number))
	outcomes := map[string]int{reach.Holds: 0, reach.Fails: 0, reach.InPart: 0}
	for _, r := range m.s.compute(model, persons).Proof.Results {
		outcomes[r.Outcome]++
	}
	for outcome, n := range outcomes {
		gauge(descProof, float64(n), outcome)
	}
	for _, t := range model.Plan.Tunnels {
		if pair, err := m.s.Store.Certificate(ctx, t.Certificate); err == nil && !t.Off {
			gauge(descExpires, float64(pair.Leaf.NotAfter.Unix()), t.Certificate)
		}
	}
}

func (m metrics) sessions(gauge func(*prometheus.Desc, float64, ...string)) {
	count, flagged := map[[3]string]int{}, 0
	octets, lost := map[[2]string]uint64{}, map[string]uint64{}
	for _, x := range m.s.sessions() {
		over := "UDP"
		if x.TCP {
			over = "TCP"
		}
		count[[3]string{x.Passage, x.Tunnel, over}]++
		octets[[2]string{x.Passage, "from"}] += x.InBytes
		octets[[2]string{x.Passage, "to"}] += x.OutBytes
		if x.Flag != "" {
			flagged++
		}
		for station, n := range x.Lost {
			lost[station] += n
		}
	}
	gauge(descFlagged, float64(flagged))
	for k, n := range count {
		gauge(descSessions, float64(n), k[0], k[1], k[2])
	}
	for k, n := range octets {
		gauge(descOctets, float64(n), k[0], k[1])
	}
	for station, n := range lost {
		gauge(descLost, float64(n), station)
	}
}

func (m metrics) tried(ctx context.Context, gauge func(*prometheus.Desc, float64, ...string)) {
	rounds, err := m.s.Store.Rounds(ctx, 5)
	if err != nil {
		return
	}
	for _, r := range rounds {
		if r.State != RoundDone {
			continue
		}
		gauge(descRoundAge, time.Since(r.Ended).Seconds())
		reports, _ := m.s.roundReports(ctx, r.ID)
		told := map[string]bool{}
		for _, p := range reports {
			if key := keyOfReport(p); !told[key] {
				told[key] = true
				gauge(descTried, map[bool]float64{true: 1}[p.OK], p.Class, p.Vantage)
			}
		}
		return
	}
}

// metricsRoute serves them in the format that the monitoring system asks for, to whoever has a token.
func (s *Service) metricsRoute() {
	registry := prometheus.NewRegistry()
	registry.MustRegister(metrics{s})
	h := promhttp.HandlerFor(registry, promhttp.HandlerOpts{})
	huma.Register(s.api, huma.Operation{
		OperationID: "metrics", Method: "GET", Path: "/api/v1/metrics", Summary: "Metrics in Prometheus' text format",
		Security: []map[string][]string{{"token": {}}},
	}, func(context.Context, *struct{}) (*huma.StreamResponse, error) {
		return &huma.StreamResponse{Body: func(ctx huma.Context) {
			r, w := humachi.Unwrap(ctx)
			h.ServeHTTP(w, r)
		}}, nil
	})
}
