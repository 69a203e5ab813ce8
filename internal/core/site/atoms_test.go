package site_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/core/site"
)

// Parts of a pool that routers tell apart come in one order, each time that the plan is compiled.
func TestAtomsHaveAnOrder(t *testing.T) {
	const text = `
format: 1
name: halves
networks: [{name: lan, prefixes: [10.20.0.0/24], router: gw}]
pools: [{name: people, prefixes: [10.99.0.0/24]}]
routers:
  - {name: east, addresses: [10.20.0.2], routes: [{to: 10.99.0.0/25, via: 10.20.0.1}]}
  - {name: west, addresses: [10.20.0.3], routes: [{to: 10.99.0.64/26, via: 10.20.0.1}]}
  - {name: north, addresses: [10.20.0.4], routes: [{to: 10.99.0.192/27, via: 10.20.0.1}]}
gateways: [{name: gw, dial: gw.tern.example, outside: {addresses: [192.0.2.10]}, inside: [{network: lan, addresses: [10.20.0.1]}]}]
`
	d, err := plan.Read(text)
	require.NoError(t, err)
	var starts []string
	for range 32 {
		m, err := site.Compile(&d.Plan, "gw")
		require.NoError(t, err)
		var now []string
		for _, a := range m.SourceAtoms(d.Plan.Pools[0].Space()) {
			now = append(now, a[0].From.String())
		}
		if starts == nil {
			starts = now
		}
		require.Equal(t, starts, now)
	}
	require.Equal(t, []string{"10.99.0.0", "10.99.0.64", "10.99.0.128", "10.99.0.192"}, starts)
}
