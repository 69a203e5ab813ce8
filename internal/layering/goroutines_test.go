package layering

import (
	"go/ast"
	"go/parser"
	"go/token"
	"maps"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// packetPath are the goroutines that no guard ends, for they hold locks of sessions: each with the fuzz target of what it reads.
var packetPath = map[string]string{
	"ikev2.socket4500":   "internal/core/esp FuzzOpen, internal/core/forward FuzzForward",
	"ikev2.streamReader": "internal/tunnel/ikev2 FuzzFraming",
	"ikev2.device":       "internal/core/esp FuzzOpen",
	"ikev2.device500":    "internal/core/ike FuzzParsers",
	"linux.queue":        "internal/core/segment FuzzShape, internal/core/forward FuzzForward",
	"userstack.out":      "internal/core/forward FuzzForward",
	"connection.device":  "internal/core/segment FuzzShape",
}

// Every goroutine has a name and is guarded: a panic is logged and counted, and the process goes on. What carries packets is listed above.
func TestGoroutinesAreGuarded(t *testing.T) {
	names, unguarded := map[string]bool{}, map[string]bool{}
	for path, p := range packages(t) {
		if path == "internal/guard" || strings.HasPrefix(path, "internal/testkit/") {
			continue
		}
		for _, file := range p.GoFiles {
			files := token.NewFileSet()
			f, err := parser.ParseFile(files, filepath.Join(p.Dir, file), nil, 0)
			require.NoError(t, err)
			at := func(n ast.Node) string { return path + "/" + files.Position(n.Pos()).String() }
			ast.Inspect(f, func(n ast.Node) bool {
				switch n := n.(type) {
				case *ast.GoStmt:
					t.Errorf("%s: a goroutine without a guard: guard.Go", at(n))
				case *ast.SelectorExpr:
					x, ok := n.X.(*ast.Ident)
					if ok && slices.Contains([]string{"sync.WaitGroup", "time.AfterFunc"}, x.Name+"."+n.Sel.Name) {
						t.Errorf("%s: %s.%s starts what nothing guards: guard.Group, guard.After", at(n), x.Name, n.Sel.Name)
					}
				case *ast.CallExpr:
					starts, ok := n.Fun.(*ast.SelectorExpr)
					if !ok || len(n.Args) < 2 || !slices.Contains([]string{"Go", "Keep", "After", "PacketPath"}, starts.Sel.Name) {
						return true
					}
					named, ok := n.Args[0].(*ast.BasicLit)
					if starts.Sel.Name == "After" && len(n.Args) == 3 {
						named, ok = n.Args[1].(*ast.BasicLit)
					}
					if !ok {
						return true // something else that is called so
					}
					name, err := strconv.Unquote(named.Value)
					require.NoError(t, err, at(n))
					require.Regexp(t, `^[a-z0-9]+\.[a-zA-Z0-9]+$`, name, at(n))
					names[name] = true
					if starts.Sel.Name == "PacketPath" {
						unguarded[name] = true
					}
				}
				return true
			})
		}
	}
	require.Greater(t, len(names), 60, "%v", slices.Sorted(maps.Keys(names)))
	require.Equal(t, slices.Sorted(maps.Keys(packetPath)), slices.Sorted(maps.Keys(unguarded)))
	for name, targets := range packetPath {
		for target := range strings.SplitSeq(targets, ", ") {
			dir, function, _ := strings.Cut(target, " ")
			require.True(t, hasFunction(t, dir, function), "%s: there is no %s in %s", name, function, dir)
		}
	}
}

// hasFunction tells whether tests of a package have a function.
func hasFunction(t *testing.T, dir, function string) bool {
	all, err := filepath.Glob(filepath.Join("..", "..", dir, "*_test.go"))
	require.NoError(t, err)
	for _, file := range all {
		f, err := parser.ParseFile(token.NewFileSet(), file, nil, parser.SkipObjectResolution)
		require.NoError(t, err)
		for _, d := range f.Decls {
			if d, ok := d.(*ast.FuncDecl); ok && d.Name.Name == function {
				return true
			}
		}
	}
	return false
}
