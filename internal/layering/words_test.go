package layering

import (
	"go/ast"
	"go/constant"
	"go/token"
	"go/types"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	gopackages "golang.org/x/tools/go/packages"
)

// wordy are fields that hold what is written for people. Nothing is decided by it: there are codes for that.
var wordy = []string{"Words", "Likely", "Login", "Problem", "Reason", "Refusal", "Detail", "Fix", "Error", "Said"}

// comparing are functions of package strings that look for one text in another, or at whether they are equal.
var comparing = []string{
	"Compare", "Contains", "ContainsAny", "HasPrefix", "HasSuffix", "EqualFold", "Index", "LastIndex", "Cut", "CutPrefix", "CutSuffix", "Count",
}

// allowed are comparisons of an error's text where what made it gives nothing else.
var allowed = []string{
	"internal/userstack/userstack.go", // the stack keeps no more of a refused connection than its text
	// Whether it is the same trouble as before, which is told once.
	"internal/app/journal/syslog.go", "internal/app/watching/outside.go",
}

// reader finds, in one function, what is written for people, by the types of the expressions.
type reader struct {
	info  *types.Info
	words map[types.Object]bool // variables that hold it
	texts map[types.Object]bool // those that hold an error's text
}

var errorType = types.Universe.Lookup("error").Type().Underlying().(*types.Interface)

// readsError tells whether an expression is the text of an error, also joined to something or in other letters.
func (r reader) readsError(e ast.Expr) bool {
	switch e := e.(type) {
	case *ast.ParenExpr:
		return r.readsError(e.X)
	case *ast.Ident:
		return r.texts[r.info.ObjectOf(e)]
	case *ast.BinaryExpr:
		return r.readsError(e.X) || r.readsError(e.Y)
	case *ast.CallExpr:
		s, ok := e.Fun.(*ast.SelectorExpr)
		if !ok {
			return false
		}
		if s.Sel.Name == "Error" && len(e.Args) == 0 {
			of := r.info.TypeOf(s.X)
			return of != nil && (types.Implements(of, errorType) || types.Implements(types.NewPointer(of), errorType))
		}
		return r.isStrings(s) && len(e.Args) > 0 && r.readsError(e.Args[0])
	}
	return false
}

// readsWords tells the same of what is made for people otherwise: a field of ours that holds it, or what a reason says.
func (r reader) readsWords(e ast.Expr) bool {
	switch e := e.(type) {
	case *ast.ParenExpr:
		return r.readsWords(e.X)
	case *ast.Ident:
		return r.words[r.info.ObjectOf(e)]
	case *ast.BinaryExpr:
		return r.readsWords(e.X) || r.readsWords(e.Y)
	case *ast.SelectorExpr:
		field, ok := r.info.ObjectOf(e.Sel).(*types.Var)
		if !ok || !field.IsField() || !slices.Contains(wordy, field.Name()) || field.Pkg() == nil {
			return false
		}
		of := field.Pkg().Path()
		if field.Name() == "Login" && of != "yellowlantern/internal/probe" { // a word of plans, elsewhere
			return false
		}
		return strings.HasPrefix(of, "yellowlantern/") && types.Identical(field.Type(), types.Typ[types.String])
	case *ast.CallExpr:
		s, ok := e.Fun.(*ast.SelectorExpr)
		return ok && (s.Sel.Name == "Words" && len(e.Args) == 0 || r.isStrings(s) && len(e.Args) > 0 && r.readsWords(e.Args[0]))
	}
	return false
}

// isStrings tells whether a selector is a function of package strings.
func (r reader) isStrings(s *ast.SelectorExpr) bool {
	f, ok := r.info.ObjectOf(s.Sel).(*types.Func)
	return ok && f.Pkg() != nil && f.Pkg().Path() == "strings"
}

// said tells whether an expression is a text that is settled in the source, by itself or by a name, and is not empty.
func (r reader) said(e ast.Expr) bool {
	v := r.info.Types[e].Value
	return v != nil && v.Kind() == constant.String && constant.StringVal(v) != ""
}

// learn notes what is assigned to variables.
func (r reader) learn(left, right []ast.Expr) {
	if len(left) != len(right) {
		return
	}
	for i := range left {
		id, ok := left[i].(*ast.Ident)
		if !ok {
			continue
		}
		if obj := r.info.ObjectOf(id); obj != nil {
			r.words[obj] = r.words[obj] || r.readsWords(right[i])
			r.texts[obj] = r.texts[obj] || r.readsError(right[i])
		}
	}
}

// compares tells whether two texts may not be held against each other: an error's with any, what is made for people with a settled one.
func (r reader) compares(a, b ast.Expr) bool {
	empty := func(e ast.Expr) bool {
		v := r.info.Types[e].Value
		return v != nil && v.Kind() == constant.String && constant.StringVal(v) == ""
	}
	if empty(a) || empty(b) {
		return false
	}
	return r.readsError(a) || r.readsError(b) || r.readsWords(a) && r.said(b) || r.readsWords(b) && r.said(a)
}

// No package decides by words that are made for people, nor by the text of an error. Looking for what somebody typed is no decision. Of the
// console the same is held by its linter.
func TestNobodyComparesWords(t *testing.T) {
	all, err := gopackages.Load(&gopackages.Config{
		Dir: "../..",
		Mode: gopackages.NeedName | gopackages.NeedFiles | gopackages.NeedSyntax | gopackages.NeedTypes | gopackages.NeedTypesInfo |
			gopackages.NeedImports | gopackages.NeedExportFile,
	}, "./internal/...", "./cmd/...")
	require.NoError(t, err)
	seen := 0
	for _, p := range all {
		require.Empty(t, p.Errors, p.PkgPath)
		for _, f := range p.Syntax {
			at := func(n ast.Node) string {
				place := p.Fset.Position(n.Pos())
				if root, err := filepath.Abs("../.."); err == nil {
					place.Filename, _ = filepath.Rel(root, place.Filename)
				}
				return place.String()
			}
			r := reader{p.TypesInfo, map[types.Object]bool{}, map[types.Object]bool{}}
			bad := func(n ast.Node, a, b ast.Expr) {
				seen++
				where := at(n)
				if r.compares(a, b) && !slices.ContainsFunc(allowed, func(file string) bool { return strings.HasPrefix(where, file) }) {
					t.Errorf("%s compares words: decide by a code of internal/core/reason, or by the error's type", where)
				}
			}
			ast.Inspect(f, func(n ast.Node) bool {
				switch n := n.(type) {
				case *ast.AssignStmt:
					r.learn(n.Lhs, n.Rhs)
				case *ast.CallExpr:
					s, ok := n.Fun.(*ast.SelectorExpr)
					if ok && len(n.Args) == 2 && r.isStrings(s) && slices.Contains(comparing, s.Sel.Name) {
						bad(n, n.Args[0], n.Args[1])
					}
				case *ast.BinaryExpr:
					if n.Op == token.EQL || n.Op == token.NEQ {
						bad(n, n.X, n.Y)
					}
				case *ast.SwitchStmt:
					if n.Tag == nil {
						return true
					}
					for _, c := range n.Body.List {
						for _, e := range c.(*ast.CaseClause).List {
							bad(c, n.Tag, e)
						}
					}
				}
				return true
			})
		}
	}
	require.Greater(t, seen, 1000, "the test looks at something")
}
