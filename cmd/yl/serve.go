package main

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	urfave "github.com/urfave/cli/v3"

	"yellowlantern/demo"
	"yellowlantern/internal/cli"
	"yellowlantern/internal/instance"
	"yellowlantern/internal/ready"
	"yellowlantern/internal/tour"
	"yellowlantern/web"
)

func listenFlags(data, ike, natt string) []urfave.Flag {
	return append(gatewayFlags(data, ike, natt), []urfave.Flag{
		&urfave.StringFlag{Name: "listen", Usage: "address for the console and the API without TLS, on loopback", Value: "127.0.0.1:8600"},
		&urfave.StringSliceFlag{Name: "listen-tls", Usage: "address for the console and the API with TLS, anywhere; several by repeating it"},
		&urfave.StringFlag{
			Name:  "certificate",
			Usage: "the certificate that is shown there, by the name that it is kept under; made by the own authority where there is none",
			Value: instance.ConsoleCertificate,
		},
		&urfave.StringSliceFlag{
			Name:  "listen-kits",
			Usage: "address, also outside, for the pages of kits, renewals of people's certificates and the revocation list alone; several by repeating it",
		},
		&urfave.StringFlag{Name: "kits-at", Usage: "where people reach those, such as https://kits.tern.example:8644, where the plan has no kits-at: links lead there"},
		&urfave.StringFlag{
			Name:  "kits-certificate",
			Usage: "the certificate that is shown there, by the name that it is kept under, where the plan has no kits-certificate",
			Value: instance.KitsCertificate,
		},
		&urfave.BoolFlag{Name: "only-tls", Usage: "tell browsers that nothing but TLS is spoken under the console's names, on any port"},
		&urfave.IntFlag{Name: "keep-journal", Usage: "for how many days lines of the journal are kept; 0: for ever", Value: 400},
		&urfave.StringFlag{Name: "webhook", Usage: "send events to this address, each as a POST with JSON"},
		&urfave.StringSliceFlag{Name: "webhook-kinds", Usage: "kinds of events to send, as in the journal", Value: []string{"reach", "commit", "trust", "name", "machine"}},
		&urfave.StringFlag{Name: "webhook-token-file", Usage: "send what is in this file as a bearer token"},
		&urfave.StringFlag{Name: "syslog", Usage: "send every line of the journal on to this collector, host:port, by syslog over TLS (RFC 5424, RFC 5425)"},
		&urfave.StringFlag{Name: "syslog-authority", Usage: "file with the certificate of the authority that the collector's is of, PEM; the system's if not given"},
		&urfave.StringFlag{Name: "syslog-certificate", Usage: "file with a certificate to show to the collector and its key, PEM"},
		&urfave.StringSliceFlag{Name: "trusted-proxy", Usage: "address or prefix of a proxy in front: X-Forwarded-For and X-Forwarded-Proto count from it alone; several by repeating it"},
		&urfave.StringSliceFlag{Name: "name", Usage: "what the console is called, by itself or by a proxy in front; several by repeating it"},
	}...)
}

func logger(c *urfave.Command) *slog.Logger {
	level := slog.LevelInfo
	if c.Bool("verbose") {
		level = slog.LevelDebug
	}
	log := slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: level}))
	slog.SetDefault(log) // what has no logger of its own, such as a task that failed
	return log
}

func options(c *urfave.Command) (instance.Options, error) {
	o := instance.Options{
		Data: c.String("data"), Listen: c.String("listen"), IKE: c.String("udp-ike"), NATT: c.String("udp-natt"),
		KeyLog: c.String("key-log"), Plain: c.Bool("plain-packets"), KeepJournal: time.Duration(c.Int("keep-journal")) * 24 * time.Hour, Console: web.Dist(), Log: logger(c), Names: c.StringSlice("name"),
		ListenTLS: c.StringSlice("listen-tls"), Certificate: c.String("certificate"), OnlyTLS: c.Bool("only-tls"),
		ListenKits: c.StringSlice("listen-kits"), KitsAt: c.String("kits-at"), KitsCertificate: c.String("kits-certificate"),
	}
	for _, text := range c.StringSlice("trusted-proxy") {
		p, err := netip.ParsePrefix(text)
		if a, bad := netip.ParseAddr(text); bad == nil {
			p, err = a.Prefix(a.BitLen())
		}
		if err != nil {
			return o, cli.Failing(cli.ExitUsage, "--trusted-proxy takes an address or a prefix, such as 127.0.0.1, not %q", text)
		}
		o.Proxies = append(o.Proxies, p)
	}
	var err error
	if o.Collector, err = collector(c); err != nil {
		return o, err
	}
	to := c.String("webhook")
	if to == "" {
		return o, nil
	}
	if u, err := url.Parse(to); err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || u.User != nil {
		return o, cli.Failing(cli.ExitUsage, "--webhook takes an address such as https://watch.tern.example/events; a secret belongs into --webhook-token-file")
	}
	o.Webhook = &instance.Webhook{URL: to, Kinds: c.StringSlice("webhook-kinds")}
	if path := c.String("webhook-token-file"); path != "" {
		b, err := os.ReadFile(path)
		if err != nil {
			return o, cli.Failing(cli.ExitUsage, "webhook token: %w", err)
		}
		o.Webhook.Token = strings.TrimSpace(string(b))
	}
	return o, nil
}

func serve() *urfave.Command {
	return &urfave.Command{
		Name: "serve", Usage: "run the service and its gateway",
		Flags: settable(append(append(listenFlags("/var/lib/yellow-lantern", ":500", ":4500"), insideFlags()...),
			&urfave.StringFlag{
				Name:  "site-lab",
				Usage: "build stand-in surroundings from this description, in place of this machine's networks",
			},
			&urfave.StringFlag{
				Name:  "gateway",
				Usage: "the socket of a gateway in a process of its own (yl gateway), in place of one in this process; this one then needs no privilege",
			},
			&urfave.StringSliceFlag{
				Name:  "gateway-user",
				Usage: "whose process that is, beside root's and this one's user's: a name or a number",
			})),
		Action: func(ctx context.Context, c *urfave.Command) error {
			o, err := options(c)
			if err != nil {
				return err
			}
			if o.Host, o.Device, err = insideOf(c); err != nil {
				return err
			}
			if o.GatewayUsers, err = usersOf(c, "gateway-user"); err != nil {
				return err
			}
			if path := c.String("site-lab"); path != "" {
				b, err := os.ReadFile(path)
				if err != nil {
					return cli.Failing(cli.ExitUsage, "site description: %w", err)
				}
				o.SiteLab, o.Host = string(b), false
			}
			if o.Gateway = c.String("gateway"); o.Gateway != "" {
				for _, other := range []string{"site-lab", "inside", "device", "udp-ike", "udp-natt", "key-log", "plain-packets"} {
					if c.IsSet(other) {
						return cli.Failing(cli.ExitUsage, "--%s is the gateway's own: give it to yl gateway", other)
					}
				}
			}
			i, err := instance.Start(ctx, o)
			if err != nil {
				return err
			}
			defer i.Stop()
			fmt.Println("console and API: " + strings.Join(append([]string{i.URL()}, i.URLs()...), ", "))
			if i.Side != nil {
				fmt.Printf("gateway: UDP %s (IKE), UDP %s (IKE and ESP)\n", i.Sockets.IKE(), i.Sockets.NATT())
			} else {
				fmt.Println("gateway: the process at " + o.Gateway)
			}
			if code := i.App.Access.SetupCode; code != "" {
				fmt.Printf("first start: name the administrator in the console, or with\n  yl sign-in --setup-code %s %s\n", code, i.URL())
			}
			ready.Until(ctx, o.Log, i.Works)
			o.Log.Info("stopping")
			return nil
		},
	}
}

func demonstrate() *urfave.Command {
	return &urfave.Command{
		Name: "demo", Usage: "run the service with the Tern Island demonstration",
		Flags: append(listenFlags("", "127.0.0.1:0", "127.0.0.1:0"),
			&urfave.BoolFlag{Name: "once", Usage: "run the whole job once without a person, print it, and end"},
			&urfave.BoolFlag{Name: "hosts", Usage: "with real hosts in network namespaces, and this machine's own tools; needs root"},
			&urfave.StringFlag{Name: "with", Usage: "make this mistake; yl demo --list shows them"},
			&urfave.BoolFlag{Name: "list", Usage: "list the mistakes"}),
		Action: func(ctx context.Context, c *urfave.Command) error {
			switch {
			case c.Bool("list"):
				return listMistakes()
			case c.Bool("hosts"):
				return demoHosts(ctx, c)
			case c.Bool("once"):
				return demoOnce(ctx, c)
			}
			return demoServe(ctx, c)
		},
	}
}

func listMistakes() error {
	for _, name := range demo.Mistakes() {
		s, err := demo.Load(name)
		if err != nil {
			return err
		}
		fmt.Printf("%-26s in the %s: %s\n", name, s.Mistake.In, s.Mistake.About)
	}
	return nil
}

func demoOnce(ctx context.Context, c *urfave.Command) error {
	log := slog.New(slog.NewTextHandler(io.Discard, nil))
	if c.Bool("verbose") {
		log = logger(c)
	}
	o, err := tour.Run(ctx, c.String("with"), log, func(words string) { fmt.Fprintln(os.Stderr, "… "+words) })
	if err != nil {
		return err
	}
	if err := cli.PrintOutcome(os.Stdout, c.Bool("json"), o); err != nil {
		return err
	}
	if !o.OK {
		return cli.Failing(cli.ExitNot, "%s", o.Verdict)
	}
	return nil
}

func demoHosts(ctx context.Context, c *urfave.Command) error {
	o, err := tour.RunHosts(ctx, c.Bool("once"), func(words string) { fmt.Fprintln(os.Stderr, "… "+words) },
		func(words string) { fmt.Println(words) })
	if err != nil {
		return cli.Failing(cli.ExitUsage, "%w", err)
	}
	if !c.Bool("once") {
		return nil
	}
	if err := cli.PrintStory(os.Stdout, c.Bool("json"), o); err != nil {
		return err
	}
	if !o.OK {
		return cli.Failing(cli.ExitNot, "not everything was as it should be")
	}
	return nil
}

func demoServe(ctx context.Context, c *urfave.Command) error {
	o, err := options(c)
	if err != nil {
		return err
	}
	if o.Data == "" {
		folder, err := os.MkdirTemp("", "yellow-lantern-demo-")
		if err != nil {
			return err
		}
		defer os.RemoveAll(folder)
		o.Data = folder
	} else if held, err := os.ReadDir(o.Data); err == nil && len(held) > 0 {
		return cli.Failing(cli.ExitUsage, "%s is not empty: name another folder, for the demonstration begins anew each time", o.Data)
	}
	if !c.Bool("verbose") {
		o.Log = slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelWarn}))
	}
	o.AllHere = true
	d, err := tour.Prepare(ctx, c.String("with"), o)
	if err != nil {
		return err
	}
	defer d.Stop()
	post, err := d.Mail(ctx, filepath.Join(o.Data, "mail"))
	if err != nil {
		return err
	}
	defer post.Close()
	checked, revision, err := d.Commit(ctx)
	if err != nil {
		fmt.Printf("the demo's plan was refused (%d findings stop it); it is in draft first\n", checked.Stops)
	}
	access := filepath.Join(o.Data, "access.json")
	if err := cli.WriteAccess(access, cli.Access{URL: d.URL(), Token: d.Client.Token}); err != nil {
		return err
	}
	fmt.Printf("Tern Island runs revision %d.\n\n", revision)
	fmt.Printf("  console   %s\n  sign in   admin   %s\n  gateway   UDP %s (IKE), UDP %s (IKE and ESP)\n\n", d.URL(), d.Admin, d.Sockets.IKE(), d.Sockets.NATT())
	fmt.Println("  people, with a file that holds each password:")
	for _, p := range d.Scenario.People {
		path := filepath.Join(o.Data, p.User+".password")
		if err := os.WriteFile(path, []byte(d.Passwords[p.User]+"\n"), 0o600); err != nil {
			return err
		}
		fmt.Printf("    %-18s %s\n", p.User, path)
	}
	fmt.Printf("\n  mail      a stand-in for a mail server keeps what people are sent in %s\n            who forgot a password: %s/forgotten\n",
		filepath.Join(o.Data, "mail"), d.URL())
	fmt.Printf("\nTry, in another terminal:\n\n  export YL_ACCESS=%s\n  bin/yl prove\n  bin/yl journey --from rory.researcher --to turbine-control:502\n  bin/yl probe --user rory.researcher --password-file %s\n\n",
		access, filepath.Join(o.Data, "rory.researcher.password"))
	fmt.Println("Ctrl-C ends it.")
	<-ctx.Done()
	return nil
}
