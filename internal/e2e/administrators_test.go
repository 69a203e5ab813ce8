package e2e

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/libtnb/sqlite"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"yellowlantern/internal/app/access"
	"yellowlantern/internal/app/actor"
	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/client"
	"yellowlantern/internal/core/onetime"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/instance"
	"yellowlantern/internal/store"
	"yellowlantern/internal/tour"
)

// hire adds an administrator of a role, who chooses a password, and gives what they use the command line by.
func hire(t *testing.T, d *tour.Demo, x terminal, name, role string) (terminal, string) {
	out := x.did("administrators", "add", name, "--role", role)
	made := regexp.MustCompile(`(?m)^ +(\S+-\S+)$`).FindStringSubmatch(out)[1]
	file, own := filepath.Join(t.TempDir(), "access"), "four unrelated words for "+name
	first := terminal{t, file}
	_, _, err := first.run("sign-in", d.URL(), "--name", name, "--password-file", write(t, made))
	require.ErrorContains(t, err, "made for you")
	first.did("sign-in", d.URL(), "--name", name, "--password-file", write(t, made), "--new-password-file", write(t, own))
	_, _, err = first.run("sign-in", d.URL(), "--name", name, "--password-file", write(t, made))
	require.Error(t, err, "that one counts no more")
	x.did("slowed", "lift")
	return first, own
}

// Every call of the API's document that a role may not make is refused before anything is done, whatever it is about; what is read anybody
// may, but for packets of people. Nobody is let in without having signed in.
func TestRoles(t *testing.T) {
	d := island(t, nil)
	x := newTerminal(t, d)
	var document struct {
		Paths map[string]map[string]struct {
			ID string `json:"operationId"`
		}
	}
	r, err := http.Get(d.URL() + "/api/openapi.json")
	require.NoError(t, err)
	require.NoError(t, json.NewDecoder(r.Body).Decode(&document))
	about := "1"
	call := func(token, method, path string) (int, string) {
		path = regexp.MustCompile(`\{[^}]*\}`).ReplaceAllString(path, about)
		r, err := http.NewRequestWithContext(t.Context(), method, d.URL()+path, strings.NewReader("{}"))
		require.NoError(t, err)
		r.Header.Set("Content-Type", "application/json")
		if token != "" {
			r.Header.Set("Authorization", "Bearer "+token)
		}
		answer, err := (&http.Client{Timeout: 20 * time.Second}).Do(r)
		require.NoError(t, err)
		defer answer.Body.Close()
		b, err := io.ReadAll(io.LimitReader(answer.Body, 1<<10))
		require.NoError(t, err)
		return answer.StatusCode, string(b)
	}
	tends := []string{
		"add-user", "change-user", "set-password", "remove-user", "lost-device", "make-kit", "lift-slowed",
		"make-second-factor-link", "withdraw-request",
	}
	operates := []string{"end-session", "end-sessions", "start-round", "stop-computing", "withdraw-request"}
	may := map[string][]string{"auditor": {"check", "make-token"}, "help-desk": tends, "operator": operates}
	for role, some := range may {
		var made struct{ Token string }
		require.NoError(t, d.Client.Do(t.Context(), "POST", "/tokens", map[string]string{"name": role, "role": role}, &made))
		seen, refused := 0, 0
		for path, methods := range document.Paths {
			for method, op := range methods {
				method = strings.ToUpper(method)
				if op.ID == "watch" || method == "GET" && op.ID != "record-session" {
					continue
				}
				status, words := 0, ""
				if role == "auditor" && !slices.Contains([]string{
					"start", "sign-in", "ask-key", "renew-certificate", "enrol-probe", "call-of-probe",
					"record-session",
				}, op.ID) {
					status, words = call("", method, path)
					require.Equal(t, 401, status, "%s without having signed in: %s", op.ID, words)
				}
				seen++
				status, words = call(made.Token, method, path)
				switch {
				case slices.Contains(some, op.ID):
					require.NotEqual(t, 403, status, "%s as %s: %s", op.ID, role, words)
				case status == 403:
					require.Contains(t, words, "is not for you ("+`administrator, by a token for `+role, op.ID)
					refused++
				default:
					require.Contains(t, mine[role], op.ID, "%s as %s: %d %s", op.ID, role, status, words)
				}
			}
		}
		require.Greater(t, refused, 25, "%s: of %d calls", role, seen)
		status, _ := call(made.Token, "GET", "/api/v1/users")
		require.Equal(t, 200, status, "%s reads", role)
	}
	require.Contains(t, squeezed(x.did("tokens", "list")), "auditor", "what a token may, and when it was used")

	// The same by what a call is about. What is kept of an administrator under a person's name is nobody's by a call about people; a draft
	// is an administrator's to try a source of; who tends people clears nothing of administrators.
	tokens := map[string]string{}
	for _, role := range access.Roles {
		var made struct{ Token string }
		require.NoError(t, d.Client.Do(t.Context(), "POST", "/tokens", map[string]string{"name": "by-kind-" + role, "role": role}, &made))
		tokens[role] = made.Token
	}
	about = "~administrator-admin"
	walked := 0
	for path, methods := range document.Paths {
		for method, op := range methods {
			byName := strings.HasPrefix(path, "/api/v1/users/{name}") || strings.HasPrefix(path, "/api/v1/people/{name}")
			if !byName && op.ID != "list-second-factors" && op.ID != "list-keys" && op.ID != "list-shared-keys" {
				continue
			}
			for role, token := range tokens {
				at := path
				if !byName {
					at += "?user=" + about
				}
				status, words := call(token, strings.ToUpper(method), at)
				require.Equal(t, 403, status, "%s about an administrator, as %s: %s", op.ID, role, words)
				walked++
			}
		}
	}
	require.Greater(t, walked, 60)
	about = "mainland"
	for role, token := range tokens {
		status, words := call(token, "POST", "/api/v1/sources/{name}/trial?draft=mine")
		require.Equal(t, role != access.RoleAdministrator, status == 403, "%s: %s", role, words)
	}
	guess := func() int {
		r, err := http.Post(d.URL()+"/api/v1/sign-in", "application/json", strings.NewReader(`{"name": "admin", "password": "wrong"}`))
		require.NoError(t, err)
		require.NoError(t, r.Body.Close())
		return r.StatusCode
	}
	guess()
	require.Equal(t, 429, guess())
	for role, token := range tokens {
		_, words := call(token, "GET", "/api/v1/slowed")
		sees := role == access.RoleAdministrator || role == access.RoleAuditor
		require.Equal(t, sees, strings.Contains(words, `"console"`), "%s: %s", role, words)
	}
	status, words := call(tokens[access.RoleHelpDesk], "DELETE", "/api/v1/slowed")
	require.Equal(t, 200, status)
	require.Contains(t, words, `"lifted":0`)
	require.Equal(t, 429, guess(), "the help desk clears nothing of an administrator")
	status, words = call(tokens[access.RoleAdministrator], "DELETE", "/api/v1/slowed?name=admin")
	require.Equal(t, 200, status)
	require.Contains(t, words, `"lifted":1`)
}

// mine are further calls that change nothing, or concern oneself alone, or belong to the role.
var mine = func() map[string][]string {
	own := []string{
		"change-own-password", "end-own-session", "sign-out", "make-token", "remove-token", "take-own-factor", "forget-own-factor", "start", "sign-in", "ask-key", "begin-own-key", "add-own-key",
		"renew-certificate", "enrol-probe", "call-of-probe", "check", "read", "uses", "depends", "journeys", "edit", "begin",
	}
	both := []string{"diagnose", "bundle", "add-probe", "try-source", "try-certificate"}
	return map[string][]string{
		"auditor": own, "operator": slices.Concat(own, both, []string{"ask-mirror"}),
		"help-desk": slices.Concat(own, both, []string{
			"import-users", "make-password-link", "make-kits", "make-probe-kit", "make-kit-link", "withdraw-kit-link", "invite-device", "withdraw-invitation", "add-key",
			"forget-person", "revoke-key", "make-shared-key", "revoke-shared-key", "add-second-factor", "forget-second-factors",
		}),
	}
}()

// Administrators are made, given roles and removed; what they had open ends with that. Nobody can make the last one less. A second factor
// of theirs is asked for wherever they sign in.
func TestAdministrators(t *testing.T) {
	t.Parallel()
	d := island(t, nil)
	x := newTerminal(t, d)
	hanna, words := hire(t, d, x, "hanna.helpdesk", "help-desk")
	require.Contains(t, hanna.did("users", "second-factor", "link", "rory.researcher"), "/second-factor/")
	_, _, err := hanna.run("administrators", "add", "me.too", "--role", "administrator")
	require.ErrorContains(t, err, "is not for you (help-desk): it is for administrator")
	_, _, err = hanna.run("plan", "commit", "-m", "mine")
	require.ErrorContains(t, err, "it is for administrator")
	_, _, err = hanna.run("sign-in", d.URL(), "--name", "hanna.helpdesk", "--password-file", write(t, words), "--role", "operator")
	require.ErrorContains(t, err, "a token can do no more than whoever makes it")
	journaled(t, d, "change", "hanna.helpdesk, by token command line from 127.0.0.1: A link by which a person gets a second factor, once (rory.researcher)")
	journaled(t, d, "trust", "made them an administrator, as help-desk")

	_, _, err = x.run("administrators", "role", "admin", "--role", "auditor")
	require.ErrorContains(t, err, "last administrator who may do everything")
	_, _, err = x.run("administrators", "remove", "admin")
	require.ErrorContains(t, err, "last administrator who may do everything")
	_, _, err = x.run("administrators", "add", "admin", "--role", "auditor")
	require.ErrorContains(t, err, "already")
	x.did("administrators", "role", "hanna.helpdesk", "--role", "auditor")
	_, _, err = hanna.run("users", "second-factor", "link", "rory.researcher")
	require.ErrorContains(t, err, "is not for you (auditor)", "the token has the role that they have now")

	var begun access.OwnEnrolling
	require.NoError(t, json.Unmarshal([]byte(hanna.did("--json", "own", "second-factor", "begin")), &begun))
	secret, err := onetime.Read(onetime.ByTime, begun.Secret)
	require.NoError(t, err)
	file := write(t, begun.Secret)
	_, _, err = hanna.run("own", "second-factor", "take", "--password-file", write(t, words), "--secret-file", file, "--code-file",
		write(t, "000000"))
	require.ErrorContains(t, err, "not of this key")
	_, _, err = hanna.run("own", "second-factor", "take", "--password-file", write(t, "another's"), "--secret-file", file,
		"--code-file", write(t, "000000"))
	require.ErrorContains(t, err, "name or password is wrong", "whoever has a token alone shuts nobody out")
	x.did("slowed", "lift")
	out := hanna.did("own", "second-factor", "take", "--password-file", write(t, words), "--secret-file", file, "--code-file",
		write(t, secret.Code(onetime.At(time.Now()))))
	recovery := regexp.MustCompile(`[A-Z0-9]{4}(-[A-Z0-9]{4}){3}`).FindString(out)
	_, _, err = hanna.run("sign-in", d.URL(), "--name", "hanna.helpdesk", "--password-file", write(t, words))
	require.ErrorContains(t, err, reason.Of(reason.CodeWanted, nil).Words())
	_, _, err = hanna.run("sign-in", d.URL(), "--name", "hanna.helpdesk", "--password-file", write(t, words), "--code-file", write(t,
		"000000"))
	require.ErrorContains(t, err, "the code is wrong")
	journaled(t, d, "refused", "was not let into the console, from 127.0.0.1: the code is wrong")
	x.did("slowed", "lift")
	hanna.did("sign-in", d.URL(), "--name", "hanna.helpdesk", "--password-file", write(t, words), "--code-file", write(t, recovery))
	journaled(t, d, "trust", "signed in to the console with a second factor")
	require.Contains(t, squeezed(x.did("administrators", "list")), "hanna.helpdesk auditor here with a second factor")

	made := regexp.MustCompile(`(?m)^ +(\S+-\S+)$`).FindStringSubmatch(x.did("administrators", "password", "hanna.helpdesk",
		"--forget-second-factor"))[1]
	_, _, err = hanna.run("status")
	require.Error(t, err, "what she had open ended")
	hanna.did("sign-in", d.URL(), "--name", "hanna.helpdesk", "--password-file", write(t, made), "--new-password-file", write(t, "another four unrelated words"))
	x.did("administrators", "remove", "hanna.helpdesk")
	_, err = client.Get[access.Administrator](t.Context(), d.Client, "/me")
	require.NoError(t, err)
	_, _, err = hanna.run("status")
	require.Error(t, err)
}

// Where the plan that runs demands it, a commit needs the approval of another administrator, of exactly that text.
func TestApproval(t *testing.T) {
	t.Parallel()
	d := island(t, nil)
	x := newTerminal(t, d)
	ada, _ := hire(t, d, x, "ada.admin", "administrator")
	x.did("plan", "load", write(t, d.Scenario.Plan+"\napprove-commits: true\n"))
	x.did("plan", "commit", "-m", "together from now on")
	commit := func(who terminal) error {
		_, _, err := who.run("plan", "commit", "--draft", "shared", "-m", "with two")
		return err
	}
	x.did("plan", "set", "--draft", "shared", "passages/wardens/limits/longest", "12h")
	require.ErrorContains(t, commit(x), "demands that another administrator approves draft shared as it is")
	x.did("plan", "approve", "--draft", "shared")
	require.ErrorContains(t, commit(x), "admin has, who must be another than commits")
	require.Contains(t, ada.did("plan", "approve", "--draft", "shared"), "approved by admin, ada.admin")
	x.did("plan", "set", "--draft", "shared", "passages/wardens/limits/longest", "13h")
	require.ErrorContains(t, commit(x), "nobody has", "another text needs another approval")
	ada.did("plan", "approve", "--draft", "shared")
	as := func(name string) context.Context { return actor.With(t.Context(), actor.Actor{Name: name}) }
	require.NoError(t, d.App.Access.ChangeRole(as("admin"), "ada.admin", "operator"))
	require.ErrorContains(t, commit(x), "ada.admin has, who may not commit now")
	require.NoError(t, d.App.Access.ChangeRole(as("admin"), "ada.admin", "administrator"))
	require.ErrorContains(t, commit(x), "ada.admin has, who may be the same as admin",
		"admin could have approved it in that name")

	// Nor does whom that one made count: it is forgotten after a day.
	made, err := d.App.Access.AddAdministrator(as("ada.admin"), "vera.admin", "administrator")
	require.NoError(t, err)
	vera := terminal{t, filepath.Join(t.TempDir(), "access")}
	vera.did("sign-in", d.URL(), "--name", "vera.admin", "--password-file", write(t, made.Password), "--new-password-file", write(t, "lanterns over a quiet jetty"))
	vera.did("plan", "approve", "--draft", "shared")
	require.ErrorContains(t, commit(x), "vera.admin has, who may be the same as admin")
	x.did("plan", "approve", "--draft", "shared")
	require.ErrorContains(t, commit(vera), "admin has, who may be the same as vera.admin", "nor the other way about")
	draft, err := d.Store.Draft(t.Context(), "shared")
	require.NoError(t, err)
	late := store.Approval{Digest: plans.Digest(draft), By: "vera.admin", At: time.Now().Add(25 * time.Hour)}
	require.NoError(t, d.Store.AddApproval(t.Context(), late))
	require.NoError(t, commit(x), "more than a day after vera was made")
	x.did("plan", "set", "approve-commits", "false")
	_, _, err = x.run("plan", "commit", "-m", "alone again")
	require.ErrorContains(t, err, "demands that another administrator approves", "nobody takes it back alone")
}

// While commits need approval, so does what changes who may do or reach what without one: administrators, roles, groups of people. It waits
// for another administrator, is done in the name of who asked and with their rights, once; whoever asked, or is in their hand, cannot
// approve it.
func TestRequests(t *testing.T) {
	t.Parallel()
	var folder string
	d := island(t, func(o *instance.Options) { folder = o.Data })
	x := newTerminal(t, d)
	ada, _ := hire(t, d, x, "ada.admin", "administrator")
	hanna, _ := hire(t, d, x, "hanna.helpdesk", "help-desk")
	x.did("users", "change", "rory.researcher", "--group", "wardens", "--group", "researchers")
	x.did("plan", "load", write(t, d.Scenario.Plan+"\napprove-commits: true\n"))
	x.did("plan", "commit", "-m", "together from now on")

	asks := func(who terminal, args ...string) string {
		_, code, err := who.run(args...)
		require.ErrorContains(t, err, "another administrator must approve this: request ")
		require.NotZero(t, code)
		return regexp.MustCompile(`request (\d+) waits`).FindStringSubmatch(err.Error())[1]
	}
	groups := func() []string {
		u, err := d.App.Members.User(t.Context(), "rory.researcher")
		require.NoError(t, err)
		return u.Groups
	}
	x.did("users", "change", "rory.researcher", "--mail", "rory@tern.example") // what changes no group waits for nobody
	eve := asks(x, "administrators", "add", "eve.admin", "--role", "administrator")
	role := asks(x, "administrators", "role", "hanna.helpdesk", "--role", "administrator")
	moved := asks(hanna, "users", "change", "rory.researcher", "--group", "wardens")
	added := asks(hanna, "users", "add", "nils.new", "--group", "wardens", "--password-file", write(t, "eight gannets on the jetty"))
	require.Equal(t, []string{"researchers", "wardens"}, groups())
	out := squeezed(x.did("administrators", "requests"))
	for _, says := range []string{
		"them: eve.admin, role administrator", "another role: hanna.helpdesk", `rory.researcher, groups ["wardens"]`, "nils.new", "hanna.helpdesk",
	} {
		require.Contains(t, out, says)
	}
	require.NotContains(t, out, "gannets")
	whole := x.did("administrators", "requests", added)
	require.Contains(t, whole, `"password": "(not shown)"`)
	require.NotContains(t, whole, "gannets")
	table, passwords := write(t, "user,groups\nnew.one,wardens\n"), filepath.Join(t.TempDir(), "passwords")
	x.did("users", "import", table) // what would become of it
	imported := asks(x, "users", "import", "--take", "--passwords", passwords, table)
	require.Contains(t, x.did("administrators", "requests", imported), "new.one,wardens")

	_, _, err := x.run("administrators", "approve", eve)
	require.ErrorContains(t, err, "admin cannot approve a request of admin")
	_, _, err = ada.run("administrators", "approve", eve)
	require.ErrorContains(t, err, "ada.admin cannot approve a request of admin: who may be the same as admin", "made by admin today")
	_, _, err = hanna.run("administrators", "approve", moved)
	require.ErrorContains(t, err, "is not for you")
	_, _, err = hanna.run("administrators", "withdraw", eve)
	require.ErrorContains(t, err, "the request is admin's")

	db, err := gorm.Open(sqlite.Open(filepath.Join(folder, "yellowlantern.db")), &gorm.Config{})
	require.NoError(t, err)
	require.NoError(t, db.Exec("DELETE FROM hands").Error) // as if the day were over
	out = ada.did("administrators", "approve", eve)
	require.Regexp(t, `shown this once(?s:.*)eve.admin +\S+-\S+`, out)
	require.Regexp(t, `shown this once(?s:.*)new.one +\S+-\S+`, ada.did("administrators", "approve", imported))
	_, _, err = ada.run("administrators", "approve", eve)
	require.ErrorContains(t, err, "request", "once")
	journaled(t, d, "change", "admin, by request "+eve+", approved by ada.admin")
	ada.did("administrators", "withdraw", role)
	ada.did("administrators", "approve", moved)
	require.Equal(t, []string{"wardens"}, groups())
	require.NoError(t, d.App.Access.ChangeRole(actor.With(t.Context(), actor.Actor{Name: "ada.admin"}), "hanna.helpdesk", "auditor"))
	require.NoError(t, db.Exec("DELETE FROM hands").Error)
	_, _, err = ada.run("administrators", "approve", added)
	require.ErrorContains(t, err, "could not be done", "with the rights that they have now")
	require.Contains(t, x.did("administrators", "requests"), "nils.new", "it waits still")
	ada.did("administrators", "withdraw", added)

	// What was changed since is not changed back by an older request.
	stale := asks(x, "users", "change", "vera.volunteer", "--group", "wardens")
	x.did("users", "change", "vera.volunteer", "--off")
	_, _, err = ada.run("administrators", "approve", stale)
	require.ErrorContains(t, err, "vera.volunteer was changed since the request was made")
}
