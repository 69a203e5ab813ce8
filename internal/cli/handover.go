package cli

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"yellowlantern/internal/app/handover"
	"yellowlantern/internal/client"
	"yellowlantern/internal/private"
)

// userKit writes a person's kit into a folder.
func userKit(p *printer) *cli.Command {
	return &cli.Command{
		Name: "kit", Usage: "write what a person needs for a kind of device: files that its own settings import, and steps to follow", ArgsUsage: "USER",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "platform", Usage: "windows, apple, android or yl-dial", Required: true},
			&cli.StringFlag{Name: "out", Usage: "folder for the files", Value: "."},
			&cli.BoolFlag{Name: "key-on-device", Usage: "let the device make its key itself, and have a certificate by an invitation in the kit (SCEP); for Apple's systems"},
			&cli.BoolFlag{Name: "new-password", Usage: "give the person another password, and put it into the kit"},
		},
		Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			user, err := argument(c, "user")
			if err != nil {
				return err
			}
			var k handover.Made
			wanted := map[string]any{
				"platform": c.String("platform"), "new-password": c.Bool("new-password"), "key-on-device": c.Bool("key-on-device"),
			}
			if err := cl.Do(ctx, "POST", "/users/"+user+"/kits", wanted, &k); err != nil {
				return err
			}
			if printed, err := p.value(k); printed {
				return err
			}
			if err := os.MkdirAll(c.String("out"), 0o700); err != nil {
				return Failing(ExitUsage, "%w", err)
			}
			write := func(name string, b []byte) error {
				path := filepath.Join(c.String("out"), name)
				if err := os.WriteFile(path, b, 0o600); err != nil {
					return Failing(ExitUsage, "%w", err)
				}
				return nil
			}
			for _, f := range k.Files {
				if err := write(f.Name, f.Data); err != nil {
					return err
				}
				p.say("%s: %s", filepath.Join(c.String("out"), f.Name), f.About)
			}
			if err := write("steps.txt", []byte(k.StepsText())); err != nil {
				return err
			}
			p.say("%s: what %s does with it", filepath.Join(c.String("out"), "steps.txt"), user)
			for i, s := range k.Steps {
				p.say("%d. %s", i+1, s)
			}
			holds := "no password is in it"
			switch {
			case k.Shared:
				holds = "the key that they share with the gateway is in it: hand it over safely"
			case k.Key:
				holds = "a key for this device alone is in it, and nowhere else: hand it over safely"
			case k.Invites:
				holds = "the device makes its key itself: the invitation in it is good for one certificate, for two days"
			case k.Password != "":
				holds = "their new password is in it: hand it over safely"
			}
			p.say("it comes in by tunnel %s; %s", k.Tunnel, holds)
			return nil
		}),
	}
}

// groupKits writes the kits of a whole group.
func groupKits(p *printer) *cli.Command {
	return &cli.Command{
		Name: "kits", Usage: "write what everybody in a group needs for a kind of device, a folder for each person in one ZIP", ArgsUsage: "GROUP",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "platform", Usage: "windows, apple or android", Required: true},
			&cli.StringFlag{Name: "out", Usage: "new file, which its owner alone can read", Required: true},
			&cli.BoolFlag{Name: "keys-on-devices", Usage: "let devices make their keys themselves (SCEP); for Apple's systems"},
			&cli.BoolFlag{Name: "new-passwords", Usage: "give each person another password, and put it into their kit"},
		},
		Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			group, err := argument(c, "group")
			if err != nil {
				return err
			}
			if _, err := os.Stat(c.String("out")); err == nil {
				return Failing(ExitUsage, "%s is there already", c.String("out"))
			}
			var b handover.Batch
			wanted := map[string]any{
				"platform": c.String("platform"), "new-passwords": c.Bool("new-passwords"), "keys-on-devices": c.Bool("keys-on-devices"),
			}
			if err := cl.Do(ctx, "POST", "/groups/"+url.PathEscape(group)+"/kits", wanted, &b); err != nil {
				return err
			}
			if err := private.Write(c.String("out"), b.ZIP); err != nil {
				return Failing(ExitUsage, "%w", err)
			}
			b.ZIP = nil // it is in the file, with what is secret
			printed, err := p.value(b)
			if err != nil {
				return err
			}
			for _, l := range b.Left {
				if !printed {
					p.say("left out: %s: %s", l.User, l.Why)
				}
			}
			if !printed {
				p.say("%s: kits for %d people, %d left out", c.String("out"), b.Made, len(b.Left))
			}
			if len(b.Left) > 0 {
				return Failing(ExitNot, "not everybody of %s has a kit", group)
			}
			return nil
		}),
	}
}

// kitLinks makes, lists and withdraws links by which people fetch kits themselves.
func kitLinks(p *printer) *cli.Command {
	return &cli.Command{Name: "kit-links", Usage: "links by which people fetch their kit themselves, once", Commands: []*cli.Command{
		{
			Name: "make", Usage: "make a link; it is shown this once", ArgsUsage: "USER", Flags: []cli.Flag{
				&cli.StringFlag{Name: "platform", Usage: "windows, apple or android", Required: true},
				&cli.IntFlag{Name: "hours", Usage: "for how long it counts, up to 720", Value: 48},
			}, Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
				user, err := argument(c, "user")
				if err != nil {
					return err
				}
				var l handover.NewLink
				wanted := map[string]any{"platform": c.String("platform"), "hours": c.Int("hours")}
				if err := cl.Do(ctx, "POST", "/users/"+user+"/kit-links", wanted, &l); err != nil {
					return err
				}
				if printed, err := p.value(l); printed {
					return err
				}
				where := l.URL
				if where == "" {
					where = strings.TrimSuffix(cl.URL, "/") + l.Path
				}
				p.say("%s", where)
				p.say("it counts until %s, and is used up by the button on its page; yl users kit-links withdraw %s makes it worthless before",
					l.Expires.Local().Format("2006-01-02 15:04"), l.ID)
				return nil
			}),
		},
		{Name: "list", Usage: "list them, of one person or of everybody", ArgsUsage: "[USER]", Flags: []cli.Flag{filterFlag()}, Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			all, err := client.Get[[]handover.Link](ctx, cl, client.Query("/kit-links", "user", c.Args().First()))
			if err != nil {
				return err
			}
			shown := []handover.Link{}
			var rows [][]string
			for _, l := range all {
				row := []string{l.ID, l.User, l.Platform, l.By, l.Expires.Local().Format("2006-01-02 15:04"), l.State}
				if matches(c.String("filter"), row...) {
					rows, shown = append(rows, row), append(shown, l)
				}
			}
			if printed, err := p.value(shown); printed {
				return err
			}
			p.table([]string{"link", "user", "platform", "by", "until", "state"}, rows)
			return nil
		})},
		{Name: "withdraw", Usage: "make a link worthless", ArgsUsage: "LINK", Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			id, err := argument(c, "link")
			if err != nil {
				return err
			}
			if err := cl.Do(ctx, "DELETE", "/kit-links/"+id, nil, nil); err != nil {
				return err
			}
			return p.done("link %s is worthless", id)
		})},
	}}
}

func handoverCommand(p *printer) *cli.Command {
	return &cli.Command{
		Name: "handover", Usage: "who has which kit, who came in, and what is to be done next", Flags: []cli.Flag{filterFlag()},
		Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			rows, err := client.Get[[]handover.Row](ctx, cl, client.Query("/handover", "filter", c.String("filter")))
			if err != nil {
				return err
			}
			if printed, err := p.value(rows); printed {
				return err
			}
			var out [][]string
			for _, r := range rows {
				var kits []string
				for _, k := range r.Kits {
					word := k.Platform + " of revision " + fmt.Sprint(k.Revision)
					if k.Stale != "" {
						word += " (stale)"
					}
					kits = append(kits, word)
				}
				first, last := "never", ""
				if r.Device != "" {
					kits = append(kits, "connected now: "+r.Device)
				}
				if !r.First.IsZero() {
					first, last = r.First.Local().Format("2006-01-02"), r.Last.Local().Format("2006-01-02 15:04")
				}
				next := r.Next
				if r.Refused != "" {
					next += " (" + r.Refused + ")"
				}
				if next == "" {
					next = "–"
				}
				out = append(out, []string{r.User, strings.Join(kits, ", "), first, last, next, r.Mend})
			}
			p.table([]string{"user", "kits", "first login", "last", "next", "command"}, out)
			return nil
		}),
	}
}
