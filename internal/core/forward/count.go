package forward

import "sync/atomic"

// RuleCounters counts what one rule decided.
type RuleCounters struct {
	Flows   uint64 `json:"flows" doc:"Flows let in, or packets refused."`
	Packets uint64 `json:"packets"`
	Bytes   uint64 `json:"bytes"`
}

type ruleCount struct{ flows, packets, bytes atomic.Uint64 }

func (c *ruleCount) passed(many tally) {
	c.packets.Add(many.packets)
	c.bytes.Add(many.bytes)
}

func (c *ruleCount) refused(octets int) {
	c.flows.Add(1)
	c.passed(tally{1, uint64(octets)})
}

// ruleCount is a rule's, by its name: it goes on through commits.
func (e *Engine) ruleCount(name string) *ruleCount {
	if c, ok := e.rules.Load(name); ok {
		return c.(*ruleCount)
	}
	c, _ := e.rules.LoadOrStore(name, &ruleCount{})
	return c.(*ruleCount)
}

// Rules gives a copy of what each rule has counted.
func (e *Engine) Rules() map[string]RuleCounters {
	out := map[string]RuleCounters{}
	e.rules.Range(func(name, c any) bool {
		n := c.(*ruleCount)
		out[name.(string)] = RuleCounters{n.flows.Load(), n.packets.Load(), n.bytes.Load()}
		return true
	})
	return out
}
