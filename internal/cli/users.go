package cli

import (
	"context"
	"fmt"
	"io"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yellowlantern/internal/app/members"
	"yellowlantern/internal/client"
	"yellowlantern/internal/httpapi"
	"yellowlantern/internal/people"
)

// aboutUser are the flags that describe a person.
func aboutUser() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "full-name", Usage: "what the person is called"},
		&cli.StringSliceFlag{Name: "group", Usage: "a group of the user; several by repeating it"},
		&cli.BoolFlag{Name: "new-group", Usage: "also groups that the running plan does not have yet"},
		&cli.StringFlag{Name: "mail", Usage: "where mail reaches them"},
		&cli.StringFlag{Name: "until", Usage: "they may connect until the end of a `DAY` such as 2027-03-31, or until a moment; empty: without end"},
		&cli.StringFlag{Name: "hours", Usage: "when they may be connected, by the `NAME` of hours in the plan; empty: as their passage says"},
		&cli.IntFlag{Name: "sessions", Usage: "how many sessions they may have at once; 0: as their passage says"},
		&cli.StringSliceFlag{Name: "tunnel", Usage: "by which tunnels they may come; several by repeating it; empty: by those of their passage"},
	}
}

// described takes what flags say of a person.
func described(c *cli.Command, u *people.User) error {
	if c.IsSet("full-name") {
		u.FullName = c.String("full-name")
	}
	if c.IsSet("group") {
		u.Groups = given(c.StringSlice("group"))
	}
	if c.IsSet("mail") {
		u.Mail = c.String("mail")
	}
	if c.IsSet("until") {
		until, err := people.ReadUntil(c.String("until"))
		if err != nil {
			return Failing(ExitUsage, "--until: %v", err)
		}
		u.Until = until
	}
	if c.IsSet("hours") {
		u.Hours = c.String("hours")
	}
	if c.IsSet("sessions") {
		u.Sessions = c.Int("sessions")
	}
	if c.IsSet("tunnel") {
		u.Tunnels = given(c.StringSlice("tunnel"))
	}
	return nil
}

// given leaves out the empty word, by which a list is said to be empty.
func given(words []string) []string {
	out := []string{}
	for _, w := range words {
		if w != "" {
			out = append(out, w)
		}
	}
	return out
}

func users(p *printer) *cli.Command {
	made := &cli.BoolFlag{Name: "make-password", Usage: "make one, which is shown once and counts only until they choose another"}
	return &cli.Command{Name: "users", Usage: "list, add, change and remove users", Commands: []*cli.Command{
		{Name: "list", Usage: "list users", Flags: []cli.Flag{filterFlag()}, Action: call(p.userList)},
		{Name: "add", Usage: "add a user", ArgsUsage: "USER", Flags: append(aboutUser(), passwordFile(), made), Action: call(p.userAdd)},
		{Name: "change", Usage: "change what a user is described with", ArgsUsage: "USER", Flags: append(
			aboutUser(), &cli.BoolFlag{Name: "off", Usage: "may not log in"}, &cli.BoolFlag{Name: "on", Usage: "may log in again"},
		), Action: call(p.userChange)},
		{Name: "password", Usage: "give a user a new password", ArgsUsage: "USER", Flags: []cli.Flag{
			passwordFile(), made, &cli.BoolFlag{Name: "must-change", Usage: "it counts only until they choose another"},
			&cli.BoolFlag{Name: "keep-sessions", Usage: "live sessions go on; without it they end, and devices log in again"},
		}, Action: call(p.userPassword)},
		{
			Name: "password-link", Usage: "make a link by which a user chooses a password, once", ArgsUsage: "USER",
			Flags:  []cli.Flag{&cli.IntFlag{Name: "for-hours", Value: 48, Usage: "for how long it counts"}},
			Action: call(p.personLink("password-links", "chooses a password")),
		},
		userExport(p), userImport(p),
		userKeys(p), userSharedKeys(p), userFactors(p), userLost(p), userKit(p), groupKits(p), kitLinks(p),
		{Name: "remove", Usage: "remove a user", ArgsUsage: "USER", Flags: []cli.Flag{
			&cli.BoolFlag{Name: "even-so", Usage: "also where the running plan names them, by an expectation say"},
		}, Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			name, err := argument(c, "user")
			if err != nil {
				return err
			}
			if err := cl.Do(ctx, "DELETE", removing(c, "/users/"+name), nil, nil); err != nil {
				return err
			}
			return p.done("user %s is gone", name)
		})},
	}}
}

func (p *printer) userAdd(ctx context.Context, c *cli.Command, cl *client.Client) error {
	name, err := argument(c, "user")
	if err != nil {
		return err
	}
	if err := knownGroups(ctx, c, cl); err != nil {
		return err
	}
	in := struct {
		people.User
		Password string `json:"password"`
	}{User: people.User{Name: name, Groups: []string{}}}
	if err := described(c, &in.User); err != nil {
		return err
	}
	if !c.Bool("make-password") {
		if in.Password, err = readPassword(c, "Password for "+name); err != nil {
			return err
		}
	}
	var added members.Added
	if err := cl.Do(ctx, "POST", "/users", in, &added); err != nil {
		return err
	}
	return p.passwordMade(added, added.Password, "user %s is added", name)
}

// passwordMade says what was done, and the password that was made, if one was.
func (p *printer) passwordMade(value any, password, format string, args ...any) error {
	if printed, err := p.value(value); printed {
		return err
	}
	if err := p.done(format, args...); err != nil || password == "" {
		return err
	}
	p.say("their password, shown this once, until they choose another:")
	p.indented(2, "%s", password)
	return nil
}

func (p *printer) userPassword(ctx context.Context, c *cli.Command, cl *client.Client) error {
	name, err := argument(c, "user")
	if err != nil {
		return err
	}
	in := map[string]any{"must-change": c.Bool("must-change"), "keep-sessions": c.Bool("keep-sessions")}
	if !c.Bool("make-password") {
		password, err := readPassword(c, "New password for "+name)
		if err != nil {
			return err
		}
		in["password"] = password
	}
	var made httpapi.MadePassword
	if err := cl.Do(ctx, "PUT", "/users/"+name+"/password", in, &made); err != nil {
		return err
	}
	then := "; sessions from before it end"
	if c.Bool("keep-sessions") {
		then = ""
	}
	return p.passwordMade(made, made.Password, "user %s has a new password%s", name, then)
}

// personLink makes a link by which a person does something once.
func (p *printer) personLink(of, does string) func(context.Context, *cli.Command, *client.Client) error {
	return func(ctx context.Context, c *cli.Command, cl *client.Client) error {
		name, err := argument(c, "user")
		if err != nil {
			return err
		}
		var link members.Choice
		if err := cl.Do(ctx, "POST", "/users/"+name+"/"+of, map[string]int{"hours": c.Int("for-hours")}, &link); err != nil {
			return err
		}
		if printed, err := p.value(link); printed {
			return err
		}
		p.linked(link, does)
		return nil
	}
}

// linked shows a link to whoever hands it over.
func (p *printer) linked(link members.Choice, does string) {
	p.say("%s %s here, once, until %s:", link.User, does, local(link.Expires))
	p.indented(2, "%s", link.URL)
	if strings.HasPrefix(link.URL, "/") {
		p.say("the service knows no address that people reach: put it before the path, or say kits-at in the plan")
	}
}

// everyUser reads all pages of those who match.
func everyUser(ctx context.Context, cl *client.Client, filter string) (out []people.User, err error) {
	out = []people.User{}
	for after := ""; ; {
		q := url.Values{"filter": {filter}, "after": {after}, "limit": {"10000"}}
		page, err := client.Get[people.Page](ctx, cl, "/users?"+q.Encode())
		if err != nil {
			return nil, err
		}
		out = append(out, page.Users...)
		if after = page.Next; after == "" {
			return out, nil
		}
	}
}

func (p *printer) userList(ctx context.Context, c *cli.Command, cl *client.Client) error {
	us, err := everyUser(ctx, cl, c.String("filter"))
	if err != nil {
		return err
	}
	if printed, err := p.value(us); printed {
		return err
	}
	var rows [][]string
	for _, u := range us {
		rows = append(rows, []string{u.Name, u.FullName, strings.Join(u.Groups, ", "), stateOf(u, time.Now())})
	}
	p.table([]string{"user", "name", "groups", "state"}, rows)
	return nil
}

// stateOf says in a few words whether and when somebody may come in.
func stateOf(u people.User, now time.Time) string {
	var out []string
	switch {
	case u.Off:
		out = append(out, "off")
	case !u.Until.IsZero() && !now.Before(u.Until):
		out = append(out, "over since "+local(u.Until))
	default:
		out = append(out, "active")
		if !u.Until.IsZero() {
			out = append(out, "until "+people.Until(u.Until))
		}
	}
	if u.MustChange {
		out = append(out, "must choose a password")
	}
	if u.Hours != "" {
		out = append(out, "hours "+u.Hours)
	}
	if len(u.Tunnels) > 0 {
		out = append(out, "by "+strings.Join(u.Tunnels, ", "))
	}
	if u.Sessions > 0 {
		out = append(out, fmt.Sprintf("%d at once", u.Sessions))
	}
	return strings.Join(out, ", ")
}

func (p *printer) userChange(ctx context.Context, c *cli.Command, cl *client.Client) error {
	name, err := argument(c, "user")
	if err != nil {
		return err
	}
	u, err := client.Get[people.User](ctx, cl, "/users/"+name)
	if err != nil {
		return err
	}
	if err := knownGroups(ctx, c, cl); err != nil {
		return err
	}
	if err := described(c, &u); err != nil {
		return err
	}
	u.Off = (u.Off || c.Bool("off")) && !c.Bool("on")
	if err := cl.Do(ctx, "PUT", "/users/"+name, u, nil); err != nil {
		return err
	}
	return p.done("user %s is changed", name)
}

func userExport(p *printer) *cli.Command {
	return &cli.Command{
		Name: "export", Usage: "write everybody as a table (CSV); no password is in it",
		Flags: []cli.Flag{&cli.StringFlag{Name: "out", Usage: "the `FILE` to write; the output if not given"}},
		Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			t, err := client.Get[httpapi.UsersTable](ctx, cl, "/users-table")
			if err != nil {
				return err
			}
			if c.String("out") != "" {
				if err := os.WriteFile(c.String("out"), []byte(t.Table), 0o600); err != nil {
					return err
				}
				return p.done("%s holds everybody", c.String("out"))
			}
			if printed, err := p.value(t); printed {
				return err
			}
			_, err = io.WriteString(p.out, t.Table)
			return err
		}),
	}
}

func userImport(p *printer) *cli.Command {
	return &cli.Command{
		Name: "import", Usage: "say line by line what would become of a table of people (CSV), or take it", ArgsUsage: "FILE",
		Description: "The first line names the columns: " + strings.Join(people.Columns, ", ") + "; user must be among them. " +
			"Groups and tunnels are separated by semicolons. Columns that are left out, and people who are not named, stay as they are. It is taken whole or not at all.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "take", Usage: "take it, if every line will do"},
			&cli.BoolFlag{Name: "new-words", Usage: "also groups, hours and tunnels that the running plan does not have"},
			&cli.StringFlag{Name: "passwords", Usage: "the `FILE` that is written with the passwords of those who are new"}, filterFlag(),
		},
		Action: call(p.userImport),
	}
}

func (p *printer) userImport(ctx context.Context, c *cli.Command, cl *client.Client) error {
	file, err := argument(c, "file")
	if err != nil {
		return err
	}
	b, err := os.ReadFile(file)
	if err != nil {
		return Failing(ExitUsage, "%v", err)
	}
	in := map[string]any{"table": string(b), "new-words": c.Bool("new-words")}
	var t people.Table
	if err := cl.Do(ctx, "POST", "/users-table", in, &t); err != nil {
		return err
	}
	out := c.String("passwords")
	if c.Bool("take") && t.Refused == 0 {
		if t.Added > 0 && out == "" {
			return Failing(ExitUsage, "%d people are new: say --passwords FILE, where their passwords go; nothing was changed", t.Added)
		}
		var sink *os.File
		if out != "" { // before anything is taken: the passwords are told once
			if sink, err = os.OpenFile(out, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600); err != nil {
				return Failing(ExitUsage, "--passwords: %v; nothing was changed", err)
			}
			defer sink.Close()
		}
		in["take"] = true
		if err := cl.Do(ctx, "POST", "/users-table", in, &t); err != nil {
			return err
		}
		if err := writePasswords(sink, &t); err != nil {
			return err
		}
	}
	if printed, err := p.value(t); !printed {
		var rows [][]string
		for _, l := range t.Lines {
			row := []string{fmt.Sprint(l.Line), l.User, l.Does, l.Words}
			if matches(c.String("filter"), row...) {
				rows = append(rows, row)
			}
		}
		p.table([]string{"line", "user", "does", "what"}, rows)
		p.say("%d to add, %d to change, %d the same, %d refused: %s", t.Added, t.Changed, t.Same, t.Refused, outcome(t, c.Bool("take")))
	} else if err != nil {
		return err
	}
	if t.Refused > 0 {
		return Failing(ExitRefused, "%d of %d lines will not do, so nothing was changed", t.Refused, len(t.Lines))
	}
	return nil
}

func outcome(t people.Table, take bool) string {
	switch {
	case t.Taken:
		return "taken"
	case take || t.Refused > 0:
		return "nothing was changed"
	}
	return "nothing was changed; say --take to take it"
}

// writePasswords writes those that were made, and leaves them out of what is printed.
func writePasswords(to *os.File, t *people.Table) error {
	if to == nil {
		return nil
	}
	if _, err := fmt.Fprintln(to, "user,password"); err != nil {
		return err
	}
	for i := range t.Lines {
		l := &t.Lines[i]
		if l.Password == "" {
			continue
		}
		if _, err := fmt.Fprintf(to, "%s,%s\n", l.User, l.Password); err != nil {
			return err
		}
		l.Password = ""
	}
	return to.Sync()
}
