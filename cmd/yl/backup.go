package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	urfave "github.com/urfave/cli/v3"

	"yellowlantern/internal/backup"
	"yellowlantern/internal/cli"
)

func backupFlags() []urfave.Flag {
	return []urfave.Flag{
		&urfave.StringFlag{Name: "data", Usage: "the service's folder", Value: "/var/lib/yellow-lantern"},
		&urfave.StringFlag{Name: "passphrase-file", Usage: "the passphrase that secrets are sealed under is in this file"},
	}
}

// asJSON prints a value for programs.
func asJSON(v any) error {
	out := json.NewEncoder(os.Stdout)
	out.SetIndent("", "  ")
	return out.Encode(v)
}

// plainly is a backup without its sealed key.
func plainly(m backup.Manifest) backup.Manifest {
	m.Key = nil
	return m
}

func passphrase(c *urfave.Command) ([]byte, error) {
	path := c.String("passphrase-file")
	if path == "" {
		return nil, nil
	}
	b, err := os.ReadFile(path)
	if err != nil {
		return nil, cli.Failing(cli.ExitUsage, "passphrase: %w", err)
	}
	return bytes.TrimRight(b, "\r\n"), nil
}

func makeBackup() *urfave.Command {
	return &urfave.Command{
		Name: "backup", Usage: "write everything that the service holds into a file, also while it runs", ArgsUsage: "FILE",
		Flags: append(backupFlags(),
			&urfave.BoolFlag{Name: "without-secrets", Usage: "leave out keys, passwords, tokens and administrators"}),
		Action: func(_ context.Context, c *urfave.Command) error {
			pass, err := passphrase(c)
			if err != nil {
				return err
			}
			switch path := c.Args().First(); {
			case path == "":
				return cli.Failing(cli.ExitUsage, "name the file")
			case (pass == nil) != c.Bool("without-secrets"):
				return cli.Failing(cli.ExitUsage, "give --passphrase-file FILE, or --without-secrets")
			default:
				m, err := backup.Write(c.String("data"), path, cli.Version(), pass)
				if err != nil {
					return cli.Failing(cli.ExitRefused, "%w", err)
				}
				if c.Bool("json") {
					return asJSON(plainly(m))
				}
				with := "with secrets, which the passphrase opens"
				if !m.Secrets {
					with = "without secrets"
				}
				fmt.Printf("%s holds everything as it was at %s, %s\n", path, m.At.Local().Format("15:04:05"), with)
				return nil
			}
		},
	}
}

// installedFolder and installedUnit are those of the package.
const (
	installedFolder = "/var/lib/yellow-lantern"
	installedUnit   = "yellow-lantern.service"
)

func restore() *urfave.Command {
	return &urfave.Command{
		Name: "restore", Usage: "put a backup in the place of what the service holds; what was there is kept aside", ArgsUsage: "FILE",
		Flags: backupFlags(),
		Action: func(ctx context.Context, c *urfave.Command) error {
			pass, err := passphrase(c)
			if err != nil {
				return err
			}
			path := c.Args().First()
			if path == "" {
				return cli.Failing(cli.ExitUsage, "name the file")
			}
			m, err := backup.Look(path)
			if err != nil {
				return cli.Failing(cli.ExitUsage, "%w", err)
			}
			if m.Secrets && pass == nil {
				return cli.Failing(cli.ExitUsage, "it holds secrets: give --passphrase-file FILE")
			}
			start, err := stopInstalled(ctx, c.String("data"))
			if err != nil {
				return cli.Failing(cli.ExitRefused, "%w; nothing was changed", err)
			}
			m, aside, err := backup.Restore(path, c.String("data"), pass)
			again := start() // also where nothing was changed
			if err != nil {
				return cli.Failing(cli.ExitRefused, "%w; nothing was changed", errors.Join(err, again))
			}
			if c.Bool("json") {
				if err := asJSON(struct {
					backup.Manifest
					Aside string `json:"kept-aside,omitempty"`
				}{plainly(m), aside}); err != nil {
					return err
				}
				return again
			}
			fmt.Printf("%s is as it was at %s\n", c.String("data"), m.At.Local().Format("2006-01-02 15:04:05 MST"))
			if aside != "" {
				fmt.Printf("what was there is kept in %s: remove it when all is well\n", aside)
			}
			if !m.Secrets {
				fmt.Println("without secrets: the first start prints a code to name an administrator with, people need new passwords, and certificates are to be made or imported again")
			}
			return again
		},
	}
}

// stopInstalled stops the installed service, where it runs and the folder is its own, and gives what starts it again.
func stopInstalled(ctx context.Context, folder string) (start func() error, err error) {
	none := func() error { return nil }
	if filepath.Clean(folder) != installedFolder || !managed(ctx) {
		return none, nil
	}
	if out, err := exec.CommandContext(ctx, "systemctl", "stop", installedUnit).CombinedOutput(); err != nil {
		return none, fmt.Errorf("the service cannot be stopped: %s: %w", strings.TrimSpace(string(out)), err)
	}
	return func() error {
		out, err := exec.CommandContext(context.WithoutCancel(ctx), "systemctl", "start", installedUnit).CombinedOutput()
		if err != nil {
			return cli.Failing(cli.ExitRefused, "the service does not start: %s; look at journalctl -u yellow-lantern",
				strings.TrimSpace(string(out)))
		}
		return nil
	}, nil
}

// managed tells whether the installed service runs, or is about to.
func managed(ctx context.Context) bool {
	if _, err := os.Stat("/run/systemd/system"); err != nil {
		return false
	}
	out, _ := exec.CommandContext(ctx, "systemctl", "is-active", installedUnit).Output()
	state := strings.TrimSpace(string(out))
	return state == "active" || state == "activating" || state == "reloading"
}
