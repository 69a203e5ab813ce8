package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/urfave/cli/v3"

	"yellowlantern/internal/app/trials"
	"yellowlantern/internal/client"
	"yellowlantern/internal/enrolled"
	"yellowlantern/internal/private"
)

// identityPath is where a machine keeps that it is a probe.
const identityPath = "/var/lib/yellow-lantern-probe/probe.json"

func identityFlag() cli.Flag {
	return &cli.StringFlag{Name: "identity", Usage: "file with this machine's key as a probe", Value: identityPath}
}

// enrolledCommands are about probes on machines elsewhere that try when the service asks them to.
func (p *printer) enrolledCommands() []*cli.Command {
	return []*cli.Command{
		{Name: "invite", Usage: "write an invitation by which one machine elsewhere becomes a probe, and a vantage of that name", ArgsUsage: "NAME", Flags: []cli.Flag{
			&cli.StringFlag{Name: "out", Usage: "file to write; NAME.invitation if not given"},
		}, Action: named("name of the probe", p.inviteProbe)},
		{Name: "enroll", Usage: "on that machine: make a key, and become the probe that an invitation is for", ArgsUsage: "INVITATION", Flags: []cli.Flag{identityFlag()}, Action: p.enroll},
		{Name: "serve", Usage: "on that machine: try whenever the service asks for it (the unit yl-probe does)", Flags: []cli.Flag{identityFlag()}, Action: p.serveProbe},
		{Name: "enrolled", Usage: "list enrolled probes, and those that are invited", Flags: []cli.Flag{filterFlag()}, Action: call(p.enrolledProbes)},
		{Name: "revoke", Usage: "forget an enrolled probe, or an invitation: nothing that it says counts any longer", ArgsUsage: "NAME", Action: named("name of the probe", p.revokeProbe)},
	}
}

func (p *printer) inviteProbe(ctx context.Context, c *cli.Command, cl *client.Client, name string) error {
	path := cmp.Or(c.String("out"), name+".invitation")
	if _, err := os.Lstat(path); err == nil {
		return Failing(ExitUsage, "%s exists: say another file with --out", path)
	}
	var i enrolled.Invitation
	if err := cl.Do(ctx, "POST", "/probes/enrolled/"+url.PathEscape(name), nil, &i); err != nil {
		return err
	}
	b, err := json.MarshalIndent(i, "", "  ")
	if err == nil {
		err = private.Write(path, append(b, '\n'))
	}
	if err != nil {
		return Failing(ExitUsage, "invitation: %w", err)
	}
	return p.done("%s enrolls one machine as probe %s, until %s. Anyone with the file can enroll: copy it over SSH.\n"+
		"There, with this package installed: yl probe enroll %s, then systemctl enable --now yl-probe", path, name, local(i.Until), filepath.Base(path))
}

func (p *printer) enroll(ctx context.Context, c *cli.Command) error {
	path, err := argument(c, "invitation")
	if err != nil {
		return err
	}
	b, err := os.ReadFile(path)
	if err != nil {
		return Failing(ExitUsage, "invitation: %w", err)
	}
	var i enrolled.Invitation
	if err := json.Unmarshal(b, &i); err != nil {
		return Failing(ExitUsage, "%s is no invitation (yl probe invite makes one): %w", path, err)
	}
	at := c.String("identity")
	if err := os.MkdirAll(filepath.Dir(at), 0o700); err != nil {
		return Failing(ExitUsage, "identity: %w", err)
	}
	if _, err := enrolled.Enrol(ctx, i, at, time.Now()); err != nil {
		return Failing(ExitNot, "not enrolled: %w", err)
	}
	return p.done("this machine is probe %s of %s now; its key is in %s\n"+
		"Start it: systemctl enable --now yl-probe. Then, where the service is: yl probe --everyone --vantage %s", i.Name, i.Service, at, i.Name)
}

func (p *printer) serveProbe(ctx context.Context, c *cli.Command) error {
	id, err := enrolled.ReadIdentity(c.String("identity"))
	if err != nil {
		return Failing(ExitUsage, "%w", err)
	}
	log := slog.New(slog.NewTextHandler(os.Stderr, nil))
	log.Info("waiting for what to try", "probe", id.Name, "service", id.Service)
	if err := (&enrolled.Probe{Identity: id, Log: log}).Run(ctx); err != nil && !errors.Is(err, context.Canceled) {
		return Failing(ExitNot, "%w", err)
	}
	return nil
}

func (p *printer) enrolledProbes(ctx context.Context, c *cli.Command, cl *client.Client) error {
	all, err := client.Get[[]trials.EnrolledProbe](ctx, cl, "/probes/enrolled")
	if err != nil {
		return err
	}
	all = slices.DeleteFunc(all, func(x trials.EnrolledProbe) bool { return !matches(c.String("filter"), x.Name, x.From, x.By) })
	if printed, err := p.value(all); printed {
		return err
	}
	if len(all) == 0 {
		p.say("no machine elsewhere is a probe: yl probe invite NAME")
		return nil
	}
	var rows [][]string
	for _, x := range all {
		status, details := "OK", "connected; enrolled "+local(x.Enrolled)+" from "+x.From
		switch {
		case x.Enrolled.IsZero():
			status, details = "invited", "has not enrolled; the invitation is valid until "+local(x.Until)
		case !x.Connected && x.Seen.IsZero():
			status, details = "failed", "has not called since the service started: systemctl status yl-probe on its machine"
		case !x.Connected:
			status, details = "failed", "disconnected since "+local(x.Seen)+": systemctl status yl-probe on its machine"
		}
		rows = append(rows, []string{x.Name, status, details, x.By})
	}
	p.table([]string{"probe", "status", "details", "invited by"}, rows)
	return nil
}

func (p *printer) revokeProbe(ctx context.Context, _ *cli.Command, cl *client.Client, name string) error {
	if err := cl.Do(ctx, "DELETE", "/probes/enrolled/"+url.PathEscape(name), nil, nil); err != nil {
		return err
	}
	return p.done("probe %s is revoked: nothing that it says counts any longer", name)
}
