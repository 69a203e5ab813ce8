package handover

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// scriptCommands are all that a script for Windows calls.
var scriptCommands = []string{
	"Add-DnsClientNrptRule", "Add-VpnConnection", "Add-VpnConnectionRoute", "ForEach-Object", "Get-ChildItem", "Get-DnsClientNrptRule",
	"Get-VpnConnection", "New-EapConfiguration", "Out-Null", "Remove-DnsClientNrptRule", "Remove-Item", "Remove-VpnConnection",
	"Set-VpnConnectionIPsecConfiguration", "Where-Object", "Write-Host",
}

var scriptMethods = []string{
	"Add", "Close", "Comment", "EapConfigXmlStream", "FromBase64String", "Name", "Open", "Thumbprint", "new",
}

const mostParsed = 40 // by a parser that takes its time

// By a parser of the language's grammar every script is one, whatever people type: it calls what it is to call and nothing else, and has
// as many literals as our own reading of the quoting rules says. (That parser knows no typographic quotes; our own reading does.)
func TestWindowsScriptByGrammar(t *testing.T) {
	const web = "../../../web"
	if _, err := os.Stat(web + "/node_modules/@vscode/tree-sitter-wasm"); err != nil {
		require.Empty(t, os.Getenv("CI"), "in CI the parser is there")
		t.Skip("the parser is not installed: make build")
	}
	var scripts []string
	rapid.Check(t, func(t *rapid.T) {
		v := values(t)
		k, err := Make(platform(t, "windows"), v, secretsOf(t, &v))
		require.NoError(t, err)
		scripts = append(scripts, string(k.Files[0].Data))
	})
	scripts = scripts[:min(len(scripts), mostParsed)]
	broken := scripts[0] + "\ncalc 'x" // at the end: further up, what is typed into a script may happen to close it
	in, err := json.Marshal(append(slices.Clone(scripts), broken, scripts[0]+"\ncalc"))
	require.NoError(t, err)
	cmd := exec.CommandContext(t.Context(), "node", web+"/scripts/powershell.mjs")
	cmd.Stdin = bytes.NewReader(in)
	var said bytes.Buffer
	cmd.Stderr = &said
	out, err := cmd.Output()
	require.NoError(t, err, said.String())
	var read []struct {
		Error              bool
		Commands, Methods  []string
		Literals, Expanded int
	}
	require.NoError(t, json.Unmarshal(out, &read))
	require.Len(t, read, len(scripts)+2)
	for i, script := range scripts {
		require.False(t, read[i].Error, script)
		require.Zero(t, read[i].Expanded, script)
		require.Subset(t, scriptCommands, read[i].Commands, script)
		require.Subset(t, scriptMethods, read[i].Methods, script)
		require.Len(t, literals(t, strings.TrimPrefix(script, "\ufeff")), read[i].Literals, script)
	}
	require.True(t, read[len(scripts)].Error, "a broken one is told")
	require.Contains(t, read[len(scripts)+1].Commands, "calc", "so is one that calls something else")
}
