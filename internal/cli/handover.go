package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"yellowlantern/internal/app/handover"
	"yellowlantern/internal/client"
)

// userKit writes a person's kit into a folder.
func userKit(p *printer) *cli.Command {
	return &cli.Command{
		Name: "kit", Usage: "write what a person needs for a kind of device: files that its own settings import, and steps to follow", ArgsUsage: "USER",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "platform", Usage: "windows, apple or android (for yl dial: yl probe kit)", Required: true},
			&cli.StringFlag{Name: "out", Usage: "folder for the files", Value: "."},
		},
		Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			user, err := argument(c, "user")
			if err != nil {
				return err
			}
			var k handover.Made
			if err := cl.Do(ctx, "POST", "/users/"+user+"/kits", map[string]string{"platform": c.String("platform")}, &k); err != nil {
				return err
			}
			if printed, err := p.value(k); printed {
				return err
			}
			if err := os.MkdirAll(c.String("out"), 0o700); err != nil {
				return Failing(ExitUsage, "%w", err)
			}
			steps := strings.Builder{}
			for i, s := range k.Steps {
				fmt.Fprintf(&steps, "%d. %s\n", i+1, s)
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
			if err := write("steps.txt", []byte(steps.String())); err != nil {
				return err
			}
			p.say("%s: what %s does with it", filepath.Join(c.String("out"), "steps.txt"), user)
			for i, s := range k.Steps {
				p.say("%d. %s", i+1, s)
			}
			p.say("it comes in by tunnel %s; no password is in it", k.Tunnel)
			return nil
		}),
	}
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
