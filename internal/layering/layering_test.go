// Package layering holds the shape of the project: who may import whom, and what the core must do without.
package layering

import (
	"encoding/json"
	"go/ast"
	"go/parser"
	"go/token"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

type pkg struct {
	ImportPath, Dir, Doc string
	GoFiles, Imports     []string
}

func packages(t *testing.T) map[string]pkg {
	out, err := exec.Command("go", "list", "-json=ImportPath,Dir,Doc,GoFiles,Imports", "yellowlantern/...").Output()
	require.NoError(t, err)
	all := map[string]pkg{}
	for dec := json.NewDecoder(strings.NewReader(string(out))); dec.More(); {
		var p pkg
		require.NoError(t, dec.Decode(&p))
		all[strings.TrimPrefix(p.ImportPath, "yellowlantern/")] = p
	}
	return all
}

// parts are what the service does, each a package without HTTP.
var parts = []string{
	"internal/app/actor", "internal/app/refusal", "internal/app/journal", "internal/app/computing", "internal/app/compiled", "internal/app/running",
	"internal/app/trust",
	"internal/app/plans", "internal/app/trials", "internal/app/commits", "internal/app/proofs", "internal/app/members", "internal/app/watching",
	"internal/app/authorities", "internal/app/sources", "internal/app/accounting", "internal/app/changes", "internal/app/equipment", "internal/app/whois", "internal/app/diagnosis", "internal/app/access", "internal/app/mailing", "internal/app/standing", "internal/app/handover",
}

// mayImport says, for each package outside the core, which packages of the project it may import. Tests are free.
var mayImport = map[string][]string{
	"internal/guard":             {},
	"internal/doors":             {"core"},
	"internal/userstack":         {"core"},
	"internal/gateway":           {"core"},
	"internal/agent":             {"core", "internal/gateway", "internal/private"},
	"internal/agent/socket":      {"internal/agent", "internal/gateway"},
	"internal/underlay":          {"core", "internal/userstack"},
	"internal/dial":              {"core", "internal/underlay"},
	"internal/tunnel/ikev2":      {"core", "internal/buffers", "internal/dial", "internal/eaptls", "internal/underlay", "internal/private"},
	"internal/tunnel/kinds":      {"core", "internal/dial", "internal/tunnel/ikev2"},
	"internal/store":             {"core", "internal/private"},
	"internal/people":            {"core", "internal/securitykey", "internal/store", "internal/eaptls", "internal/people/source"},
	"internal/people/source":     {"core"},
	"internal/people/directory":  {"core", "internal/people/source"},
	"internal/people/remote":     {"core", "internal/people/source", "internal/radius"},
	"internal/radius":            {"core"},
	"internal/eaptls":            {"core"},
	"internal/app/whois":         {"core", "internal/gateway", "internal/people", "internal/people/source", "internal/store", "internal/app/refusal", "internal/app/plans", "internal/app/sources"},
	"internal/app/accounting":    {"core", "internal/gateway", "internal/people", "internal/people/remote", "internal/store", "internal/app/journal", "internal/app/sources"},
	"internal/app/equipment":     {"core", "internal/people", "internal/radius", "internal/store", "internal/app/journal", "internal/app/running"},
	"internal/app/changes":       {"core", "internal/gateway", "internal/people", "internal/people/remote", "internal/radius", "internal/app/sources"},
	"internal/app/sources":       {"core", "internal/app/journal", "internal/people", "internal/app/actor", "internal/people/directory", "internal/people/remote", "internal/people/source", "internal/store", "internal/app/refusal", "internal/app/plans", "internal/app/running"},
	"internal/probe":             {"core", "internal/userstack", "internal/underlay", "internal/dial", "internal/tunnel/kinds"},
	"internal/buffers":           {"core"},
	"internal/tun":               {"core", "internal/buffers"},
	"internal/capture":           {"core"},
	"internal/inside/linux":      {"core", "internal/gateway", "internal/private", "internal/tun"},
	"internal/connection":        {"core", "internal/dial", "internal/private", "internal/tun", "internal/tunnel/kinds", "internal/underlay"},
	"internal/lab":               {"core", "internal/userstack", "internal/gateway"},
	"internal/hosts":             {"internal/lab"},
	"internal/client":            {},
	"internal/nameupdate":        {"core"},
	"internal/private":           {},
	"internal/report":            {"core"},
	"internal/enrol":             {},
	"internal/revocation":        {"core", "internal/store"},
	"internal/app/authorities":   {"core", "internal/gateway", "internal/people", "internal/revocation", "internal/store", "internal/app/actor", "internal/app/refusal", "internal/app/journal", "internal/app/plans", "internal/app/running"},
	"internal/app/actor":         {},
	"internal/app/refusal":       {"core", "internal/store"},
	"internal/app/journal":       {"core", "internal/gateway", "internal/people", "internal/store", "internal/app/refusal"},
	"internal/app/computing":     {"core", "internal/app/actor", "internal/app/refusal"},
	"internal/app/compiled":      {"core", "internal/gateway", "internal/people", "internal/store", "internal/app/refusal", "internal/app/computing"},
	"internal/app/running":       {"core", "internal/gateway", "internal/store", "internal/app/refusal", "internal/app/journal", "internal/app/compiled"},
	"internal/app/trust":         {"core", "internal/enrol", "internal/store", "internal/app/actor", "internal/app/refusal", "internal/app/compiled", "internal/app/running"},
	"internal/app/plans":         {"core", "internal/gateway", "internal/people", "internal/store", "internal/app/actor", "internal/app/refusal", "internal/app/compiled", "internal/app/computing"},
	"internal/app/trials":        {"core", "internal/gateway", "internal/people", "internal/store", "internal/enrolled", "internal/probe", "internal/underlay", "internal/app/actor", "internal/app/refusal", "internal/app/journal", "internal/app/compiled", "internal/app/running", "internal/app/trust", "internal/app/plans"},
	"internal/app/commits":       {"core", "internal/store", "internal/probe", "internal/app/actor", "internal/app/refusal", "internal/app/journal", "internal/app/running", "internal/app/plans", "internal/app/trials"},
	"internal/app/proofs":        {"core", "internal/gateway", "internal/store", "internal/probe", "internal/report", "internal/app/actor", "internal/app/refusal", "internal/app/computing", "internal/app/running", "internal/app/plans", "internal/app/trials"},
	"internal/app/mailing":       {"core", "internal/store", "internal/app/journal"},
	"internal/app/members":       {"core", "internal/enrol", "internal/gateway", "internal/people", "internal/store", "internal/app/actor", "internal/app/refusal", "internal/app/journal", "internal/app/compiled"},
	"internal/app/watching":      {"core", "internal/gateway", "internal/people", "internal/store", "internal/nameupdate", "internal/app/actor", "internal/app/refusal", "internal/app/journal", "internal/app/compiled", "internal/app/plans", "internal/app/trials"},
	"internal/app/diagnosis":     {"core", "internal/gateway", "internal/people", "internal/store", "internal/probe", "internal/app/actor", "internal/app/refusal", "internal/app/journal", "internal/app/trust", "internal/app/plans", "internal/app/trials", "internal/app/proofs", "internal/app/standing"},
	"internal/app/access":        {"core", "internal/people", "internal/people/source", "internal/store", "internal/app/actor", "internal/app/refusal", "internal/app/journal"},
	"internal/codepage":          {"core", "internal/doors", "internal/gateway", "internal/userstack"},
	"internal/enrolled":          {"core", "internal/guard", "internal/private", "internal/probe", "internal/underlay"},
	"internal/mirror":            {"core", "internal/doors", "internal/tunnel/ikev2"},
	"internal/app/standing":      {"core", "internal/app/authorities", "internal/app/sources", "internal/mirror", "internal/store", "internal/app/refusal", "internal/app/compiled", "internal/app/running", "internal/app/trust", "internal/app/watching"},
	"internal/app/handover":      {"core", "internal/gateway", "internal/people", "internal/store", "internal/app/actor", "internal/app/refusal", "internal/app/plans", "internal/app/trust", "internal/app/journal", "internal/app/trials"},
	"internal/app":               append([]string{"core", "internal/people", "internal/revocation", "internal/store"}, parts...),
	"internal/httpapi":           append([]string{"core", "internal/enrol", "internal/app", "internal/gateway", "internal/people", "internal/enrolled", "internal/probe", "internal/report", "internal/store"}, parts...),
	"internal/ready":             {},
	"internal/backup":            {"internal/private", "internal/store"},
	"internal/instance":          append([]string{"core", "internal/doors", "internal/codepage", "internal/agent", "internal/agent/socket", "internal/private", "internal/tunnel/ikev2", "internal/tunnel/kinds", "internal/gateway", "internal/people", "internal/store", "internal/app", "internal/httpapi", "internal/inside/linux", "internal/lab"}, parts...),
	"internal/tour":              append([]string{"core", "demo", "internal/client", "internal/gateway", "internal/hosts", "internal/lab", "internal/instance", "internal/people", "internal/postbox", "internal/probe", "internal/app", "internal/httpapi", "internal/underlay"}, parts...),
	"internal/postbox":           {"core"},
	"internal/securitykey":       {},
	"internal/cli":               append([]string{"core", "internal/revocation", "internal/capture", "internal/private", "internal/client", "internal/connection", "internal/inside/linux", "internal/gateway", "internal/people", "internal/enrolled", "internal/probe", "internal/dial", "internal/underlay", "internal/report", "internal/app", "internal/httpapi", "internal/tour"}, parts...),
	"cmd/yl":                     {"demo", "internal/agent", "internal/agent/socket", "internal/backup", "internal/mirror", "internal/ready", "internal/cli", "internal/inside/linux", "internal/instance", "internal/tour", "web"},
	"internal/httpapi/apidoc":    {"internal/app", "internal/httpapi"},
	"internal/core/plan/plandoc": {"core"}, "internal/core/reason/reasondoc": {"core"},
	"internal/core/devices/devicedoc": {"core"},
	"demo":                            {}, "web": {},
}

func TestImports(t *testing.T) {
	for path, p := range packages(t) {
		if strings.HasPrefix(path, "internal/testkit/") || len(p.GoFiles) == 0 {
			continue
		}
		require.NotEmpty(t, p.Doc, "%s has no comment that says what it is for", path)
		core := strings.HasPrefix(path, "internal/core/") && !strings.HasSuffix(path, "doc")
		allowed, known := mayImport[path]
		require.True(t, core || known, "%s is not in the picture: add it to docs/architecture.md and here", path)
		for _, in := range p.Imports {
			own, ours := strings.CutPrefix(in, "yellowlantern/")
			if !ours {
				continue
			}
			if strings.HasPrefix(own, "internal/core/") {
				require.True(t, core || slices.Contains(allowed, "core"), "%s must not import %s", path, own)
				continue
			}
			if own == "internal/guard" && !core { // whatever starts a goroutine
				continue
			}
			require.False(t, core, "the core must not import %s (%s does)", own, path)
			require.Contains(t, allowed, own, "%s must not import %s", path, own)
		}
	}
}

// coreOrder is the core from the bottom up: a package may import only what stands before it. Those of one line know nothing of each other.
var coreOrder = [][]string{
	{"fold"},
	{"netset", "crowd", "legible", "reason", "algorithm", "password", "onetime", "ledger", "scriptsign"},
	{"login", "inside", "devices"},
	{"session", "kernel"},
	{"packet", "plan", "pool", "esp", "eap", "cert", "pcapng"},
	{"foreign", "site", "ike", "tunnel", "seen", "ownservice", "segment"},
	{"outline"},
	{"reach", "forward", "handover"},
	{"check"},
	{"diagnose", "begin"},
}

func TestCoreOrder(t *testing.T) {
	level := map[string]int{}
	for i, names := range coreOrder {
		for _, n := range names {
			level["internal/core/"+n] = i + 1
		}
	}
	for path, p := range packages(t) {
		if !strings.HasPrefix(path, "internal/core/") || strings.HasSuffix(path, "doc") {
			continue
		}
		require.NotZero(t, level[path], "%s has no place in the order of the core", path)
		for _, in := range p.Imports {
			if own, ours := strings.CutPrefix(in, "yellowlantern/"); ours {
				require.Less(t, level[own], level[path], "%s must not import %s: it stands above it, or beside it", path, own)
			}
		}
	}
}

// Who carries sessions knows no kind of tunnel: neither its protocol nor how people log in to it.
func TestNobodyKnowsAKind(t *testing.T) {
	all := packages(t)
	for _, path := range []string{
		"internal/gateway", "internal/app/running", "internal/app/watching", "internal/httpapi", "internal/core/forward", "internal/core/session",
		"internal/core/tunnel",
	} {
		for _, in := range all[path].Imports {
			for _, kind := range []string{"internal/core/ike", "internal/core/esp", "internal/core/eap", "internal/tunnel/ikev2"} {
				require.NotContains(t, in, kind, path)
			}
		}
	}
}

// The core computes and does no I/O: no sockets, files, databases, HTTP, clocks or goroutines.
func TestCoreDoesNoIO(t *testing.T) {
	forbidden := []string{
		"os", "os/exec", "net/http", "database/sql", "log", "log/slog", "syscall", "io/fs", "io/ioutil", "context",
		"sync/errgroup",
	}
	for path, p := range packages(t) {
		if !strings.HasPrefix(path, "internal/core/") || strings.HasSuffix(path, "doc") {
			continue
		}
		for _, in := range p.Imports {
			require.NotContains(t, forbidden, in, path)
			require.False(t, strings.Contains(in, "gorm.io") || strings.Contains(in, "chi") && strings.Contains(in, "github.com"),
				"%s imports %s", path, in)
			// What these two build on has addresses of package net.
			spoken := path == "internal/core/cert" || path == "internal/core/ownservice"
			require.False(t, in == "net" && !spoken, "%s imports net: use net/netip", path)
		}
		for _, file := range p.GoFiles {
			f, err := parser.ParseFile(token.NewFileSet(), filepath.Join(p.Dir, file), nil, 0)
			require.NoError(t, err)
			ast.Inspect(f, func(n ast.Node) bool {
				switch n := n.(type) {
				case *ast.GoStmt:
					t.Errorf("%s/%s starts a goroutine", path, file)
				case *ast.SelectorExpr:
					if x, ok := n.X.(*ast.Ident); ok && x.Name == "time" &&
						(n.Sel.Name == "Now" || n.Sel.Name == "After" || n.Sel.Name == "Sleep") {
						t.Errorf("%s/%s looks at the clock: time is handed in", path, file)
					}
				}
				return true
			})
		}
	}
}

// The judge's evaluator knows the plan's types and nothing of what it judges.
func TestJudgeIsIndependent(t *testing.T) {
	f, err := parser.ParseFile(token.NewFileSet(), filepath.Join("..", "judge", "naive_test.go"), nil, parser.ImportsOnly)
	require.NoError(t, err)
	for _, in := range f.Imports {
		if path := strings.Trim(in.Path.Value, `"`); strings.HasPrefix(path, "yellowlantern/") {
			require.Equal(t, "yellowlantern/internal/core/plan", path)
		}
	}
}

// What the service does is written without HTTP: another edge, or another process, can give the same orders.
func TestNoHTTPBelowTheEdge(t *testing.T) {
	for path, p := range packages(t) {
		if !strings.HasPrefix(path, "internal/app") {
			continue
		}
		for _, in := range p.Imports {
			require.NotContains(t, in, "huma", path)
			require.NotContains(t, in, "go-chi", path)
			require.False(t, in == "net/http" && path != "internal/app/journal", "%s imports net/http", path) // its webhook is a client
		}
	}
}

// An IPv4 address has one form, which it gets where it comes in: by one function, so that none is forgotten.
func TestAddressesAreUnmappedInOnePlace(t *testing.T) {
	for path, p := range packages(t) {
		for _, file := range p.GoFiles {
			src, err := os.ReadFile(filepath.Join(p.Dir, file))
			require.NoError(t, err)
			text := string(src)
			require.True(t, path == "internal/core/fold" || !strings.Contains(text, ".Unmap()"), "%s/%s: fold.Addr", path, file)
			named := strings.Count(text, "LookupNetIP(") <= strings.Count(text, "fold.Addr")
			require.True(t, named, "%s/%s: what a name leads to is given one form", path, file)
		}
	}
}
