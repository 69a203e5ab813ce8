package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"

	"yellowlantern/demo"
	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/cli"
	"yellowlantern/internal/client"
	"yellowlantern/internal/tour"
)

// terminal runs commands of the command line as a user would.
type terminal struct {
	t      *testing.T
	access string
}

func newTerminal(t *testing.T, d *tour.Demo) terminal {
	access := filepath.Join(t.TempDir(), "access.json")
	require.NoError(t, cli.WriteAccess(access, cli.Access{URL: d.URL(), Token: d.Client.Token}))
	return terminal{t, access}
}

// run gives what a command prints, and its exit code.
func (x terminal) run(args ...string) (string, int, error) {
	var out bytes.Buffer
	err := cli.New(&out).Run(x.t.Context(), append([]string{"yl", "--access", x.access}, args...))
	return out.String(), cli.ExitCode(err), err
}

// did runs a command that must succeed, and gives what it prints.
func (x terminal) did(args ...string) string {
	x.t.Helper()
	out, _, err := x.run(args...)
	require.NoError(x.t, err, args)
	return out
}

// changing are commands that do not do the same when they are run once more.
var changing = regexp.MustCompile(`^(users (add|change|password|remove)|plan (pin|load|commit|discard|review|rebase|set|mend|add|remove|put|rename|move|uses)|sessions end|secret (make|remove))|--draft draft`)

func write(t *testing.T, text string) string {
	path := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	return path
}

// Every command prints tables that fit 100 columns and, asked for it, JSON; its exit code tells how things are.
func TestCommands(t *testing.T) {
	d := island(t, nil)
	x := newTerminal(t, d)
	rory := write(t, d.Passwords["rory.researcher"]+"\n")
	changed := write(t, strings.Replace(d.Scenario.Plan, "groups: [researchers], to: [records, nestcams]",
		"groups: [researchers], to: [records]", 1))
	harmless := write(t, strings.Replace(d.Scenario.Plan, "name: Tern Island Observatory", "name: Tern Island", 1))
	newPassword := write(t, "four terns one jetty")
	connect(t, d, "vera.volunteer")
	for _, c := range []struct {
		args string
		exit int
		says string
	}{
		{"plan show", 0, "# Tern Island Observatory"},
		{"plan show --revision 1", 0, "format: 1"},
		{"plan check " + changed, 1, "expectation-fails@expectations/researchers-read-the-archive"},
		{"plan load " + changed, 1, "→ add a rule that permits tcp/80 to nestcams for researchers"},
		{"plan drafts", 0, "up to date"},
		{"plan review", 1, "- loses ping, tcp/80, tcp/443 at nestcams"},
		{"plan difference --draft draft", 0, "rules/archive/to"},
		{"prove --draft draft", 1, "decided at rules by rules"},
		{"reach rory.researcher --draft draft", 0, "lost 10.20.30.7 icmp/echo, tcp/80, tcp/443"},
		{"journey --from rory.researcher --to nestcams:80 --draft draft", 1, "lost at rules: no rule permits tcp/80"},
		{"plan commit -m x", 4, ""},
		{"plan commit -m x --accept all", 2, "say why the warnings are accepted"},
		{"plan load " + harmless, 0, "0 stop"},
		{"plan rebase", 0, "revision 1"},
		{"plan commit -m shorter", 0, "revision 2 runs"},
		{"plan history", 0, "shorter"},
		{"plan list rules --filter volunteers", 0, "cameras"},
		{"plan list colours", 2, ""},
		{"plan set passages/contractor/routes/split [turbine]", 0, "4 stop"},
		{"plan check", 1, "yl plan mend name-server-not-routed@passages/contractor/dns/servers/0"},
		{"plan mend nothing@like/it", 2, ""},
		{"plan mend name-server-not-routed@passages/contractor/dns/servers/0", 0, "add names to passages/contractor/routes/split"},
		{"plan difference --draft draft", 0, "names"},
		{"plan add groups {name:campers}", 4, ""},
		{"plan remove rules/cameras", 0, "stop"},
		{"plan set rules/cameras", 2, "such as"},
		{"plan list hosts/records", 0, "10.20.30.5"},
		{"plan list hosts/nobody", 1, ""},
		{"plan uses hosts/records", 0, "rules/archive/to/0"},
		{`plan put hosts {"name":"tide-gauge","addresses":["10.20.0.77"]}`, 0, "put hosts/tide-gauge"},
		{`plan put hosts {"name":"tide-gauge","addresses":["10.20.0.x"]}`, 4, ""},
		{`plan put hosts [{"name":"tide-gauge","adress":1}]`, 4, ""},
		{"plan put hosts nothing", 2, "neither an object"},
		{"plan put", 2, "such as"},
		{"plan rename hosts/records papers", 0, "rename hosts/records to papers"},
		{"plan uses hosts/papers", 0, "rules/archive/to/0"},
		{"plan move passages/contractor wardens", 0, "move passages/contractor"},
		{"plan move passages/contractor nobody", 4, ""},
		{"plan restore 1", 0, "holds revision 1"},
		{"plan check --filter records --severity stop", 0, "0 stop"},
		{"surplus --filter nestcams", 0, "tcp/443"},
		{"plan pin cameras", 0, "add {name: cameras, groups: [volunteers], must: reach, to: [nestcams], services: [web]}"},
		{"plan pin nothing", 1, "nothing to pin"},
		{"depends rules/archive", 0, "✗ researchers-read-the-archive would fail for researchers"},
		{"depends rules/quiet-nights", 0, "within its hours, nesting-nights"},
		{"depends nat/keep-inside", 0, "✗ the-office-helps-researchers would fail for researchers"},
		{"depends rules/nobody", 4, ""},
		{"plan discard", 0, "gone"},
		{"users list everybody", 2, `yl users list takes no "everybody"`},
		{"status now", 2, `takes no "now"`},
		{"plan discard it please", 2, "takes no"},
		{"users list", 0, "Rory Researcher"},
		{"users list --filter wardens", 0, "wanda.warden"},
		{"users add new.comer --full-name Newcomer --group volunteers --password-file " + newPassword, 0, "added"},
		{"users add new.comer --password-file " + newPassword, 4, ""},
		{"users add x --password-file " + write(t, "short"), 4, ""},
		{"users change new.comer --group wardens --off", 0, "changed"},
		{"users list --filter off", 0, "wardens"},
		{"users password new.comer --password-file " + newPassword, 0, "new password"},
		{"users remove new.comer", 0, "gone"},
		{"users remove new.comer", 4, ""},
		{"groups", 0, "vera.volunteer"},
		{"certificate list", 0, "gate.tern.example"},
		{"certificate list --filter nothing", 0, "(none)"},
		{"certificate import x --chain " + harmless, 4, ""},
		{"certificate revoke nobody --because x", 4, ""},
		{"secret list", 0, "(none)"},
		{"secret make s --kind shared-key", 0, "shown this once"},
		{"secret make s", 4, ""},
		{"secret remove s", 0, "gone"},
		{"pools", 0, "254"},
		{"pools --filter vera", 0, "10.99.1.1"},
		{"certificate make spare --for spare.tern.example --for 192.0.2.10", 0, "192.0.2.10"},
		{"prove", 0, "✓ holds"},
		{"prove --filter turbine", 0, "contractor-nothing-else"},
		{"board", 0, "kept out"},
		{"journey --from rory.researcher --to records.tern.example:443", 0, "the answer comes back"},
		{"journey --from group:wardens --to 198.51.100.80 --service tcp/80", 0, "gets there, and the answer comes back"},
		{"journey --from nobody --to records:80", 4, ""},
		{"journey --from rory.researcher", 2, "--packets FILE"},
		{"journey --from rory.researcher --to ::ffff:10.20.30.5", 4, "give 10.20.30.5"},
		{"journey --from wanda.warden --to nestcams --service files --at 23:30", 1, "rules/quiet-nights"},
		{"journey --from wanda.warden --to records --service files --at 2026-12-24T12:00", 0, "the answer comes back"},
		{"journey --from wanda.warden --to records:80 --at noon", 4, "is no moment"},
		{"journey --packets " + write(t, "from,to,service,at\nrory.researcher,records:80\noffice,rory.researcher,remote-help\n"), 0, "2 of 2 get through"},
		{"journey --packets " + write(t, "wanda.warden,nestcams,files,23:30\nnobody,records:80\n"), 1, "0 of 2 get through"},
		{"journey --packets " + write(t, "wanda.warden\n"), 2, "line 1 has 1 columns"},
		{"reach rory.researcher", 0, "from inside: excess 10.20.0.20 icmp/echo"},
		{"reach rory.researcher --to archive --filter tcp", 0, "10.20.30.5, 10.20.30.7"},
		{"reach rory.researcher --to nowhere", 4, "is no destination"},
		{"reach", 2, "yl reach USER"},
		{"journey --from rory.researcher --to nowhere:80", 4, ""},
		{"probe --user rory.researcher --password-file " + rory, 0, "name server"},
		{"probe --user rory.researcher --vantage moon --password-file " + rory, 2, ""},
		{"validate", 0, "Nothing was tried on this revision yet"},
		{"validate --tried", 1, "volunteers"},
		{"validate --format junit", 0, "<testsuite name=\"proof\""},
		{"validate --format html --out " + filepath.Join(t.TempDir(), "report.html"), 0, ""},
		{"validate --format paper", 2, ""},
		{"sessions list", 0, "vera.volunteer"},
		{"sessions end vera.volunteer", 0, "ended: 1"},
		{"journal --limit 100", 0, "revision 2"},
		{"journal --kind login --user vera.volunteer", 0, "logged in by passage"},
		{"status", 0, "names-for-all"},
	} {
		text, exit, err := x.run(strings.Fields(c.args)...)
		require.Equal(t, c.exit, exit, "yl %s: %v\n%s", c.args, err, text)
		require.Contains(t, squeezed(text)+fmt.Sprint(err), c.says, "yl %s", c.args)
		if exit > 0 {
			require.NotEmpty(t, err.Error())
		}
		if !strings.HasPrefix(c.args, "plan show") && !strings.Contains(c.args, "--format") {
			for _, line := range strings.Split(text, "\n") {
				require.LessOrEqual(t, utf8.RuneCountInString(line), 100, "yl %s prints a line that is too wide: %s", c.args, line)
			}
		}
		changes := changing.MatchString(c.args)
		if c.exit <= 1 && !changes && !strings.Contains(c.args, "--format") {
			text, _, _ := x.run(append([]string{"--json"}, strings.Fields(c.args)...)...)
			require.True(t, json.Valid([]byte(text)), "yl --json %s: %.300s", c.args, text)
		}
	}
	list, _, _ := x.run("tokens", "list")
	require.Contains(t, list, "demo")
	_, exit, _ := x.run("tokens", "remove", "000000000000")
	require.Equal(t, 4, exit)
	other := newTerminal(t, d)
	mine := client.New(d.URL(), "")
	require.NoError(t, mine.SignIn(t.Context(), "admin", d.Admin, "spare"))
	require.NoError(t, cli.WriteAccess(other.access, cli.Access{URL: mine.URL, Token: mine.Token}))
	_, exit, err := other.run("sign-out")
	require.Zero(t, exit, "%v", err)
	require.NoFileExists(t, other.access)
	status, _ := refused(t, mine, "GET", "/users", nil)
	require.Equal(t, 401, status)
	_, exit, err = terminal{t, filepath.Join(t.TempDir(), "none.json")}.run("prove")
	require.Equal(t, 3, exit)
	require.ErrorContains(t, err, "yl sign-in")
	d.Stop()
	_, exit, err = x.run("prove")
	require.Equal(t, 3, exit)
	require.ErrorContains(t, err, "is it running?")
}

// squeezed undoes the wrapping of a table, as far as a search in it needs.
func squeezed(text string) string {
	return strings.Join(strings.Fields(text), " ") + "\n" + text
}

// An administrator begins with nothing but a few answers: the first plan is committed, and a person comes in by it.
func TestStartFromNothing(t *testing.T) {
	o := options(t)
	s, err := demo.Load("")
	require.NoError(t, err)
	s.People = nil
	d, err := tour.PrepareScenario(t.Context(), s, o)
	require.NoError(t, err)
	t.Cleanup(d.Stop)
	x := newTerminal(t, d)
	left := func() (out []string) {
		steps, err := client.Get[[]plans.Next](t.Context(), d.Client, "/next")
		require.NoError(t, err)
		for _, s := range steps {
			require.NotEmpty(t, s.Words+s.How+s.Where)
			out = append(out, s.Step)
		}
		return out
	}
	require.Equal(t, []string{"plan"}, left())
	args := strings.Fields("start --site Tern --dial gate.tern.example --outside 192.0.2.10 --network station=10.20.0.0/24 --network archive=10.20.30.0/24@10.20.0.2 --reach staff=station+archive:tcp/80+ping --dns 10.20.0.53 --full=false --device windows --device apple")
	text, exit, err := x.run(args...)
	require.NoError(t, err, text)
	require.Zero(t, exit)
	require.Contains(t, squeezed(text), "10.99.0.0/23 overlaps no network of yours")
	_, exit, err = x.run(args...)
	require.Equal(t, cli.ExitRefused, exit)
	require.ErrorContains(t, err, "yl plan discard --draft draft", "what was begun is not begun again over it")
	_, exit, err = x.run(strings.Fields("plan commit -m first")...)
	require.Equal(t, 4, exit)
	require.ErrorContains(t, err, "nobody-admitted@passages/staff/groups")
	require.Equal(t, []string{"person", "commit", "device", "trial"}, left())
	password := "eight terns on the jetty"
	_, exit, err = x.run("users", "add", "ada", "--group", "staff", "--password-file", write(t, password))
	require.Zero(t, exit, "%v", err)
	text, exit, err = x.run(strings.Fields("plan commit -m first --accept all --because beginning")...)
	require.Zero(t, exit, "%v %s", err, text)
	require.Equal(t, []string{"device", "trial"}, left())
	text, exit, err = x.run("probe", "--user", "ada", "--password-file", write(t, password))
	require.NoError(t, err, text)
	require.Zero(t, exit)
	require.Empty(t, left(), "it goes when it is done")
	d.Passwords["ada"] = password
	require.NoError(t, ping(t, connect(t, d, "ada"), "10.20.30.5"), "behind the router too")
	for _, bad := range []string{
		"--network station", "--network station=10.20.0.0/24@x", "--reach staff", "--outside gate",
		"--device abacus",
	} {
		_, exit, _ = x.run(append(strings.Fields("start --site a --dial b --dns 10.0.0.1 --full=false --network n=10.20.0.0/24 --outside 192.0.2.1 --reach a=n:ping"), strings.Fields(bad)...)...)
		require.Equal(t, 2, exit, bad)
	}
}

// Edits of several people in one draft at the same moment: each one that is told to have been made is there in the end.
func TestEditsTogether(t *testing.T) {
	d := island(t, nil)
	x := newTerminal(t, d)
	var all sync.WaitGroup
	for i := range 8 {
		all.Go(func() {
			for range 100 {
				if _, exit, _ := x.run("plan", "add", "hosts",
					fmt.Sprintf("{name: buoy-%d, addresses: [10.20.0.%d]}", i, 200+i)); exit == 0 {
					return
				}
			}
			t.Error("never made")
		})
	}
	all.Wait()
	text, _, err := x.run("plan", "list", "hosts", "--filter", "buoy-")
	require.NoError(t, err)
	for i := range 8 {
		require.Contains(t, text, fmt.Sprintf("buoy-%d ", i))
	}
}
