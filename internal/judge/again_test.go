package judge

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/reach"
	"yellowlantern/internal/core/site"
)

// What is taken over after an edit is what would be computed anew: reach, proof, and what is gained and lost, whatever was edited.
func TestAgainIsTheSame(t *testing.T) {
	reused, anew := 0, 0
	rapid.Check(t, func(t *rapid.T) {
		p := randomPlan(t)
		expect := func(name string) plan.Expectation {
			e := plan.Expectation{
				Name: name, Groups: some(t, []string{"a", "b", "c"}, 2, "expectation group"), Must: pick(t, []string{plan.Reach, plan.NotReach, plan.NothingElse}, "must"),
				To: some(t, []string{"any", "internet", "net0", "10.0.0.0/8", "host0"}, 2, "expectation to"), Services: []string{pick(t, worldPorts, "expectation service")},
			}
			if e.Everyone = len(e.Groups) == 0; rapid.Bool().Draw(t, "expected from inside") {
				e.From, e.To = e.To, nil
			}
			return e
		}
		for i := range 3 {
			p.Expectations = append(p.Expectations, expect(fmt.Sprintf("e%d", i)))
		}
		people := []reach.Person{
			{User: "x", Groups: []string{"a"}},
			{User: "y", Groups: []string{"b"}},
			{User: "z", Groups: []string{"b", "c"}},
			{User: "nobody"},
		}
		compile := func(p *plan.Plan) *site.Model {
			m, err := site.Compile(p, "gw")
			require.NoError(t, err)
			return m
		}
		known := reach.Compute(compile(p), people)
		edited := *p
		switch other := randomPlan(t); rapid.IntRange(0, 6).Draw(t, "edit") {
		case 0:
			edited.Rules = other.Rules
		case 1:
			edited.Rules = append(append([]plan.Rule{}, p.Rules...), other.Rules[0])
		case 2:
			edited.Passages = other.Passages
		case 3:
			edited.NAT = other.NAT
		case 4:
			edited.Networks, edited.Hosts = other.Networks, other.Hosts
		case 5:
			edited.Expectations = append(append([]plan.Expectation{}, p.Expectations...), expect("e9"))
		case 6:
			people = append(people, reach.Person{User: "w", Groups: []string{"a"}}, reach.Person{User: "v", Groups: []string{"c"}})
		}
		m := compile(&edited)
		got, want := known.Again(m, people), reach.Compute(m, people)
		require.Equal(t, want.Reaches, got.Reaches)
		require.Equal(t, want.Proof, got.Proof)
		require.Equal(t, reach.ChangesBetween(reach.Compute(compile(p), people), want),
			reach.ChangesBetween(known.Again(compile(p), people), got))
		reused, anew = reused+got.Reused, anew+len(got.Classes)-got.Reused
	})
	require.NotZero(t, reused)
	require.NotZero(t, anew)
}
