package cli

import (
	"bytes"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// However long the cells, no line is wider than the page and no word is lost.
func TestTablesFit(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		columns := rapid.IntRange(1, 7).Draw(t, "columns")
		word := rapid.StringMatching(`[a-zé→0-9./:-]{1,30}`)
		cell := rapid.Custom(func(t *rapid.T) string {
			return strings.Join(rapid.SliceOfN(word, 0, 12).Draw(t, "words"), " ")
		})
		head := make([]string, columns)
		for i := range head {
			head[i] = word.Draw(t, "head")
		}
		rows := rapid.SliceOfN(rapid.SliceOfN(cell, columns, columns), 1, 5).Draw(t, "rows")
		var out bytes.Buffer
		(&printer{out: &out}).table(head, rows)
		for _, line := range strings.Split(out.String(), "\n") {
			require.LessOrEqual(t, utf8.RuneCountInString(line), width)
		}
		count := func(s string) int { return utf8.RuneCountInString(strings.Join(strings.Fields(s), "")) }
		want := count(strings.Join(head, "")) + strings.Count(out.String(), "─")
		for _, r := range rows {
			want += count(strings.Join(r, ""))
		}
		require.Equal(t, want, count(out.String()))
	})
}
