package cli

import (
	"context"
	"io"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"yellowlantern/internal/app/trust"
	"yellowlantern/internal/client"
)

func certificates(p *printer) *cli.Command {
	forFlag := &cli.StringSliceFlag{Name: "for", Usage: "a name or address that people dial; several by repeating it", Required: true}
	keyFlag := &cli.StringFlag{
		Name: "key-kind", Value: "ecdsa", Usage: "ecdsa, or rsa for older systems: a tunnel can have one of each (second-certificate)",
	}
	outFlag := &cli.StringFlag{Name: "out", Usage: "write it into this file; not given: print it"}
	return &cli.Command{
		Name: "certificate", Usage: "list, make, import, request and revoke certificates of gateways",
		Commands: []*cli.Command{
			{Name: "list", Usage: "list certificates and signing requests", Flags: []cli.Flag{filterFlag()}, Action: call(p.certificateList)},
			{
				Name: "make", Usage: "make a certificate by the service's own authority, in place of an older one", ArgsUsage: "NAME", Flags: []cli.Flag{forFlag, keyFlag, replaceFlag()},
				Action: named("certificate", func(ctx context.Context, c *cli.Command, cl *client.Client, name string) error {
					var made trust.Certificate
					wanted := map[string]any{"for": c.StringSlice("for"), "key": c.String("key-kind")}
					if err := cl.Do(ctx, "POST", inPlace(c, "/certificates/"+name), wanted, &made); err != nil {
						return err
					}
					return p.done("certificate %s holds %s until %s; %s", name, strings.Join(made.Holds, ", "),
						made.Expires.Format(time.DateOnly), shown(made))
				}),
			},
			{
				Name: "import", Usage: "keep a certificate of another authority", ArgsUsage: "NAME", Flags: []cli.Flag{
					&cli.StringFlag{Name: "chain", Usage: "file with the certificate and those above it, PEM; the key may be in it", Required: true, TakesFile: true},
					&cli.StringFlag{Name: "key", Usage: "file with the private key, PEM; not needed after yl certificate request", TakesFile: true},
					replaceFlag(),
				},
				Action: named("certificate", p.certificateImport),
			},
			{
				Name: "request", Usage: "make a key, which stays here, and a signing request (PKCS #10) for another authority", ArgsUsage: "NAME", Flags: []cli.Flag{forFlag, keyFlag, outFlag},
				Action: named("certificate", func(ctx context.Context, c *cli.Command, cl *client.Client, name string) error {
					wanted := map[string]any{"for": c.StringSlice("for"), "key": c.String("key-kind")}
					return p.pem(ctx, c, cl, "POST", "/certificates/"+name+"/request", wanted)
				}),
			},
			{
				Name: "issued", Usage: "every certificate that the own authority signed, kept still or not", Flags: []cli.Flag{filterFlag()},
				Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
					all, err := client.Get[[]trust.Issued](ctx, cl, "/authority/issued")
					if err != nil {
						return err
					}
					kept := []trust.Issued{}
					var rows [][]string
					for _, x := range all {
						state := map[bool]string{true: "shown", false: "replaced"}[x.Shown]
						if x.Revoked != "" {
							state = "revoked: " + x.Revoked
						}
						row := []string{x.Serial, x.Name, x.Holds, x.At.Format(time.DateOnly), x.Expires.Format(time.DateOnly), state}
						if matches(c.String("filter"), row...) {
							rows, kept = append(rows, row), append(kept, x)
						}
					}
					if printed, err := p.value(kept); printed {
						return err
					}
					p.table([]string{"serial", "certificate", "holds", "from", "expires", "state"}, rows)
					return nil
				}),
			},
			{
				Name: "revoke", Usage: "put a certificate of the own authority on the revocation list", ArgsUsage: "NAME", Flags: []cli.Flag{
					&cli.StringFlag{Name: "because", Usage: "why", Required: true},
					&cli.StringFlag{Name: "serial", Usage: "an older one of that name, by its serial as yl certificate issued shows it"},
				},
				Action: named("certificate", func(ctx context.Context, c *cli.Command, cl *client.Client, name string) error {
					why := map[string]string{"reason": c.String("because")}
					if serial := c.String("serial"); serial != "" {
						if err := cl.Do(ctx, "POST", "/authority/issued/"+serial+"/revoke", why, nil); err != nil {
							return err
						}
						return p.done("certificate %s with serial %s is revoked", name, serial)
					}
					if err := cl.Do(ctx, "POST", "/certificates/"+name+"/revoke", why, nil); err != nil {
						return err
					}
					return p.done("certificate %s is revoked: make another one (yl certificate make %s), and give devices the list (yl certificate revoked)", name, name)
				}),
			},
			{
				Name: "remove", Usage: "forget a certificate with its key, or a signing request", ArgsUsage: "NAME", Flags: []cli.Flag{evenSo()},
				Action: named("certificate", func(ctx context.Context, c *cli.Command, cl *client.Client, name string) error {
					if err := cl.Do(ctx, "DELETE", removing(c, "/certificates/"+name), nil, nil); err != nil {
						return err
					}
					return p.done("certificate %s is gone", name)
				}),
			},
			{Name: "authority", Usage: "the authority's certificate, for people's devices", Flags: []cli.Flag{outFlag}, Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
				return p.pem(ctx, c, cl, "GET", "/authority", nil)
			})},
			rollOver(p),
			{Name: "revoked", Usage: "the authority's revocation list (RFC 5280)", Flags: []cli.Flag{outFlag}, Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
				return p.pem(ctx, c, cl, "GET", "/authority/revoked", nil)
			})},
		},
	}
}

// named is a command about one thing whose name is its argument.
func named(what string, do func(context.Context, *cli.Command, *client.Client, string) error) cli.ActionFunc {
	return call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
		name, err := argument(c, what)
		if err != nil {
			return err
		}
		return do(ctx, c, cl, name)
	})
}

func shown(c trust.Certificate) string {
	if len(c.Used) > 0 {
		return "tunnel " + strings.Join(c.Used, ", ") + " shows it from now on"
	}
	return "no tunnel of the running plan names it yet"
}

func (p *printer) certificateList(ctx context.Context, c *cli.Command, cl *client.Client) error {
	all, err := client.Get[[]trust.Certificate](ctx, cl, "/certificates")
	if err != nil {
		return err
	}
	kept := []trust.Certificate{}
	var rows [][]string
	for _, x := range all {
		expires, signed := "", "by "+x.Issuer
		if !x.Expires.IsZero() {
			expires = x.Expires.Local().Format(time.DateOnly)
		}
		switch {
		case x.Revoked:
			signed = "revoked"
		case x.Waiting && x.Expires.IsZero():
			signed = "asked for, not yet come"
		case x.Name == "authority":
			signed = "the own authority"
		case x.Name == "authority-next":
			signed = "the authority that follows it"
		case x.Name == "authority-before":
			signed = "the authority before it"
		case x.Own:
			signed = "by the own authority"
		}
		row := []string{x.Name, x.Key, strings.Join(x.Holds, ", "), expires, signed, strings.Join(x.Used, ", ")}
		if matches(c.String("filter"), row...) {
			rows, kept = append(rows, row), append(kept, x)
		}
	}
	if printed, err := p.value(kept); printed {
		return err
	}
	p.table([]string{"certificate", "key", "holds", "expires", "signed", "tunnels"}, rows)
	return nil
}

func (p *printer) certificateImport(ctx context.Context, c *cli.Command, cl *client.Client, name string) error {
	chain, err := os.ReadFile(c.String("chain"))
	if err != nil {
		return Failing(ExitUsage, "--chain: %w", err)
	}
	in := map[string]string{"chain": string(chain)}
	if file := c.String("key"); file != "" {
		key, err := os.ReadFile(file)
		if err != nil {
			return Failing(ExitUsage, "--key: %w", err)
		}
		in["key"] = string(key)
	}
	var kept trust.Certificate
	if err := cl.Do(ctx, "PUT", inPlace(c, "/certificates/"+name), in, &kept); err != nil {
		return err
	}
	return p.done("certificate %s of %s holds %s until %s; %s", name, kept.Issuer, strings.Join(kept.Holds, ", "),
		kept.Expires.Format(time.DateOnly), shown(kept))
}

// pem makes a call whose answer is PEM, and prints it or writes it into a file.
func (p *printer) pem(ctx context.Context, c *cli.Command, cl *client.Client, method, path string, in any) error {
	var out struct {
		PEM string `json:"pem"`
	}
	if err := cl.Do(ctx, method, path, in, &out); err != nil {
		return err
	}
	if file := c.String("out"); file != "" {
		if err := os.WriteFile(file, []byte(out.PEM), 0o644); err != nil {
			return Failing(ExitUsage, "--out: %w", err)
		}
		return p.done("written into %s", file)
	}
	if printed, err := p.value(out); printed {
		return err
	}
	_, err := io.WriteString(p.out, out.PEM)
	return err
}

func secrets(p *printer) *cli.Command {
	kindFlag := &cli.StringFlag{Name: "kind", Usage: "tsig (for name servers), shared-key, or password (of another service)", Value: "tsig"}
	return &cli.Command{Name: "secret", Usage: "list, make, keep and remove keys that both ends know", Commands: []*cli.Command{
		{Name: "list", Usage: "list secrets, without their values", Flags: []cli.Flag{filterFlag()}, Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			all, err := client.Get[[]trust.SharedSecret](ctx, cl, "/secrets")
			if err != nil {
				return err
			}
			kept := []trust.SharedSecret{}
			var rows [][]string
			for _, x := range all {
				row := []string{x.Name, x.Kind, local(x.Made)}
				if matches(c.String("filter"), row...) {
					rows, kept = append(rows, row), append(kept, x)
				}
			}
			if printed, err := p.value(kept); printed {
				return err
			}
			p.table([]string{"secret", "kind", "made"}, rows)
			return nil
		})},
		{Name: "make", Usage: "generate a secret, and show it this once", ArgsUsage: "NAME", Flags: []cli.Flag{
			kindFlag, &cli.BoolFlag{Name: "again", Usage: "in place of the one that is kept"},
		}, Action: named("secret", func(ctx context.Context, c *cli.Command, cl *client.Client, name string) error {
			var made trust.SharedSecret
			wanted := map[string]any{"kind": c.String("kind"), "again": c.Bool("again")}
			if err := cl.Do(ctx, "POST", "/secrets/"+name, wanted, &made); err != nil {
				return err
			}
			if printed, err := p.value(made); printed {
				return err
			}
			p.say("secret %s, shown this once:", name)
			p.say("%s", made.Value)
			return nil
		})},
		{Name: "keep", Usage: "keep a secret that the other end has made", ArgsUsage: "NAME", Flags: []cli.Flag{
			kindFlag,
			&cli.StringFlag{Name: "from-file", Usage: "file with the secret, and nothing else", Required: true, TakesFile: true},
			&cli.BoolFlag{Name: "again", Usage: "in place of the one that is kept: it may then be sent to other servers than that"},
		}, Action: named("secret", func(ctx context.Context, c *cli.Command, cl *client.Client, name string) error {
			value, err := os.ReadFile(c.String("from-file"))
			if err != nil {
				return Failing(ExitUsage, "--from-file: %w", err)
			}
			given := map[string]any{"kind": c.String("kind"), "value": string(value), "again": c.Bool("again")}
			if err := cl.Do(ctx, "POST", "/secrets/"+name, given, nil); err != nil {
				return err
			}
			return p.done("secret %s is kept", name)
		})},
		{Name: "remove", Usage: "forget a secret", ArgsUsage: "NAME", Flags: []cli.Flag{evenSo()}, Action: named("secret", func(ctx context.Context, c *cli.Command, cl *client.Client, name string) error {
			if err := cl.Do(ctx, "DELETE", removing(c, "/secrets/"+name), nil, nil); err != nil {
				return err
			}
			return p.done("secret %s is gone", name)
		})},
	}}
}

func replaceFlag() cli.Flag {
	return &cli.BoolFlag{Name: "replace", Usage: "also in place of one that is in use, where people could no longer connect by it"}
}

func inPlace(c *cli.Command, path string) string {
	if c.Bool("replace") {
		return path + "?replace=true"
	}
	return path
}

func evenSo() cli.Flag {
	return &cli.BoolFlag{Name: "even-so", Usage: "also where earlier revisions need it: nobody can go back to those"}
}

func removing(c *cli.Command, path string) string {
	if c.Bool("even-so") {
		return path + "?even-so=true"
	}
	return path
}
