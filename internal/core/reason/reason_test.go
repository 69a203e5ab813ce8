package reason

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"
)

// declared gives the string constants of a type in this package.
func declared(t *testing.T, file, kind string) (out []string) {
	f, err := parser.ParseFile(token.NewFileSet(), file, nil, 0)
	require.NoError(t, err)
	ast.Inspect(f, func(n ast.Node) bool {
		v, ok := n.(*ast.ValueSpec)
		if !ok || len(v.Values) != 1 {
			return true
		}
		if id, ok := v.Type.(*ast.Ident); ok && id.Name == kind {
			text, err := strconv.Unquote(v.Values[0].(*ast.BasicLit).Value)
			require.NoError(t, err)
			out = append(out, text)
		}
		return true
	})
	require.Greater(t, len(out), 10)
	return out
}

// Every code has words, and their parameters exist.
func TestMeanings(t *testing.T) {
	codes, params := declared(t, "codes.go", "Code"), declared(t, "reason.go", "Param")
	require.Len(t, meanings, len(codes))
	for _, c := range codes {
		m, ok := meanings[Code(c)]
		require.True(t, ok, "%s has no words", c)
		full, named := With{}, paramsIn(m.words)
		for _, p := range named {
			require.Contains(t, params, string(p), "%s", c)
			full[p] = "«" + string(p) + "»"
		}
		words := Of(Code(c), full).Words()
		for _, p := range named {
			require.Contains(t, words, full[p])
		}
		require.NotContains(t, words, "{")
		require.NotContains(t, words, "[")
		require.NotContains(t, Of(Code(c), nil).Words(), "[", "what is not known is left out")
	}
}

func TestWords(t *testing.T) {
	for want, r := range map[string]Reason{
		"":               {},
		"of-tomorrow":    Of("of-tomorrow", With{Name: "x"}),
		"wrong password": Of(WrongPassword, nil),
		"2 more like this until 12:00: there is no such user (it claimed to be \"rory\")": Of(UnknownUser, With{Claimed: "rory"}).
			And(With{More: "2", Until: "12:00"}),
		"the gateway stops; 3 packets came, 0 went, 1 were lost": Of(GatewayStops, With{In: "3", Out: "0", Gone: "1"}),
		"the device broke off the login":                         Of(BrokenOff, With{What: ""}),
		"answered in 3 ms, by name {took}":                       Of(Answered, With{Took: "3 ms", Name: "{took}"}), // what came from outside is not filled in again
	} {
		require.Equal(t, want, r.Words())
		b, err := json.Marshal(r)
		require.NoError(t, err)
		var back Reason
		require.NoError(t, json.Unmarshal(b, &back))
		require.Equal(t, r.Words(), back.Words())
		require.Equal(t, r.Key(), back.Key())
	}
	require.NotEqual(t, Of(NoPassage, With{Groups: "a"}).Key(), Of(NoPassage, With{Groups: "b"}).Key())
}

// docs/reasons.md says what the table says.
func TestReference(t *testing.T) {
	page, err := os.ReadFile("../../../docs/reasons.md")
	require.NoError(t, err)
	require.True(t, Reference() == string(page), "docs/reasons.md is stale: make docs")
}
