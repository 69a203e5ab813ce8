package ledger

import (
	"crypto/ed25519"
	"encoding/json"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var noon = time.Date(2026, 6, 1, 12, 0, 0, 0, time.UTC)

func chain(t *rapid.T, n int) (lines []Line) {
	var last Hash
	for i := range n {
		l := Line{
			ID: uint64(i + 1), At: noon.Add(time.Duration(i) * time.Second), Kind: rapid.SampledFrom([]string{"login", "change"}).Draw(t, "kind"),
			User: rapid.StringN(0, 5, 10).Draw(t, "user"), Words: rapid.StringN(0, 10, 30).Draw(t, "words"), With: json.RawMessage(`{"a":"\u003cb\u003e"}`),
		}
		l.Hash = l.After(last)
		last = l.Hash
		lines = append(lines, l)
	}
	return lines
}

func check(from Start, heads []Head, lines []Line) error {
	c, err := NewChecker(from, heads)
	if err != nil {
		return err
	}
	for _, l := range lines {
		if err := c.Next(l); err != nil {
			return err
		}
	}
	return c.End()
}

func rechain(lines []Line, from Start) {
	for i := range lines {
		lines[i].ID = from.ID + uint64(i) + 1
		before := from.Hash
		if i > 0 {
			before = lines[i-1].Hash
		}
		lines[i].Hash = lines[i].After(before)
	}
}

// Whatever is done to lines is noticed: to one in between by the lines alone, to all of them, or to the end, by a head that was kept
// elsewhere. What is right passes, also after lines were let go, and as it was exported.
func TestChain(t *testing.T) {
	_, key, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	rapid.Check(t, func(t *rapid.T) {
		lines := chain(t, rapid.IntRange(3, 12).Draw(t, "lines"))
		at := rapid.IntRange(0, len(lines)-1).Draw(t, "head at")
		heads := []Head{Sign(key, lines[at].ID, lines[at].Hash, noon), Sign(key, lines[len(lines)-1].ID, lines[len(lines)-1].Hash, noon)}
		require.NoError(t, check(Start{}, heads, lines))
		gone := rapid.IntRange(0, len(lines)-1).Draw(t, "let go")
		from := Start{}
		if gone > 0 {
			from = Start{ID: lines[gone-1].ID, Hash: lines[gone-1].Hash}
			if !slices.ContainsFunc(heads, func(h Head) bool { return h.ID == from.ID }) {
				require.ErrorContains(t, check(from, heads, lines[gone:]), "not signed")
			}
			require.ErrorContains(t, check(from, nil, lines[gone:]), "not signed")
			signed := Sign(key, from.ID, from.Hash, noon)
			from.Signed = &signed
			other := Start{ID: from.ID, Hash: Hash{1}, Signed: &signed}
			require.ErrorContains(t, check(other, nil, lines[gone:]), "another start is signed")
			require.NoError(t, check(from, nil, lines[gone:]))
		}
		require.NoError(t, check(from, heads, lines[gone:]), "after lines were let go")
		written, err := json.Marshal(lines)
		require.NoError(t, err)
		var read []Line
		require.NoError(t, json.Unmarshal(written, &read))
		require.NoError(t, check(Start{}, heads, read), "as they were exported")

		bad := slices.Clone(lines)
		i := rapid.IntRange(0, len(bad)-2).Draw(t, "where")
		switch rapid.IntRange(0, 5).Draw(t, "how") {
		case 0:
			bad[i].Words += "x"
		case 1:
			bad = slices.Delete(bad, i, i+1)
		case 2:
			bad = slices.Insert(bad, i, bad[i])
		case 3:
			bad[i], bad[i+1] = bad[i+1], bad[i]
		case 4:
			bad[i].Words, bad[i].Code = bad[i].Code, bad[i].Words+"y"
		case 5:
			bad[i].At = bad[i].At.Add(time.Millisecond)
		}
		require.Error(t, check(Start{}, nil, bad), "by the lines alone")
		rechain(bad, Start{})
		require.Error(t, check(Start{}, heads, bad), "rewritten whole")
		require.Error(t, check(Start{}, heads, lines[:len(lines)-1]), "cut at its end")
	})
}

func TestHeads(t *testing.T) {
	_, key, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	_, other, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	head := Sign(key, 7, Hash{1}, noon)
	require.NoError(t, head.Check())
	changed := head
	changed.ID = 8
	require.ErrorContains(t, changed.Check(), "not signed by its key")
	_, err = NewChecker(Start{}, []Head{head, Sign(other, 8, Hash{2}, noon)})
	require.ErrorContains(t, err, "different keys")
	_, err = NewChecker(Start{}, []Head{head, Sign(key, 7, Hash{2}, noon)})
	require.ErrorContains(t, err, "differ")
	_, err = NewChecker(Start{ID: 7, Hash: Hash{2}}, []Head{head})
	require.ErrorContains(t, err, "was rewritten")

	// Lines before the start were removed: heads of those match no line, which is told; where none is newer, the journal is held against
	// nothing, and may be any.
	later, signed, foreign := Sign(key, 9, Hash{3}, noon), Sign(key, 8, Hash{4}, noon), Sign(other, 8, Hash{4}, noon)
	c, err := NewChecker(Start{ID: 8, Hash: Hash{4}, Signed: &signed}, []Head{later, head})
	require.NoError(t, err)
	require.Equal(t, []uint64{7}, c.Unmatched)
	_, err = NewChecker(Start{ID: 8, Hash: Hash{4}, Signed: &foreign}, []Head{later})
	require.ErrorContains(t, err, "different keys")
	_, err = NewChecker(Start{ID: 8, Hash: Hash{4}}, []Head{head})
	require.ErrorContains(t, err, "give a newer head")
	_, err = NewChecker(Start{ID: 7, Hash: Hash{1}}, []Head{head})
	require.NoError(t, err, "the start is what was signed")
}
