package agent

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/demo"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/site"
)

// A gateway's own part of a plan, also after it went over a wire, lets the same people reach the same places by it as the whole does;
// what is another gateway's alone is not in it.
func TestPart(t *testing.T) {
	island, err := demo.Load("")
	require.NoError(t, err)
	doc, err := plan.Read(island.Plan)
	require.NoError(t, err)
	p := &doc.Plan
	other := p.Gateways[0]
	other.Name = "other"
	p.Gateways = append(p.Gateways, other)
	away, nat := p.Tunnels[0], p.NAT[1]
	away.Name, away.Gateway, nat.Name, nat.Gateway = "away", "other", "away-out", "other"
	p.Tunnels, p.NAT = append(p.Tunnels, away), append(p.NAT, nat)

	var people []reach.Person
	for _, g := range p.Groups {
		people = append(people, reach.Person{User: g.Name, Groups: []string{g.Name}})
	}
	part := Part(p, "jetty")
	require.Len(t, part.Gateways, 1)
	require.Len(t, part.Tunnels, 1)
	require.Len(t, part.NAT, 2)
	require.Empty(t, part.Expectations)
	require.Len(t, p.Gateways, 2, "the whole stays whole")
	b, err := json.Marshal(part)
	require.NoError(t, err)
	var there plan.Plan
	require.NoError(t, json.Unmarshal(b, &there))
	require.Equal(t, p.Tunnels[0].IKEv2(), there.Tunnels[0].IKEv2(), "with what its kind brings")

	whole, err := site.Compile(p, "jetty")
	require.NoError(t, err)
	own, err := site.Compile(&there, "jetty")
	require.NoError(t, err)
	want, got := reach.Compute(whole, people), reach.Compute(own, people)
	require.NotEmpty(t, reach.ChangesBetween(nil, got))
	require.Empty(t, reach.ChangesBetween(want, got))
}
