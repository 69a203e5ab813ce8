package cli

import (
	"context"
	"time"

	"github.com/urfave/cli/v3"

	"yellowlantern/internal/app/members"
	"yellowlantern/internal/client"
)

func (p *printer) invite(ctx context.Context, c *cli.Command, cl *client.Client, user string) error {
	var i members.Invitation
	wanted := map[string]any{"device": c.String("device"), "hours": c.Int("hours")}
	if err := cl.Do(ctx, "POST", "/users/"+user+"/invitations", wanted, &i); err != nil {
		return err
	}
	if printed, err := p.value(i); printed {
		return err
	}
	where := i.URL
	if where == "" {
		where = "(devices reach the service at no address that it knows: say kits-at in the plan, and start it with --listen-kits)"
	}
	p.say("a device of %s may have one certificate until %s, for an RSA key that it makes itself:", user, i.Expires.Local().Format(time.DateTime))
	p.indented(2, "SCEP server  %s", where)
	p.indented(2, "challenge    %s", i.Challenge)
	p.say("the challenge is shown this once; yl users keys withdraw %s takes it back", i.ID)
	return nil
}

func (p *printer) invitations(ctx context.Context, c *cli.Command, cl *client.Client) error {
	all, err := client.Get[[]members.Invitation](ctx, cl, client.Query("/invitations", "user", c.Args().First()))
	if err != nil {
		return err
	}
	kept := []members.Invitation{}
	var rows [][]string
	for _, i := range all {
		state := "counts"
		switch {
		case i.UsedBy != "":
			state = "used for the key " + i.UsedBy[:23] + "…"
		case time.Now().After(i.Expires):
			state = "over"
		}
		row := []string{i.ID, i.User, i.Device, i.By, i.Expires.Local().Format(time.DateTime), state}
		if matches(c.String("filter"), row...) {
			rows, kept = append(rows, row), append(kept, i)
		}
	}
	if printed, err := p.value(kept); printed {
		return err
	}
	p.table([]string{"id", "user", "device", "by", "until", "state"}, rows)
	return nil
}
