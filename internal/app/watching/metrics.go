package watching

import (
	"context"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"yellowlantern/internal/app/trials"
	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/guard"
)

// metrics gathers what a monitoring system asks for, each time that it asks.
type metrics struct{ s *Service }

// Metrics gives them.
func (s *Service) Metrics() prometheus.Collector { return metrics{s} }

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
	descWaiting  = described("events_waiting", "Events that are not in the journal yet.", "gateway")
	descLeftOut  = described("events_left_out_total", "Events that are lost, for more happened than could be kept.", "gateway")
	descLinkUp   = described("link_up", "Whether a link of the machine is up.", "gateway", "link")
	descLinkOct  = described("link_octets_total", "Octets that a link carried.", "gateway", "link", "direction")
	descLinkPack = described("link_packets_total", "Packets that a link carried.", "gateway", "link", "direction")
	descLinkLost = described("link_packets_lost_total", "Packets that a link dropped in its queue, or that came damaged.", "gateway",
		"link", "direction")
	descConns    = described("machine_connections", "Connections that the machine's kernel follows.", "gateway")
	descMostConn = described("machine_connections_most", "How many connections it can follow.", "gateway")
	descRuleLost = described("machine_rules_lost_total", "Packets that the gateway's table of rules lost.", "gateway", "chain")
	descPanics   = described("panics_total", "Tasks that failed by a fault of the program, and were gone on without.", "process", "task")
	descFreeDisk = described("disk_free_octets", "What is free for records.")
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
	st := m.s.Gateway.Status()
	gauge(descLogins, float64(st.LoggingIn), st.Gateway)
	gauge(descFlows, float64(st.Flows), st.Gateway)
	gauge(descInside, map[bool]float64{true: 1}[st.Inside.OK()], st.Gateway, st.Inside.Port)
	gauge(descWaiting, float64(st.Waiting), st.Gateway)
	for process, by := range map[string]map[string]uint64{"service": guard.Panics(), "gateway": st.Panics} {
		for task, n := range by {
			counter(descPanics, n, process, task)
		}
	}
	counter(descLeftOut, st.Unwritten, st.Gateway)
	m.machine(st, gauge, counter)
	for reason, n := range st.Dropped {
		counter(descDropped, n, st.Gateway, reason)
	}
	for name, r := range st.Rules {
		counter(descRule, r.Packets, st.Gateway, name)
		counter(descRuleFlow, r.Flows, st.Gateway, name)
	}
	for _, p := range m.s.Gateway.Pools() {
		gauge(descFree, float64(p.Free), p.Gateway, p.Name)
		gauge(descLeased, float64(p.Leased), p.Gateway, p.Name)
	}
	m.tried(ctx, gauge)
	known, number, err := m.s.Plans.Known(ctx, "")
	if err != nil {
		return
	}
	gauge(descRevision, float64(number))
	outcomes := map[string]int{reach.Holds: 0, reach.Fails: 0, reach.InPart: 0}
	for _, r := range known.Proof.Results {
		outcomes[r.Outcome]++
	}
	for outcome, n := range outcomes {
		gauge(descProof, float64(n), outcome)
	}
	shown := map[string]bool{} // two tunnels may show one certificate
	for _, t := range known.Model.Plan.Tunnels {
		for _, name := range t.Certificates() {
			if pair, err := m.s.Store.Certificate(ctx, name); err == nil && !t.Off && !shown[name] {
				shown[name] = true
				gauge(descExpires, float64(pair.Leaf.NotAfter.Unix()), name)
			}
		}
	}
}

// machine tells what the gateway's machine has counted.
func (m metrics) machine(st gateway.Status, gauge func(*prometheus.Desc, float64, ...string),
	counter func(*prometheus.Desc, uint64, ...string),
) {
	if free, err := m.s.Store.Free(); err == nil {
		gauge(descFreeDisk, float64(free))
	}
	x := st.Inside.Machine
	if x == nil {
		return
	}
	gauge(descConns, float64(x.Connections), st.Gateway)
	gauge(descMostConn, float64(x.Most), st.Gateway)
	for chain, n := range x.Lost {
		counter(descRuleLost, n, st.Gateway, chain)
	}
	for _, l := range x.Links {
		gauge(descLinkUp, map[bool]float64{true: 1}[l.Up], st.Gateway, l.Name)
		for direction, c := range map[string]inside.Carried{"received": l.Received, "sent": l.Sent} {
			counter(descLinkOct, c.Octets, st.Gateway, l.Name, direction)
			counter(descLinkPack, c.Packets, st.Gateway, l.Name, direction)
			counter(descLinkLost, c.Lost, st.Gateway, l.Name, direction)
		}
	}
}

func (m metrics) sessions(gauge func(*prometheus.Desc, float64, ...string)) {
	count, flagged := map[[4]string]int{}, map[string]int{m.s.Gateway.Status().Gateway: 0}
	octets, lost := map[[3]string]uint64{}, map[[2]string]uint64{}
	for _, x := range m.s.Sessions(false) {
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
		if r.State != trials.RoundDone {
			continue
		}
		gauge(descRoundAge, time.Since(r.Ended).Seconds())
		reports, _ := m.s.Trials.Seen(ctx, r.ID)
		told := map[string]bool{}
		for _, p := range reports {
			if key := trials.KeyOf(p); !told[key] {
				told[key] = true
				gauge(descTried, map[bool]float64{true: 1}[p.OK], p.Class, p.Vantage)
			}
		}
		return
	}
}
