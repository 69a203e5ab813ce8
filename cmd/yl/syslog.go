package main

import (
	"crypto/tls"
	"crypto/x509"
	"net"
	"os"

	urfave "github.com/urfave/cli/v3"

	"yellowlantern/internal/cli"
	"yellowlantern/internal/instance"
)

// collector is where lines of the journal are sent on to; nil: nowhere.
func collector(c *urfave.Command) (*instance.Collector, error) {
	to := c.String("syslog")
	if to == "" {
		return nil, nil
	}
	if host, port, err := net.SplitHostPort(to); err != nil || host == "" || port == "" {
		return nil, cli.Failing(cli.ExitUsage, "--syslog takes a host and a port, such as logs.tern.example:6514")
	}
	out := &instance.Collector{Address: to}
	if path := c.String("syslog-authority"); path != "" {
		text, err := os.ReadFile(path)
		if err != nil {
			return nil, cli.Failing(cli.ExitUsage, "syslog authority: %w", err)
		}
		if out.Roots = x509.NewCertPool(); !out.Roots.AppendCertsFromPEM(text) {
			return nil, cli.Failing(cli.ExitUsage, "--syslog-authority: %s holds no certificate, PEM", path)
		}
	}
	if path := c.String("syslog-certificate"); path != "" {
		pair, err := tls.LoadX509KeyPair(path, path)
		if err != nil {
			return nil, cli.Failing(cli.ExitUsage, "--syslog-certificate: %w", err)
		}
		out.Certificate = &pair
	}
	return out, nil
}
