package cli

import (
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"yellowlantern/internal/client"
	"yellowlantern/internal/people"
	"yellowlantern/internal/private"
)

func userSharedKeys(p *printer) *cli.Command {
	return &cli.Command{Name: "shared-keys", Usage: "keys that people and the gateway both know", Commands: []*cli.Command{
		{Name: "list", Usage: "list them without their values, of one person or of everybody", ArgsUsage: "[USER]", Flags: []cli.Flag{filterFlag()}, Action: call(p.sharedKeyList)},
		{Name: "make", Usage: "make a person one, and write what their device needs of it, once", ArgsUsage: "USER", Flags: []cli.Flag{
			&cli.BoolFlag{Name: "mixed-in", Usage: "one that goes into keys for traffic (RFC 8784), rather than one to log in by"},
			&cli.StringFlag{Name: "device", Usage: "what the key is on, in your words"},
			&cli.StringFlag{Name: "value-file", Usage: "file with a key to log in by that a device has already; - for standard input"},
			&cli.StringFlag{Name: "to", Usage: "new file for it, which its owner alone can read; standard output if not given"},
		}, Action: call(p.sharedKeyMake)},
		{Name: "revoke", Usage: "take one back: what came in by it, or with it, ends at once", ArgsUsage: "ID", Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			id, err := argument(c, "id")
			if err != nil {
				return err
			}
			if err := cl.Do(ctx, "DELETE", "/shared-keys/"+id, nil, nil); err != nil {
				return err
			}
			return p.done("shared key %s counts no more", id)
		})},
	}}
}

func (p *printer) sharedKeyList(ctx context.Context, c *cli.Command, cl *client.Client) error {
	ks, err := client.Get[[]people.SharedKey](ctx, cl, client.Query("/shared-keys", "user", c.Args().First()))
	if err != nil {
		return err
	}
	shown := []people.SharedKey{}
	var rows [][]string
	for _, k := range ks {
		use := map[string]string{people.UseLogin: "to log in by", people.UseMixedIn: "mixed in"}[k.Use]
		row := []string{k.User, k.Device, use, k.Made.Local().Format("2006-01-02"), k.ID}
		if matches(c.String("filter"), row...) {
			rows, shown = append(rows, row), append(shown, k)
		}
	}
	if printed, err := p.value(shown); printed {
		return err
	}
	p.table([]string{"user", "device", "use", "made", "id"}, rows)
	return nil
}

func (p *printer) sharedKeyMake(ctx context.Context, c *cli.Command, cl *client.Client) error {
	user, err := argument(c, "user")
	if err != nil {
		return err
	}
	use, value := people.UseLogin, ""
	if c.Bool("mixed-in") {
		use = people.UseMixedIn
	}
	if path := c.String("value-file"); path != "" {
		b, err := readFile(path)
		if err != nil {
			return Failing(ExitUsage, "value-file: %w", err)
		}
		value = strings.TrimRight(string(b), "\r\n")
	}
	to := c.String("to")
	if _, err := os.Stat(to); to != "" && err == nil {
		return Failing(ExitUsage, "%s is there already: a key is not written over", to)
	}
	var k people.SharedKey
	given := map[string]string{"use": use, "device": c.String("device"), "value": value}
	if err := cl.Do(ctx, "POST", "/users/"+user+"/shared-keys", given, &k); err != nil {
		return err
	}
	if to != "" {
		if err := private.Write(to, []byte(k.ForDial+"\n")); err != nil {
			return Failing(ExitUsage, "%w: the key is made, and cannot be shown again: take it back (yl users shared-keys revoke %s)",
				err, k.ID)
		}
	}
	if printed, err := p.value(k); printed {
		return err
	}
	flag := "--shared-key-file"
	if k.Use == people.UseMixedIn {
		flag = "--mixed-in-key-file"
	}
	file := to
	if to == "" {
		file = "FILE, which holds this line"
	}
	fmt.Fprintf(os.Stderr, "%s has one more shared key, %s; it is not shown again.\nyl dial up is told %s %s\n", user, k.ID, flag, file)
	if to != "" {
		return nil
	}
	p.say("%s", k.ForDial)
	return nil
}
