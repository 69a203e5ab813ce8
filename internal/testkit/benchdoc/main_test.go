package main

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// Tables of what was measured are written anew, others stay; several runs are told with their spread.
func TestTables(t *testing.T) {
	m := measured{by: map[string]map[string][]float64{}}
	m.read("goos: linux\nBenchmarkUp/1400-2 \t 1\t 12345 ns/op\t 0.7612 part\nBenchmarkUp/1400-2 1 2000000 ns/op 0.5 part\nBenchmarkUpper-2 7 3 ns/op\nBenchmarkUp/64 1 3 ns/op 12 part\nok\n")
	got := m.write("a\n<!-- measured Up: ns/op part -->\nold\n<!-- /measured -->\nb\n<!-- measured Other: ns/op -->\nstays\n<!-- /measured -->\n")
	require.Equal(t, `a
<!-- measured Up: ns/op part -->

| | time | part |
|---|---|---|
| 1400 | 2.00 ms (0.01 to 2.00) | 0.76 (0.50 to 0.76) |
| 64 | 3.00 ns | 12.0 |

<!-- /measured -->
b
<!-- measured Other: ns/op -->
stays
<!-- /measured -->
`, got)
	require.Equal(t, got, m.write(got))
	m.read("BenchmarkSizes-2 1 12345 ns/op 0.25 commit-s 110 memory-MB\n")
	require.Equal(t, `<!-- measured Sizes as rows: commit-s<2 memory-MB gone-s<1 -->

| | measured | aim |
|---|---|---|
| commit-s | 0.25 | 2 |
| memory-MB | 110 |  |

<!-- /measured -->`, m.write("<!-- measured Sizes as rows: commit-s<2 memory-MB gone-s<1 -->\n<!-- /measured -->"))
	require.Equal(t, "-1,234", digits(-1234))
}
