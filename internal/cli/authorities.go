package cli

import (
	"context"
	"encoding/json"
	"encoding/pem"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yellowlantern/internal/app/authorities"
	"yellowlantern/internal/client"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/revocation"
)

func authorityCommands(p *printer) *cli.Command {
	return &cli.Command{
		Name: "authorities", Usage: "who, beside the service itself, issues certificates to people, and by what it is known which are revoked",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list them, with lists and servers, how fresh these are, and what is wrong",
				Flags: []cli.Flag{filterFlag(), draftOf()}, Action: call(p.authorityList),
			},
			{
				Name: "add", Usage: "put an authority into a draft, by the file of its certificate", ArgsUsage: "NAME FILE", Flags: []cli.Flag{
					draftFlag(),
					&cli.StringSliceFlag{Name: "tunnel", Usage: "a tunnel that takes its certificates; several by repeating it"},
					&cli.StringFlag{Name: "name-from", Usage: "where a person's name stands: mail, principal-name, common-name or user-id"},
					&cli.StringFlag{Name: "domain", Usage: "what names end with after an @, which is left out"},
					&cli.StringSliceFlag{Name: "list", Usage: "where a revocation list is fetched"},
				}, Action: call(p.authorityAdd),
			},
			{
				Name: "try", Usage: "say what would become of somebody who shows a certificate, without anybody logging in", ArgsUsage: "NAME FILE",
				Flags: []cli.Flag{draftOf()}, Action: call(p.authorityTry),
			},
			{
				Name: "fetch", Usage: "fetch an authority's revocation lists at once", ArgsUsage: "NAME",
				Action: named("authority", func(ctx context.Context, _ *cli.Command, cl *client.Client, name string) error {
					return p.authorityState(ctx, cl, "POST", "/authorities/"+name+"/fetch", nil)
				}),
			},
			{
				Name: "give-list", Usage: "give an authority's revocation list by hand, where the service cannot reach its server", ArgsUsage: "NAME FILE",
				Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
					name, b, err := nameAndFile(c)
					if err != nil {
						return err
					}
					if block, _ := pem.Decode(b); block == nil { // DER, as it is published
						b = pem.EncodeToMemory(&pem.Block{Type: "X509 CRL", Bytes: b})
					}
					return p.authorityState(ctx, cl, "PUT", "/authorities/"+name+"/list", map[string]string{"pem": string(b)})
				}),
			},
		},
	}
}

// draftOf looks at a draft in place of what runs.
func draftOf() cli.Flag {
	return &cli.StringFlag{Name: "draft", Usage: "look at this draft in place of what runs"}
}

func nameAndFile(c *cli.Command) (name string, b []byte, err error) {
	if c.Args().Len() != 2 {
		return "", nil, Failing(ExitUsage, "yl authorities %s NAME FILE: such as mainland-institute people.pem", c.Name)
	}
	b, err = os.ReadFile(c.Args().Get(1))
	if err != nil {
		return "", nil, Failing(ExitUsage, "%w", err)
	}
	return c.Args().First(), b, nil
}

func (p *printer) authorityList(ctx context.Context, c *cli.Command, cl *client.Client) error {
	all, err := client.Get[[]authorities.OtherAuthority](ctx, cl, "/authorities"+asked(c))
	if err != nil {
		return err
	}
	kept := []authorities.OtherAuthority{}
	for _, a := range all {
		if matches(c.String("filter"), append(append([]string{a.Name, a.Problem}, a.Holds...), a.Tunnels...)...) {
			kept = append(kept, a)
		}
	}
	if printed, err := p.value(kept); printed {
		return err
	}
	if len(all) == 0 {
		p.say("the plan has no authorities beside the service's own: yl authorities add NAME FILE")
	}
	for _, a := range kept {
		p.authority(a)
	}
	for _, a := range kept {
		if a.Problem != "" {
			return Failing(ExitNot, "authority %s: %s", a.Name, a.Problem)
		}
	}
	return nil
}

func asked(c *cli.Command) string {
	if d := c.String("draft"); d != "" {
		return "?draft=" + d
	}
	return ""
}

func (p *printer) authority(a authorities.OtherAuthority) {
	mark := "✓"
	if a.Problem != "" {
		mark = "✗"
	}
	taken := "no tunnel takes its certificates"
	if len(a.Tunnels) > 0 {
		taken = "taken by " + strings.Join(a.Tunnels, ", ")
	}
	p.say("%s %s: %s, until %s, %s; %d devices came by it", mark, a.Name, strings.Join(a.Holds, " and "), a.Until.Local().Format(time.DateOnly), taken, a.Keys)
	if a.Problem != "" {
		p.indented(2, "%s", a.Problem)
		p.indented(2, "→ %s", a.Mend)
	}
	p.indented(2, "revoked or not: %s; where that cannot be found out: %s", a.How, a.Unknown)
	var rows [][]string
	for _, s := range a.Sources {
		row := []string{s.From, s.State, "", "", "", s.Failed}
		if !s.This.IsZero() {
			row[2], row[3], row[4] = s.This.Local().Format(time.DateTime), s.Next.Local().Format(time.DateTime), strconv.Itoa(s.Entries)
		}
		if s.Kind == "server" && s.State == revocation.Fresh {
			row[5] = "answered " + s.Fetched.Local().Format(time.DateTime)
		}
		rows = append(rows, row)
	}
	if len(rows) > 0 {
		p.table([]string{"from", "state", "made", "until", "revokes", "last"}, rows)
	}
}

func (p *printer) authorityState(ctx context.Context, cl *client.Client, method, path string, in any) error {
	var a authorities.OtherAuthority
	if err := cl.Do(ctx, method, path, in, &a); err != nil {
		return err
	}
	if printed, err := p.value(a); printed {
		return err
	}
	p.authority(a)
	if a.Problem != "" {
		return Failing(ExitNot, "%s", a.Problem)
	}
	return nil
}

func (p *printer) authorityAdd(ctx context.Context, c *cli.Command, cl *client.Client) error {
	name, b, err := nameAndFile(c)
	if err != nil {
		return err
	}
	if block, _ := pem.Decode(b); block == nil {
		b = pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: b})
	}
	object, err := json.Marshal(plan.Authority{
		Name: name, Certificate: string(b), PersonFrom: c.String("name-from"), Domain: c.String("domain"), Lists: c.StringSlice("list"),
	})
	if err != nil {
		return err
	}
	edits := []plan.Edit{{Op: "put", Path: "authorities/" + name, Value: string(object)}}
	for _, t := range c.StringSlice("tunnel") {
		edits = append(edits, plan.Edit{Op: "add", Path: "tunnels/" + t + "/authorities", Value: name})
	}
	d, err := begun(ctx, cl, c.String("draft"))
	if err != nil {
		return err
	}
	return p.change(ctx, cl, d, edits)
}

func (p *printer) authorityTry(ctx context.Context, c *cli.Command, cl *client.Client) error {
	name, b, err := nameAndFile(c)
	if err != nil {
		return err
	}
	if block, _ := pem.Decode(b); block == nil {
		b = pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: b})
	}
	var tried authorities.CertificateTrial
	if err := cl.Do(ctx, "POST", "/authorities/"+name+"/trial"+asked(c), map[string]string{"pem": string(b)}, &tried); err != nil {
		return err
	}
	if printed, err := p.value(tried); printed {
		return err
	}
	for _, s := range tried.Steps {
		mark := "✓"
		if !s.OK {
			mark = "✗"
		}
		p.say("%s %s: %s", mark, s.What, s.Words)
		if s.Fix != "" {
			p.indented(2, "%s", s.Fix)
		}
	}
	if !tried.OK {
		return Failing(ExitNot, "nobody would come in by this certificate")
	}
	p.say("%s would come in", tried.User)
	return nil
}
