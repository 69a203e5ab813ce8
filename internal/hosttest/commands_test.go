package hosttest

import (
	"context"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/hosts"
)

var (
	typed   = regexp.MustCompile("`yl ([a-z][^`]*)`")
	inBlock = regexp.MustCompile(`(?m)^ *(?:bin/)?yl ([a-z][^#\n]*)`)
	// standsFor is a word that the reader puts something in place of, or that shows what is left out.
	standsFor = regexp.MustCompile(`[A-Z]{2,}|…|\.\.\.|[|<>]`)
	// lasting do not end by themselves, ask somebody something, or end what runs.
	misunderstood = regexp.MustCompile(`takes no "|not defined|there is no vantage|No help topic|invalid value`)
	lasting       = regexp.MustCompile(`^(serve|gateway|demo|mirror|dial|restore|start$|sign-out|sign-in|device offer|host clear|own end)`)
)

// Every command of the documents that can be typed as it stands is understood on a host too; what the service says is next works there, and
// so do the defaults, which try what is behind the gateway through the tunnel.
func TestCommandsOnAHost(t *testing.T) {
	g := install(t, "cm")
	next := g.yl("next")
	require.Contains(t, next, "yl probe --everyone")
	var all []string
	for _, path := range []string{"README.md", "docs/operating.md", "docs/security.md", "docs/site.md"} {
		b, err := os.ReadFile(filepath.Join("..", "..", path))
		require.NoError(t, err)
		for _, re := range []*regexp.Regexp{typed, inBlock} {
			for _, m := range re.FindAllStringSubmatch(string(b), -1) {
				all = append(all, m[1])
			}
		}
	}
	for _, m := range inBlock.FindAllStringSubmatch(next, -1) {
		all = append(all, m[1])
	}
	for i, c := range all {
		c, _, _ = strings.Cut(c, ";")
		all[i] = strings.TrimSpace(c)
	}
	slices.Sort(all)
	all = slices.DeleteFunc(slices.Compact(all), func(c string) bool { return standsFor.MatchString(c) || lasting.MatchString(c) })
	require.Greater(t, len(all), 40)
	folder := t.TempDir() // for what commands write
	for _, c := range all {
		out, err := func() (string, error) {
			ctx, stop := context.WithTimeout(t.Context(), time.Minute)
			defer stop()
			as := []string{"env", "-C", folder, yl, "--access", filepath.Join(g.folder, "access.json")}
			return g.Run(ctx, hosts.Gateway, append(as, strings.Fields(c)...)...)
		}()
		if err != nil {
			require.NotRegexp(t, misunderstood, err.Error(), "yl %s: %s", c, out)
		}
	}
	require.Contains(t, g.yl("probe", "--everyone"), "all as expected; computed and tried agree")
	out := g.yl("probe", "--user", "rory.researcher", "--password-file", g.file("rory.researcher"))
	require.Contains(t, out, "it ran on the gateway host, and sent everything by the tunnel")
	require.Contains(t, out, "asked by 10.99.0.", "through the kernel, with a leased address")
	require.Contains(t, out, "81 of 81 as expected")
	out = g.yl("validate")
	require.Contains(t, out, "not tried   the way in from outside")
	require.NotContains(t, out, "of 0 trials")
}

// A commit with a trial that breaks the way back on the host's networks goes back, though the host itself reaches everything.
func TestTrialOnAHost(t *testing.T) {
	g := install(t, "tr")
	g.on("ridge", "ip", "route", "replace", "10.99.0.0/24", "via", "10.20.0.1")
	g.on("ridge", "ip", "route", "replace", "10.99.1.0/26", "via", "10.20.0.1")
	g.on("ridge", "ip", "route", "del", "default") // what the plan does not know
	path := filepath.Join(g.folder, "moved.yaml")
	require.NoError(t, os.WriteFile(path, []byte(strings.ReplaceAll(g.demo.Plan, "10.99.0.0/24", "10.98.0.0/24")), 0o600))
	g.yl("plan", "load", path)
	commit := []string{"plan", "commit", "--trial", "-m", "move the pool", "--accept", "all", "--because", "it is a trial"}
	_, err := g.ask(commit...)
	require.ErrorContains(t, err, "the-office-helps-researchers for researchers, researchers + volunteers: it is opened from inside",
		"what no trial judges is said first")
	out, err := g.ask(append(commit, "--allow-partial-trial")...)
	require.Error(t, err)
	require.Contains(t, out+err.Error(), "researchers-read-the-archive for researchers", "what fails is named")
	require.Contains(t, g.yl("plan", "show"), "10.99.0.0/24")
	require.Contains(t, strings.Join(strings.Fields(g.yl("plan", "history")), " "), "went back to revision 1 by itself")
}
