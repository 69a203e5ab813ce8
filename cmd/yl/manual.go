package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	docs "github.com/urfave/cli-docs/v3"
	urfave "github.com/urfave/cli/v3"

	"yellowlantern/internal/cli"
)

// manual writes what a package of the program holds beside it: the man page, made of the command tree, and a configuration file with
// comments for each process, made of its options.
func manual() *urfave.Command {
	return &urfave.Command{
		Name: "manual", Usage: "write man page and configuration files into a folder, for whoever makes a package", ArgsUsage: "FOLDER", Hidden: true,
		Action: func(_ context.Context, c *urfave.Command) error {
			folder := c.Args().First()
			if folder == "" {
				return cli.Failing(cli.ExitUsage, "name a folder")
			}
			page, err := docs.ToManWithSection(c.Root(), 8)
			if err != nil {
				return err
			}
			files := map[string]string{
				"yl.8":         page,
				"service.conf": configuration(serve(), "yellow-lantern", "gateway", "gateway-user", "site-lab"),
				"gateway.conf": configuration(runGateway(), "yellow-lantern-gateway", "socket", "service-user"),
			}
			for name, text := range files {
				if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644); err != nil {
					return err
				}
			}
			return nil
		},
	}
}

// configuration is a process's options as variables, with their defaults, all of them comments. Those that the unit gives are left out, and
// of serve those of a gateway in the same process.
func configuration(c *urfave.Command, unit string, but ...string) string {
	if c.Name == "serve" {
		for _, f := range append(gatewayFlags("", "", ""), insideFlags()...) {
			if name := f.Names()[0]; name != "data" && name != "verbose" {
				but = append(but, name)
			}
		}
	}
	var b strings.Builder
	fmt.Fprintf(&b, "# Options of yl %s on this machine. Take the # away to set one, then: systemctl restart %s\n", c.Name, unit)
	for _, f := range c.Flags {
		name := f.Names()[0]
		if slices.Contains(but, name) {
			continue
		}
		var usage, value, variable string
		switch f := f.(type) {
		case *urfave.StringFlag:
			usage, value, variable = f.Usage, f.Value, f.Sources.EnvKeys()[0]
		case *urfave.StringSliceFlag:
			usage, value, variable = f.Usage, strings.Join(f.Value, ","), f.Sources.EnvKeys()[0]
		case *urfave.IntFlag:
			usage, value, variable = f.Usage, fmt.Sprint(f.Value), f.Sources.EnvKeys()[0]
		case *urfave.BoolFlag:
			usage, value, variable = f.Usage, fmt.Sprint(f.Value), f.Sources.EnvKeys()[0]
		}
		usage = strings.ReplaceAll(usage, "by repeating it", "with commas between them")
		fmt.Fprintf(&b, "\n# --%s: %s\n#%s=%s\n", name, usage, variable, value)
	}
	return b.String()
}
