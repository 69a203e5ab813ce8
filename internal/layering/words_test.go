package layering

import (
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// wordy are names of what is written for people. Nothing is decided by it: there are codes for that.
var wordy = []string{"Words", "Likely", "Login", "Problem", "Reason", "Refusal", "Detail", "Fix", "Error", "Said"}

// comparing are functions that look for one text in another, or at whether they are equal.
var comparing = []string{
	"Contains", "ContainsAny", "HasPrefix", "HasSuffix", "EqualFold", "Index", "Cut", "CutPrefix", "CutSuffix",
	"Count",
}

// readsWords tells whether an expression is, or has in it, what is written for people.
func readsWords(e ast.Expr) (found bool) {
	ast.Inspect(e, func(n ast.Node) bool {
		if s, ok := n.(*ast.SelectorExpr); ok && slices.Contains(wordy, s.Sel.Name) {
			if id, ok := s.X.(*ast.Ident); !ok || id.Name != "reason" { // a parameter's name
				found = true
			}
		}
		return true
	})
	return found
}

// said tells whether an expression is a text that stands in the source, and is not empty.
func said(e ast.Expr) bool {
	l, ok := e.(*ast.BasicLit)
	if !ok || l.Kind != token.STRING {
		return false
	}
	text, err := strconv.Unquote(l.Value)
	return err == nil && text != ""
}

// No package decides by words that are made for people. Looking for what somebody typed is no decision.
func TestNobodyComparesWords(t *testing.T) {
	seen := 0
	for path, p := range packages(t) {
		for _, name := range p.GoFiles {
			files := token.NewFileSet()
			f, err := parser.ParseFile(files, filepath.Join(p.Dir, name), nil, 0)
			require.NoError(t, err)
			ast.Inspect(f, func(n ast.Node) bool {
				switch n := n.(type) {
				case *ast.CallExpr:
					s, ok := n.Fun.(*ast.SelectorExpr)
					if !ok || len(n.Args) < 2 || !slices.Contains(comparing, s.Sel.Name) {
						return true
					}
					if id, ok := s.X.(*ast.Ident); ok && id.Name == "strings" {
						seen++
						require.False(t, readsWords(n.Args[0]) && said(n.Args[1]),
							"%s: %s compares words: decide by a code of internal/core/reason",
							path, files.Position(n.Pos()))
					}
				case *ast.BinaryExpr:
					if n.Op == token.EQL || n.Op == token.NEQ {
						require.False(t, readsWords(n.X) && said(n.Y) || readsWords(n.Y) && said(n.X), "%s: %s compares words", path,
							files.Position(n.Pos()))
					}
				case *ast.SwitchStmt:
					if n.Tag != nil && readsWords(n.Tag) {
						for _, c := range n.Body.List {
							require.False(t, slices.ContainsFunc(c.(*ast.CaseClause).List, said), "%s: %s compares words", path,
								files.Position(n.Pos()))
						}
					}
				}
				return true
			})
		}
	}
	require.Greater(t, seen, 10, "the test looks at something")
}

// Nor does the console.
func TestConsoleComparesNoWords(t *testing.T) {
	compares := regexp.MustCompile(`(?i)\b(words|likely|login|problem|reason|detail|fix|wrong)(\.value)?\??\.(includes|startsWith|endsWith|indexOf|match|search)\(\s*['"/` + "`" + `]` +
		`|(?i)['"/]\.test\((\w+\.)*(words|likely|login|problem|reason|detail)\b`)
	looked := 0
	require.NoError(t, filepath.WalkDir("../../web/src", func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() || strings.HasSuffix(path, ".test.ts") {
			return err
		}
		b, err := os.ReadFile(path)
		require.NoError(t, err)
		looked++
		require.Empty(t, compares.FindString(string(b)), "%s compares words: decide by the code beside them", path)
		return nil
	}))
	require.Greater(t, looked, 20)
}
