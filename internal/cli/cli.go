// Package cli is the command line: each command makes calls of the service's API and prints what comes back as tables
// that fit 100 columns, or as JSON. Starting a service is left to cmd.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"yellowlantern/internal/client"
	"yellowlantern/internal/core/legible"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/private"
)

// Exit codes.
const (
	ExitFine    = 0 // all is as expected
	ExitNot     = 1 // something is not as expected
	ExitUsage   = 2 // the command's words or its input are wrong
	ExitService = 3 // the service does not answer, or one must sign in first
	ExitRefused = 4 // the service refused; nothing was changed
)

// failure is an error with its exit code.
type failure struct {
	code int
	err  error
}

func (f failure) Error() string { return f.err.Error() }
func (f failure) Unwrap() error { return f.err }

// Failing gives an error an exit code of its own.
func Failing(code int, format string, args ...any) error {
	return failure{code, fmt.Errorf(format, args...)}
}

// ExitCode is the code for an error of a command.
func ExitCode(err error) int {
	var f failure
	var refused *client.Error
	switch {
	case err == nil:
		return ExitFine
	case errors.As(err, &f):
		return f.code
	case errors.Is(err, client.ErrUnreachable):
		return ExitService
	case errors.As(err, &refused) && refused.Status == 401:
		return ExitService
	case errors.As(err, &refused):
		return ExitRefused
	}
	return ExitUsage
}

// Complaint is an error as it is written to a terminal: what a service or a device sent is shown, and does nothing.
func Complaint(err error) string { return "yl: " + legible.Escape(err.Error()) }

// New makes the program; more commands (those that start a service) are handed in.
func New(out io.Writer, more ...*cli.Command) *cli.Command {
	p := &printer{out: &legible.Writer{To: out}}
	program := &cli.Command{
		Name: "yl", Version: Version(), EnableShellCompletion: true,
		Usage: "configure a VPN gateway, and prove and try who reaches what behind it",
		Description: "Exit codes: 0 all is as expected, 1 something is not, 2 wrong words or input,\n" +
			"3 no service or not signed in, 4 refused and nothing changed.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "json", Usage: "print JSON", Local: false},
			&cli.StringFlag{Name: "access", Usage: "file with the service's address and token", Sources: cli.EnvVars("YL_ACCESS"), Value: defaultAccess(), Local: false},
		},
		Writer: out, ErrWriter: os.Stderr, ExitErrHandler: func(context.Context, *cli.Command, error) {},
		Commands: append(more, signIn(p), signOut(p), start(p), next(p), planCommands(p), users(p), handoverCommand(p), groups(p), certificates(p), authorityCommands(p), sourceCommands(p), everybody(p), secrets(p), tokens(p), prove(p), validate(p), surplus(p), depends(p), board(p), journey(p), reachCommand(p), probeCommand(p), dialCommand(p), deviceCommand(p), hostCommand(p), diagnoseCommand(p), computingCommands(p), sessions(p), slowed(p), own(p), administrators(p), flows(p), pools(p), journal(p), status(p), outside(p)),
		Before: func(ctx context.Context, c *cli.Command) (context.Context, error) {
			p.json = c.Bool("json")
			return ctx, nil
		},
		OnUsageError: func(_ context.Context, _ *cli.Command, err error, _ bool) error {
			return Failing(ExitUsage, "%w; --help shows the options", err)
		},
		CommandNotFound: func(_ context.Context, _ *cli.Command, name string) {
			fmt.Fprintf(os.Stderr, "yl: there is no command %q; yl --help lists them\n", name)
			os.Exit(ExitUsage)
		},
	}
	bounded(program.Commands)
	return program
}

// bounded makes surplus words an error in every command: one that is not heeded may have been meant.
func bounded(all []*cli.Command) {
	for _, c := range all {
		bounded(c.Commands)
		act, most := c.Action, 0
		for _, alternative := range strings.Split(c.ArgsUsage, " or ") {
			most = max(most, len(strings.Fields(alternative)))
		}
		if act == nil || strings.Contains(c.ArgsUsage, "…") {
			continue
		}
		c.Action = func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() > most {
				return Failing(ExitUsage, "%s takes no %q; --help shows what it takes", c.FullName(), c.Args().Get(most))
			}
			return act(ctx, c)
		}
	}
}

func defaultAccess() string {
	folder, err := os.UserConfigDir()
	if err != nil {
		return "access.json"
	}
	return filepath.Join(folder, "yellow-lantern", "access.json")
}

// Access is how to get at a service.
type Access struct {
	URL   string `json:"url"`
	Token string `json:"token"`
	// Authority is the certificate that is trusted beside those of the system, PEM.
	Authority string `json:"authority,omitempty"`
}

// WriteAccess keeps an access file, for its owner only.
func WriteAccess(path string, a Access) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	b, err := json.MarshalIndent(a, "", "  ")
	if err != nil {
		return err
	}
	return private.Write(path, append(b, '\n'))
}

func connect(c *cli.Command) (*client.Client, error) {
	path := c.String("access")
	b, err := os.ReadFile(path)
	if err != nil {
		return nil, Failing(ExitService, "not signed in: %s is not there; run yl sign-in URL, or set YL_ACCESS", path)
	}
	var a Access
	if err := json.Unmarshal(b, &a); err != nil || a.URL == "" {
		return nil, Failing(ExitService, "%s is no access file; run yl sign-in URL", path)
	}
	if err := private.Check(path); err != nil {
		return nil, Failing(ExitService, "%w", err)
	}
	cl, err := clientOf(a)
	if err == nil && !c.Bool("json") && term.IsTerminal(int(os.Stderr.Fd())) {
		cl.Progress = func(words string) { fmt.Fprint(os.Stderr, oneLine(words)) }
	}
	return cl, err
}

// oneLine takes the place of the line before it on a terminal.
func oneLine(words string) string {
	words = legible.Escape(words)
	if r := []rune(words); len(r) >= width {
		words = string(r[:width-2]) + "…"
	}
	return "\r\x1b[K" + words
}

func clientOf(a Access) (*client.Client, error) {
	cl, err := client.Trusting(a.URL, a.Token, a.Authority)
	if err != nil {
		return nil, Failing(ExitUsage, "%w", err)
	}
	return cl, nil
}

func signIn(p *printer) *cli.Command {
	return &cli.Command{
		Name: "sign-in", Usage: "sign in to a service and keep the access", ArgsUsage: "URL",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "name", Usage: "administrator", Value: "admin"},
			passwordFile(),
			&cli.StringFlag{Name: "authority", Usage: "file with the authority's certificate that the service is trusted by, beside the system's (yl certificate authority)"},
			&cli.StringFlag{Name: "new-password-file", Usage: "the password to choose, where the one that holds was made for you; none: ask"},
			&cli.StringFlag{Name: "code-file", Usage: "file with the newest code of your second factor; - for standard input; none: ask where it is wanted"},
			&cli.StringFlag{Name: "role", Usage: "what this access may do at most: administrator, operator, help-desk or auditor; as you may if not given"},
			&cli.StringFlag{Name: "setup-code", Usage: "name the first administrator, with the code that the service printed"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			url := c.Args().First()
			if !strings.HasPrefix(url, "http") {
				return Failing(ExitUsage, "give the service's address, such as http://127.0.0.1:8600")
			}
			password, err := readPassword(c, "Password of "+c.String("name"))
			if err != nil {
				return err
			}
			a := Access{URL: url}
			if path := c.String("authority"); path != "" {
				b, err := os.ReadFile(path)
				if err != nil {
					return Failing(ExitUsage, "authority: %w", err)
				}
				a.Authority = string(b)
			}
			cl, err := clientOf(a)
			if err != nil {
				return err
			}
			if code := c.String("setup-code"); code != "" {
				in := map[string]string{"name": c.String("name"), "password": password, "code": code}
				if err := cl.Do(ctx, "POST", "/start", in, nil); err != nil {
					return err
				}
			}
			by := client.Credentials{Name: c.String("name"), Password: password, Purpose: "command line", Role: c.String("role")}
			if err := p.signInAs(ctx, c, cl, by); err != nil {
				return err
			}
			if err := WriteAccess(c.String("access"), Access{cl.URL, cl.Token, a.Authority}); err != nil {
				return err
			}
			return p.done("signed in to %s; the access is kept in %s", url, c.String("access"))
		},
	}
}

// signInAs signs in, and asks for what is wanted beside the password.
func (p *printer) signInAs(ctx context.Context, c *cli.Command, cl *client.Client, by client.Credentials) (err error) {
	if path := c.String("code-file"); path != "" {
		text, err := readFile(path)
		if err != nil {
			return err
		}
		by.Code = strings.TrimSpace(text)
	}
	if path := c.String("new-password-file"); path != "" {
		text, err := readFile(path)
		if err != nil {
			return err
		}
		by.NewPassword = strings.TrimRight(text, "\r\n")
	}
	err = cl.SignInBy(ctx, by)
	var no *client.Error
	if errors.As(err, &no) && no.Code == string(reason.CodeWanted) && by.Code == "" {
		if by.Code, err = askPassword("Code of your second factor"); err != nil {
			return Failing(ExitUsage, "%s: say --code-file FILE", no.Words)
		}
		err = cl.SignInBy(ctx, by)
	}
	if errors.Is(err, client.ErrMustChange) {
		if by.NewPassword, err = askPassword("Password of your own"); err != nil {
			return Failing(ExitUsage, "%w: say --new-password-file FILE", client.ErrMustChange)
		}
		err = cl.SignInBy(ctx, by)
	}
	return err
}

func passwordFile() cli.Flag {
	return &cli.StringFlag{Name: "password-file", Usage: "read the password from a file; - for standard input; none: ask"}
}

// readPassword never takes a password from the command line, where others could see it.
func readPassword(c *cli.Command, prompt string) (string, error) {
	switch path := c.String("password-file"); path {
	case "":
		return askPassword(prompt)
	case "-":
		b, err := io.ReadAll(io.LimitReader(os.Stdin, 4096))
		return strings.TrimRight(string(b), "\r\n"), err
	default:
		b, err := os.ReadFile(path)
		if err != nil {
			return "", Failing(ExitUsage, "password file: %w", err)
		}
		return strings.TrimRight(string(b), "\r\n"), nil
	}
}

func askPassword(prompt string) (string, error) {
	fmt.Fprint(os.Stderr, prompt+": ")
	b, err := term.ReadPassword(int(os.Stdin.Fd()))
	fmt.Fprintln(os.Stderr)
	if err != nil {
		return "", Failing(ExitUsage, "no password can be asked for here; read it from a file")
	}
	return string(b), nil
}

// call is a command that needs a service.
func call(f func(ctx context.Context, c *cli.Command, cl *client.Client) error) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		cl, err := connect(c)
		if err != nil {
			return err
		}
		return f(ctx, c, cl)
	}
}

// argument is a command's first word, which must be there.
func argument(c *cli.Command, what string) (string, error) {
	if c.Args().First() == "" {
		return "", Failing(ExitUsage, "yl %s: name the %s", c.FullName(), what)
	}
	return c.Args().First(), nil
}
