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
	descSessions = described("sessions", "Live sessions.", "gateway", "passage", "tunnel", "over")
	descFlagged  = described("sessions_flagged", "Live sessions whose traffic goes one way or is lost.", "gateway")
	descLogins   = described("logins_under_way", "Logins under way.", "gateway")
	descFlows    = described("flows", "Flows that forwarding knows.", "gateway")
	descOctets   = described("session_octets", "Octets of live sessions, from and to people.", "gateway", "passage", "direction")
	descLost     = described("session_packets_lost", "Packets of live sessions that the gateway lost.", "gateway", "station")
	descDropped  = described("datagrams_dropped_total", "Datagrams dropped without an answer.", "gateway", "reason")
	descRule     = described("rule_packets_total", "Packets that a rule decided about.", "gateway", "rule")
	descRuleFlow = described("rule_flows_total", "Flows that a rule let in, or packets that it refused.", "gateway", "rule")
	descFree     = described("pool_addresses_free", "Addresses that a pool can still lease.", "gateway", "pool")
	descLeased   = described("pool_addresses_leased", "Addresses that a pool has leased.", "gateway", "pool")
	descTried    = described("trial_ok", "Whether the newest round saw everything as expected, by class of people and vantage.", "people",
		"vantage")
	descRoundAge = described("trial_age_seconds", "Time since the newest round ended.")
	descProof    = described("expectation_results", "Expectations held against computed reach, by outcome.", "outcome")
	descInside   = described("inside_ok", "Whether the side away from the tunnels is as the plan wants it.", "gateway", "port")
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
	gauge(descLogins, float64(st.LoggingIn), st.Gateway)
	gauge(descFlows, float64(st.Flows), st.Gateway)
	gauge(descInside, map[bool]float64{true: 1}[st.Inside.OK()], st.Gateway, st.Inside.Port)
	for reason, n := range st.Dropped {
		counter(descDropped, n, st.Gateway, reason)
	}
	for name, r := range st.Rules {
		counter(descRule, r.Packets, st.Gateway, name)
		counter(descRuleFlow, r.Flows, st.Gateway, name)
	}
	for _, p := range m.s.Runner.Pools() {
		gauge(descFree, float64(p.Free), p.Gateway, p.Name)
		gauge(descLeased, float64(p.Leased), p.Gateway, p.Name)
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
	count, flagged := map[[4]string]int{}, map[string]int{m.s.Runner.Status().Gateway: 0}
	octets, lost := map[[3]string]uint64{}, map[[2]string]uint64{}
	for _, x := range m.s.sessions() {
		over := "UDP"
		if x.TCP {
			over = "TCP"
		}
		count[[4]string{x.Gateway, x.Passage, x.Tunnel, over}]++
		octets[[3]string{x.Gateway, x.Passage, "from"}] += x.InBytes
		octets[[3]string{x.Gateway, x.Passage, "to"}] += x.OutBytes
		if x.Flag != "" {
			flagged[x.Gateway]++
		}
		for station, n := range x.Lost {
			lost[[2]string{x.Gateway, station}] += n
		}
	}
	for gateway, n := range flagged {
		gauge(descFlagged, float64(n), gateway)
	}
	for k, n := range count {
		gauge(descSessions, float64(n), k[:]...)
	}
	for k, n := range octets {
		gauge(descOctets, float64(n), k[:]...)
	}
	for k, n := range lost {
		gauge(descLost, float64(n), k[:]...)
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
