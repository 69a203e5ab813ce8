package layering

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
)

// longestLine is how many columns a line of Go may have. Rows of tables are excepted, as are tags and texts that fill a line of their own:
// breaking those makes them harder to read.
const longestLine = 140

func TestLinesAreShort(t *testing.T) {
	var over []string
	for _, p := range packages(t) {
		all, err := filepath.Glob(filepath.Join(p.Dir, "*.go"))
		require.NoError(t, err)
		for _, file := range all {
			src, err := os.ReadFile(file)
			require.NoError(t, err)
			files := token.NewFileSet()
			f, err := parser.ParseFile(files, file, src, parser.ParseComments)
			require.NoError(t, err)
			excepted := exceptions(files, f)
			for i, line := range strings.Split(string(src), "\n") {
				width := utf8.RuneCountInString(strings.ReplaceAll(line, "\t", "    "))
				if width > longestLine && !excepted[i+1] && !ast.IsGenerated(f) {
					over = append(
						over,
						fmt.Sprintf(
							"%s/%s:%d (%d columns)",
							strings.TrimPrefix(p.ImportPath, "yellowlantern/"),
							filepath.Base(file),
							i+1,
							width,
						),
					)
				}
			}
		}
	}
	require.Empty(t, over, "%d lines are longer than %d columns:\n%s", len(over), longestLine, strings.Join(over, "\n"))
}

// exceptions finds the lines that hold a row of a table (one element of a literal, whole), a field's tag, or a text and nothing else.
func exceptions(files *token.FileSet, f *ast.File) map[int]bool {
	out := map[int]bool{}
	line := func(p token.Pos) int { return files.Position(p).Line }
	ast.Inspect(f, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.CompositeLit:
			for _, e := range n.Elts {
				if line(e.Pos()) == line(e.End()) && line(n.Lbrace) < line(e.Pos()) {
					out[line(e.Pos())] = true
				}
			}
		case *ast.Field:
			out[line(n.Pos())] = out[line(n.Pos())] || n.Tag != nil
		case *ast.BasicLit:
			if n.Kind == token.STRING {
				for l := line(n.Pos()); l <= line(n.End()); l++ {
					out[l] = out[l] || l > line(n.Pos()) || files.Position(n.Pos()).Column < 16 ||
						files.Position(n.End()).Column-files.Position(n.Pos()).Column > longestLine-40
				}
			}
		}
		return true
	})
	return out
}
