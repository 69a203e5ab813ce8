package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"yellowlantern/internal/connection"
	"yellowlantern/internal/guard"
	"yellowlantern/internal/private"
	"yellowlantern/internal/probe"
)

func dialCommand(p *printer) *cli.Command {
	name := &cli.StringFlag{Name: "name", Usage: "what this connection is called; as the kit's file, if not given"}
	return &cli.Command{
		Name: "dial", Usage: "connect this Linux machine as a remote user, and stay connected",
		Commands: []*cli.Command{
			{
				Name: "up", Usage: "connect as a kit says (yl probe kit writes it), and stay until interrupted, or until yl dial down", ArgsUsage: "KIT",
				Flags: append(keyFlags(), []cli.Flag{
					name, passwordFile(), signedByFlag(),
					&cli.StringFlag{Name: "next-password-file", Usage: "the password to choose, from a `FILE`, where the gateway wants another in place of one that was made"},
					&cli.BoolFlag{Name: "background", Usage: "come back once it is connected, and stay in the background"},
					&cli.BoolFlag{Name: "strict", Usage: "let nothing of what belongs into the tunnel leave in clear while there is none; a kit may demand it"},
					&cli.IntFlag{Name: "addresses", Value: 1, Usage: "how many addresses of each family to ask for; the plan says how many there may be"},
					&cli.BoolFlag{Name: "plain-packets", Usage: "do without what the kernel offers for joined packets, to find out whether a fault comes of it"},
					&cli.StringSliceFlag{Name: "carry", Usage: "a network behind this machine whose hosts may use the connection, under its address"},
				}...), Action: p.dialUp,
			},
			{
				Name: "new-key", Usage: "make a key by which this device proves itself, and show the public one for the administrator", ArgsUsage: "FILE",
				Flags:  []cli.Flag{&cli.BoolFlag{Name: "request", Usage: "show a signing request, for a tunnel that wants a certificate"}},
				Action: p.dialNewKey,
			},
			{Name: "down", Usage: "end a connection, and set everything back", ArgsUsage: "[NAME]", Action: p.dialDown},
			{Name: "status", Usage: "what each connection was given, and what flows", Flags: []cli.Flag{filterFlag()}, Action: p.dialStatus},
			{Name: "logs", Usage: "what happened to a connection in the background", ArgsUsage: "[NAME]", Action: p.dialLogs},
		},
	}
}

const (
	downTime      = 15 * time.Second
	mostAddresses = 16          // that it makes sense to ask for
	statusPace    = time.Second // between two writings of what flows
	// passwordOn is the descriptor by which a process in the background is handed the password.
	passwordOn = "YL_DIAL_PASSWORD_FD"
)

func (p *printer) dialUp(ctx context.Context, c *cli.Command) error {
	path, err := argument(c, "kit")
	if err != nil {
		return err
	}
	kit, err := readKit(c, path)
	if err != nil {
		return err
	}
	if _, err := os.Lstat(signerBeside(path)); err != nil && c.String("signed-by") == "" { // nobody has said whose it should be
		fmt.Fprintf(os.Stderr, "%s: %s\n", path, signedWords(kit, ""))
	}
	o := connection.Options{
		Name: c.String("name"), Kind: kit.Kind, Strict: c.Bool("strict") || kit.Strict, CodePage: kit.CodePage, Permit: permitted(kit.Order),
	}
	if o.Name == "" {
		o.Name = nameFor(path)
	}
	if !connection.GoodName(o.Name) {
		return Failing(ExitUsage, "%q is no name for a connection: up to twelve lower-case letters, digits and hyphens; say one with --name", o.Name)
	}
	for _, word := range c.StringSlice("carry") {
		n, err := netip.ParsePrefix(word)
		if err != nil {
			return Failing(ExitUsage, "--carry takes a network such as 192.168.77.0/24, not %q", word)
		}
		o.Carry = append(o.Carry, n)
	}
	if release, err := connection.Claim(o.Name); err == nil { // before anything is asked, or a log is begun anew
		release()
	} else {
		return Failing(ExitNot, "%w", err)
	}
	var opt probe.Options
	if err := besides(c, path); err != nil {
		return err
	}
	byKey, err := proof(c, kit.Order, &opt)
	if err == nil && !byKey {
		opt.Password, err = dialPassword(c, kit.User)
		if path := c.String("next-password-file"); err == nil && path != "" {
			opt.NextPassword, err = nextPassword(path)
		}
	}
	if err != nil {
		return err
	}
	if c.Bool("background") {
		return p.dialInBackground(ctx, o.Name, opt.Password)
	}
	if o.Login, err = kit.Login(opt); err != nil {
		return Failing(ExitUsage, "%s: %w", path, err)
	}
	o.Login.Plain = c.Bool("plain-packets")
	o.Login.Addresses = min(max(c.Int("addresses"), 1), mostAddresses)
	release, err := connection.Claim(o.Name)
	if err != nil {
		return Failing(ExitNot, "%w", err)
	}
	defer release()
	o.Log = slog.New(slog.NewTextHandler(os.Stderr, nil))
	if id, err := connection.Identity(); err == nil { // so that what is left of a session after a crash ends at the next one
		o.Login.Device = fmt.Sprintf("%s by installation %s, %s", kit.User, id, o.Name)
	} else {
		o.Log.Warn("what a crash leaves of a session ends later than the next login: this installation has no identity", "error", err)
	}
	if kit.Service != "" && len(opt.Certificate) > 0 && len(opt.Above) == 0 {
		r := &connection.Renewer{
			Service: kit.Service, Authority: kit.Authority, Key: opt.Key, File: c.String("certificate"), Log: o.Log,
		}
		o.Chain = r.Shows(opt.Certificate).Chain
		guard.Go("cli.dialUp", func() { r.Run(ctx) })
	}
	defer connection.Forget(o.Name)
	shown, kept := false, time.Time{}
	var was connection.State
	err = connection.Run(ctx, o, func(s connection.State) {
		changed := s.Up != was.Up || s.Trouble != was.Trouble || s.Tries != was.Tries
		if was = s; changed || time.Since(kept) > statusPace {
			kept = time.Now()
			if err := connection.Keep(s); err != nil {
				o.Log.Warn("yl dial status will not know", "error", err)
			}
		}
		if s.Up && !shown {
			shown = true
			p.connection(s)
			if err := keepSigner(path, kit); err != nil {
				o.Log.Warn("the next kit here is taken by whomever it is signed: "+signerBeside(path)+" was not written", "error", err)
			}
		}
	})
	if err != nil {
		return Failing(ExitNot, "%w", err)
	}
	return nil
}

// permitted is what a kit lets the gateway have this host do; one that names nothing of it, as those of versions before 0.18, limits
// nothing.
func permitted(o probe.Order) connection.Permit {
	return connection.Permit{
		Any: !o.Full && len(o.Permitted) == 0, Full: o.Full, Routes: o.Permitted, DNS: o.DNS, Domains: o.Domains,
	}
}

// besideKit are the files that are taken from beside a kit where nothing is said of them, by what takes the place of its .kit.
var besideKit = map[string]string{
	"password-file": ".password", "key": ".key", "certificate": ".pem", "shared-key-file": ".login", "mixed-in-key-file": ".mixed",
}

// besides takes what a kit needs from the files beside it.
func besides(c *cli.Command, kit string) error {
	base, ok := strings.CutSuffix(kit, ".kit")
	if !ok {
		return nil
	}
	for flag, suffix := range besideKit {
		if c.String(flag) != "" {
			continue
		}
		if _, err := os.Stat(base + suffix); err != nil {
			continue
		}
		err := private.Check(base + suffix)
		if flag == "certificate" { // which is no secret
			err = nil
		}
		if err == nil {
			err = c.Set(flag, base+suffix)
		}
		if err != nil {
			return Failing(ExitUsage, "%s: %w", flag, err)
		}
	}
	return nil
}

// nameFor makes a connection's name of a file's.
func nameFor(path string) string {
	base := filepath.Base(path)
	base = strings.ToLower(strings.TrimSuffix(base, filepath.Ext(base)))
	out := strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			return r
		}
		return '-'
	}, base)
	return strings.Trim(out[:min(len(out), 12)], "-")
}

// nextPassword reads the password that is to be chosen.
func nextPassword(path string) (string, error) {
	if err := private.Check(path); err != nil {
		return "", Failing(ExitUsage, "next-password-file: %w", err)
	}
	b, err := os.ReadFile(path)
	if err != nil {
		return "", Failing(ExitUsage, "next-password-file: %w", err)
	}
	return strings.TrimRight(string(b), "\r\n"), nil
}

// dialPassword reads the password: from whoever started this in the background, from the system's credential store, or as every command.
func dialPassword(c *cli.Command, user string) (string, error) {
	if os.Getenv(passwordOn) != "" {
		b, err := io.ReadAll(io.LimitReader(os.NewFile(3, "password"), 4096))
		return string(b), err
	}
	if folder := os.Getenv("CREDENTIALS_DIRECTORY"); folder != "" && !c.IsSet("password-file") { // systemd.exec(5)
		if b, err := os.ReadFile(filepath.Join(folder, "password")); err == nil {
			return strings.TrimRight(string(b), "\r\n"), nil
		}
	}
	return readPassword(c, "Password of "+user)
}

// dialInBackground starts the same command once more without its terminal, and waits until it is connected.
func (p *printer) dialInBackground(ctx context.Context, name, password string) error {
	if err := os.MkdirAll(filepath.Dir(connection.LogAt(name)), 0o700); err != nil {
		return Failing(ExitUsage, "%w: connecting needs root", err)
	}
	log, err := os.OpenFile(connection.LogAt(name), os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return Failing(ExitUsage, "%w", err)
	}
	defer log.Close()
	secret, hand, err := os.Pipe()
	if err != nil {
		return err
	}
	args := slices.DeleteFunc(slices.Clone(os.Args[1:]), func(a string) bool { return strings.TrimLeft(a, "-") == "background" })
	self, err := os.Executable()
	if err != nil {
		return err
	}
	cmd := exec.Command(self, args...)
	cmd.Env = append(os.Environ(), passwordOn+"=3")
	cmd.ExtraFiles, cmd.Stdout, cmd.Stderr = []*os.File{secret}, log, log
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if err := cmd.Start(); err != nil {
		return err
	}
	_ = secret.Close()
	_, _ = hand.WriteString(password)
	_ = hand.Close()
	over := make(chan error, 1)
	guard.Go("cli.dialInBackground", func() { over <- cmd.Wait() })
	t := time.NewTicker(100 * time.Millisecond)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			_ = cmd.Process.Signal(syscall.SIGTERM)
			return ctx.Err()
		case <-over:
			b, _ := os.ReadFile(connection.LogAt(name))
			lines := strings.Split(strings.TrimSpace(string(b)), "\n")
			return Failing(ExitNot, "%s", strings.TrimPrefix(lines[len(lines)-1], "yl: "))
		case <-t.C:
		}
		all, _ := connection.List()
		for _, s := range all {
			if s.PID == cmd.Process.Pid && s.Up {
				p.connection(s)
				return nil
			}
		}
	}
}

// connection prints what a connection was given.
func (p *printer) connection(s connection.State) {
	if printed, _ := p.value(s); printed {
		return
	}
	state := "connected to " + s.Gateway + " as " + s.User + " since " + s.Since.Local().Format("15:04:05") + " over " + s.Over
	if !s.Up {
		state = fmt.Sprintf("not connected to %s as %s: %s (%d tries)", s.Gateway, s.User, s.Trouble, s.Tries)
	}
	p.say("%s: %s", s.Name, state)
	if !s.Up {
		return
	}
	if s.Largest > 0 {
		p.say("  path MTU    packets of at most %d octets inside the tunnel: the network drops larger ones without ICMP", s.Largest)
	}
	routes := make([]string, len(s.Routes))
	for i, r := range s.Routes {
		routes[i] = r.String()
	}
	if s.Full {
		routes = []string{"everything"}
	}
	addresses := func(list []netip.Addr) string {
		out := make([]string, len(list))
		for i, a := range list {
			out[i] = a.String()
		}
		return orNothing(strings.Join(out, ", "))
	}
	if s.CodePage != "" {
		p.say("  code        open %s in a browser for the second factor: until it is given nothing else is reached", s.CodePage)
	}
	p.say("  device      %s", s.Device)
	p.say("  addresses   %s", addresses(s.Given))
	for _, prefix := range s.Prefixes {
		p.say("  prefix      %s, for what is behind this machine", prefix)
	}
	p.say("  by tunnel   %s", orNothing(strings.Join(routes, ", ")))
	p.say("  names       %s%s", addresses(s.DNS), map[bool]string{true: ", for " + strings.Join(s.Domains, ", ")}[len(s.Domains) > 0])
	for _, x := range s.NotPermitted {
		p.say("  not used    %s", x)
	}
	if len(s.NotPermitted) > 0 {
		p.say("              the kit does not permit them; if the plan changed, have a new kit made")
	}
	if s.Refused > 0 {
		p.say("  dropped     %d packets from the tunnel: not from its routes, or not to an assigned address", s.Refused)
	}
	p.say("  came, went  %d packets (%s), %d packets (%s)", s.Came.Packets, octets(s.Came.Octets), s.Went.Packets, octets(s.Went.Octets))
}

func orNothing(text string) string {
	if text == "" {
		return "none"
	}
	return text
}

func octets(n uint64) string {
	switch {
	case n >= 1<<20:
		return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20))
	case n >= 1<<10:
		return fmt.Sprintf("%.1f KiB", float64(n)/(1<<10))
	}
	return fmt.Sprintf("%d octets", n)
}

// theConnection is the one that is named, or the only one.
func theConnection(c *cli.Command) (connection.State, error) {
	all, err := connection.List()
	if err != nil {
		return connection.State{}, Failing(ExitUsage, "%w", err)
	}
	if name := c.Args().First(); name != "" {
		all = slices.DeleteFunc(all, func(s connection.State) bool { return s.Name != name })
		if len(all) == 0 {
			return connection.State{}, Failing(ExitRefused, "there is no connection %q; yl dial status lists them", name)
		}
	}
	switch len(all) {
	case 0:
		return connection.State{}, Failing(ExitRefused, "there is no connection on this machine; yl dial up KIT makes one")
	case 1:
		return all[0], nil
	}
	return connection.State{}, Failing(ExitUsage, "there are several connections: say which; yl dial status lists them")
}

func (p *printer) dialDown(ctx context.Context, c *cli.Command) error {
	s, err := theConnection(c)
	if err != nil {
		return err
	}
	if connection.Lives(s.PID) {
		if err := syscall.Kill(s.PID, syscall.SIGTERM); err != nil {
			return Failing(ExitUsage, "connection %s is process %d: %w", s.Name, s.PID, err)
		}
		for end := time.Now().Add(downTime); connection.Lives(s.PID); time.Sleep(50 * time.Millisecond) {
			if time.Now().After(end) || ctx.Err() != nil {
				return Failing(ExitNot, "connection %s has not ended yet: it is process %d", s.Name, s.PID)
			}
		}
	}
	connection.Forget(s.Name)
	if err := connection.Restore(s.Name); err != nil {
		return Failing(ExitNot, "%w", err)
	}
	return p.done("connection %s is over, and this machine is as it was", s.Name)
}

func (p *printer) dialStatus(_ context.Context, c *cli.Command) error {
	all, err := connection.List()
	if err != nil {
		return Failing(ExitUsage, "%w", err)
	}
	word := c.String("filter")
	all = slices.DeleteFunc(all, func(s connection.State) bool {
		return !strings.Contains(s.Name+" "+s.User+" "+s.Gateway, word)
	})
	if all == nil {
		all = []connection.State{}
	}
	bad := slices.ContainsFunc(all, func(s connection.State) bool { return !s.Up })
	if printed, err := p.value(all); printed {
		return err
	}
	for _, s := range all {
		p.connection(s)
	}
	switch {
	case len(all) == 0:
		p.say("no connection on this machine; yl dial up KIT makes one")
	case bad:
		return Failing(ExitNot, "not everything is connected")
	}
	return nil
}

func (p *printer) dialLogs(_ context.Context, c *cli.Command) error {
	s, err := theConnection(c)
	if err != nil {
		return err
	}
	b, err := os.ReadFile(connection.LogAt(s.Name))
	if errors.Is(err, os.ErrNotExist) {
		return Failing(ExitRefused, "connection %s is not in the background: what happens to it is written where it was started, or in the system's journal", s.Name)
	}
	if err != nil {
		return Failing(ExitUsage, "%w", err)
	}
	if printed, err := p.value(strings.Split(strings.TrimSpace(string(b)), "\n")); printed {
		return err
	}
	p.say("%s", strings.TrimRight(string(b), "\n"))
	return nil
}
