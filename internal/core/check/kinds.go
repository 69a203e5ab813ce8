package check

import (
	"time"

	"yellowlantern/internal/core/plan"
)

// OfTunnel is a tunnel whose kind's own settings are looked at. Settings are named by their path below the tunnel.
type OfTunnel struct {
	c      *checker
	Tunnel plan.Tunnel
	base   string
}

// Add makes a finding.
func (o *OfTunnel) Add(s Severity, code, setting, fix, problem string, args ...any) {
	o.c.add(s, code, o.base+"/"+setting, fix, problem, args...)
}

// Mend gives an edit that mends the last finding: set, add or remove, with the value.
func (o *OfTunnel) Mend(op, setting, value string) { o.c.mend(op, o.base+"/"+setting, value) }

// Between finds a length of time out of its range.
func (o *OfTunnel) Between(setting string, d plan.Duration, least, most time.Duration) {
	o.c.between(o.base+"/"+setting, d, least, most)
}

// kinds make the findings on the settings of each kind's own.
var kinds = map[string]func(*OfTunnel){plan.KindIKEv2: ikev2}

// Kind makes what a kind of tunnel finds in its own settings part of the checks. It is called before anything runs.
func Kind(name string, find func(*OfTunnel)) { kinds[name] = find }
