package cli

import (
	"bytes"
	"context"
	"crypto"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"yellowlantern/internal/client"
	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/people"
	"yellowlantern/internal/private"
	"yellowlantern/internal/probe"
)

// keyFlags are what a device proves itself with in place of a password.
func keyFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "key", Usage: "the private key by which this device proves itself, where the tunnel wants one (yl dial new-key makes it)"},
		&cli.StringFlag{Name: "certificate", Usage: "the certificate that was issued for it, where the tunnel wants one, with those between it and its authority below it"},
		&cli.StringFlag{Name: "shared-key-file", Usage: "file with the key that this person shares with the gateway, where the tunnel wants one"},
		&cli.StringFlag{Name: "mixed-in-key-file", Usage: "file with the key that is mixed into those for traffic, as yl users shared-keys make writes it"},
	}
}

// proof reads what an order's tunnel wants in place of a password, or before it; false: it wants a password.
func proof(c *cli.Command, o probe.Order, opt *probe.Options) (bool, error) {
	if err := mixesIn(c, o, opt); err != nil {
		return false, err
	}
	if o.Proof == "" {
		return false, nil
	}
	if o.Proof == plan.LoginSharedKey {
		var err error
		opt.SharedKey, err = secretFile(c, "shared-key-file", o.Tunnel)
		return true, err
	}
	if c.String("key") == "" {
		return true, Failing(ExitUsage, "tunnel %s wants a key in place of a password: say --key FILE (yl dial new-key makes one)",
			o.Tunnel)
	}
	b, err := os.ReadFile(c.String("key"))
	if err == nil {
		err = private.Check(c.String("key"))
	}
	if err == nil {
		opt.Key, err = readKey(b)
	}
	if err != nil {
		return true, Failing(ExitUsage, "key: %w", err)
	}
	if o.Proof == plan.LoginPublicKey {
		return true, nil
	}
	if c.String("certificate") == "" {
		return true, Failing(ExitUsage, "tunnel %s wants a certificate for the key: say --certificate FILE (yl users keys add issues it "+
			"for a signing request)", o.Tunnel)
	}
	if b, err = os.ReadFile(c.String("certificate")); err != nil {
		return true, Failing(ExitUsage, "certificate: %w", err)
	}
	block, rest := pem.Decode(b)
	if block == nil || block.Type != "CERTIFICATE" {
		return true, Failing(ExitUsage, "%s holds no certificate (PEM)", c.String("certificate"))
	}
	opt.Certificate, opt.Above = block.Bytes, nil
	for {
		if block, rest = pem.Decode(rest); block == nil {
			break
		}
		opt.Above = append(opt.Above, block.Bytes)
	}
	return o.Proof != plan.LoginBoth, nil
}

// mixesIn reads the key that is mixed in, where an order's tunnel takes one.
func mixesIn(c *cli.Command, o probe.Order, opt *probe.Options) error {
	if o.MixedIn == "" || o.MixedIn == plan.MixedInAccept && c.String("mixed-in-key-file") == "" {
		return nil
	}
	b, err := secretFile(c, "mixed-in-key-file", o.Tunnel)
	if err != nil {
		return err
	}
	id, secret, ok := strings.Cut(string(b), " ")
	if !ok || id == "" || secret == "" || strings.Contains(secret, " ") {
		return Failing(ExitUsage, "%s holds no key to mix in: its one line is what yl users shared-keys make --mixed-in wrote",
			c.String("mixed-in-key-file"))
	}
	opt.MixedInID, opt.MixedIn = id, []byte(secret)
	return nil
}

// secretFile reads the one line of a file that nobody else may read.
func secretFile(c *cli.Command, flag, tunnel string) ([]byte, error) {
	path := c.String(flag)
	if path == "" {
		return nil, Failing(ExitUsage, "tunnel %s wants a key that you share with the gateway: say --%s FILE (yl users shared-keys make)",
			tunnel, flag)
	}
	b, err := os.ReadFile(path)
	if err == nil {
		err = private.Check(path)
	}
	line := bytes.TrimRight(b, "\r\n")
	if err == nil && (len(line) == 0 || len(line) > 2*people.MostSharedKey || bytes.ContainsAny(line, "\r\n")) {
		err = fmt.Errorf("%s is to hold one line with the key", path)
	}
	if err != nil {
		return nil, Failing(ExitUsage, "%s: %w", flag, err)
	}
	return line, nil
}

func readKey(b []byte) (crypto.Signer, error) {
	block, _ := pem.Decode(b)
	if block == nil || block.Type != "PRIVATE KEY" {
		return nil, errors.New("the file holds no private key (PKCS #8, PEM)")
	}
	key, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		return nil, err
	}
	signer, ok := key.(crypto.Signer)
	if !ok {
		return nil, errors.New("the key cannot sign")
	}
	return signer, nil
}

// dialNewKey makes a key for this device, which it never leaves, and shows what the administrator needs of it.
func (p *printer) dialNewKey(_ context.Context, c *cli.Command) error {
	path, err := argument(c, "file")
	if err != nil {
		return err
	}
	if _, err := os.Stat(path); err == nil {
		return Failing(ExitUsage, "%s is there already: a key is not written over", path)
	}
	key, err := cert.NewKey(rand.Reader)
	if err != nil {
		return err
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	spki, err := x509.MarshalPKIXPublicKey(key.Public())
	if err != nil {
		return err
	}
	public := &pem.Block{Type: "PUBLIC KEY", Bytes: spki}
	if c.Bool("request") {
		about := &x509.CertificateRequest{Subject: pkix.Name{CommonName: "a device"}}
		request, err := x509.CreateCertificateRequest(rand.Reader, about, key)
		if err != nil {
			return err
		}
		public = &pem.Block{Type: "CERTIFICATE REQUEST", Bytes: request}
	}
	if err := private.Write(path, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})); err != nil {
		return Failing(ExitUsage, "%w", err)
	}
	shown := struct {
		Key         string `json:"key"`
		Fingerprint string `json:"fingerprint"`
		Public      string `json:"public"`
	}{path, cert.Fingerprint(spki), string(pem.EncodeToMemory(public))}
	if printed, err := p.value(shown); printed {
		return err
	}
	fmt.Fprintf(os.Stderr, "the private key is in %s, and never leaves this machine.\nfingerprint (SHA-256), which the administrator sees as well:\n  %s\ngive the administrator this:\n",
		path, shown.Fingerprint)
	fmt.Fprint(p.out, shown.Public)
	return nil
}

func userKeys(p *printer) *cli.Command {
	return &cli.Command{Name: "keys", Usage: "keys by which people prove who they are, in place of passwords", Commands: []*cli.Command{
		{Name: "list", Usage: "list them, of one person or of everybody", ArgsUsage: "[USER]", Flags: []cli.Flag{filterFlag()}, Action: call(p.keyList)},
		{Name: "add", Usage: "give a person the key of a device; for a signing request a certificate is issued and printed", ArgsUsage: "USER", Flags: []cli.Flag{
			&cli.StringFlag{Name: "public", Usage: "file with the public key or signing request, PEM; - for standard input", Required: true},
			&cli.StringFlag{Name: "device", Usage: "what the key is on, in your words"},
		}, Action: call(p.keyAdd)},
		{Name: "revoke", Usage: "take a key back: what its device has open ends at once", ArgsUsage: "FINGERPRINT", Action: call(func(ctx context.Context, c *cli.Command, cl *client.Client) error {
			fingerprint, err := argument(c, "fingerprint")
			if err != nil {
				return err
			}
			if err := cl.Do(ctx, "DELETE", "/keys/"+fingerprint, nil, nil); err != nil {
				return err
			}
			return p.done("key %s counts no more", fingerprint)
		})},
		{Name: "invite", Usage: "let a device have a certificate for a key that it makes itself (SCEP, RFC 8894), once", ArgsUsage: "USER", Flags: []cli.Flag{
			&cli.StringFlag{Name: "device", Usage: "what the key is on, in your words"},
			&cli.IntFlag{Name: "hours", Usage: "for how long the invitation counts", Value: 48},
		}, Action: named("user", p.invite)},
		{Name: "invitations", Usage: "list invitations, of one person or of everybody", ArgsUsage: "[USER]", Flags: []cli.Flag{filterFlag()}, Action: call(p.invitations)},
		{Name: "withdraw", Usage: "take an invitation back", ArgsUsage: "ID", Action: named("invitation", func(ctx context.Context, _ *cli.Command, cl *client.Client, id string) error {
			if err := cl.Do(ctx, "DELETE", "/invitations/"+id, nil, nil); err != nil {
				return err
			}
			return p.done("invitation %s counts no more", id)
		})},
	}}
}

func (p *printer) keyList(ctx context.Context, c *cli.Command, cl *client.Client) error {
	ks, err := client.Get[[]people.Key](ctx, cl, client.Query("/keys", "user", c.Args().First()))
	if err != nil {
		return err
	}
	shown := []people.Key{}
	var rows [][]string
	for _, k := range ks {
		state := "counts"
		switch {
		case !k.Revoked.IsZero():
			state = "taken back on " + k.Revoked.Local().Format("2006-01-02")
		case !k.Expires.IsZero():
			state = "until " + k.Expires.Local().Format("2006-01-02")
		}
		kind := k.Kind
		if k.Authority != "" {
			kind += " of " + k.Authority
		}
		row := []string{k.User, k.Device, kind, k.Added.Local().Format("2006-01-02"), state, k.Fingerprint}
		if matches(c.String("filter"), row...) {
			rows, shown = append(rows, row), append(shown, k)
		}
	}
	if printed, err := p.value(shown); printed {
		return err
	}
	p.table([]string{"user", "device", "kind", "added", "state", "fingerprint"}, rows)
	return nil
}

func (p *printer) keyAdd(ctx context.Context, c *cli.Command, cl *client.Client) error {
	user, err := argument(c, "user")
	if err != nil {
		return err
	}
	var public []byte
	if path := c.String("public"); path == "-" {
		public, err = io.ReadAll(io.LimitReader(os.Stdin, 16<<10))
	} else {
		public, err = os.ReadFile(path)
	}
	if err != nil {
		return Failing(ExitUsage, "public: %w", err)
	}
	var k people.Key
	given := map[string]string{"device": c.String("device"), "public": string(public)}
	if err := cl.Do(ctx, "POST", "/users/"+user+"/keys", given, &k); err != nil {
		return err
	}
	if printed, err := p.value(k); printed {
		return err
	}
	fmt.Fprintf(os.Stderr, "%s has one more key; its fingerprint (SHA-256), which the device shows as well:\n  %s\n", user,
		k.Fingerprint)
	if k.Certificate != "" {
		fmt.Fprintln(os.Stderr, "its certificate, for the device:")
		fmt.Fprint(p.out, k.Certificate)
	}
	return nil
}
