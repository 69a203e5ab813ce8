package instance

import (
	"cmp"
	"context"
	"crypto/tls"
	"fmt"
	"log/slog"
	"net"
	"slices"

	"yellowlantern/internal/app/trust"
	"yellowlantern/internal/core/fold"
	"yellowlantern/internal/doors"
)

// ConsoleCertificate is under which name the certificate of console and API is kept, where no other is given.
const ConsoleCertificate = "console"

// openTLS opens the ports for HTTP over TLS.
func openTLS(addresses []string) (opened []net.Listener, err error) {
	for _, a := range addresses {
		ln, err := net.Listen("tcp", a)
		if err != nil {
			closeAll(opened)
			return nil, fmt.Errorf("cannot listen on %s with TLS: %w; --listen-tls takes an address of this machine with a port, such as 10.20.0.1:8643", a, err)
		}
		opened = append(opened, doors.Bounded(ln, mostConnections, mostOfSource))
	}
	return opened, nil
}

// Connections that are open at a listener, and from one source at one that strangers reach: browsers have six or so each, and people of one
// office may share an address.
const (
	mostConnections = 2048
	mostOfSource    = 128
)

func closeAll(doors []net.Listener) {
	for _, d := range doors {
		_ = d.Close()
	}
}

// certify takes the certificate that is shown at doors with TLS.
func (i *Instance) certify(ctx context.Context, o Options, doors []net.Listener) error {
	if len(doors) == 0 {
		return nil
	}
	names := slices.Clone(o.Names)
	for _, d := range doors {
		at := d.Addr().(*net.TCPAddr).AddrPort()
		i.AddressesTLS = append(i.AddressesTLS, at)
		if a := fold.Addr(at.Addr()); !a.IsUnspecified() {
			names = append(names, a.WithZone("").String())
		}
	}
	i.App.Standing.Doors = i.AddressesTLS
	if len(names) == 0 {
		return fmt.Errorf("what is the console called, whose certificate is shown on %s? --name console.tern.example", doors[0].Addr())
	}
	shown, err := i.App.Trust.Show(ctx, trust.ByConsole, cmp.Or(o.Certificate, ConsoleCertificate), names)
	if err != nil {
		return fmt.Errorf("the console's certificate: %w", err)
	}
	// One server serves both kinds of doors, and readies itself for HTTP/2 at the first of them: it must know then.
	i.http.TLSConfig = &tls.Config{
		MinVersion: tls.VersionTLS13, GetCertificate: shown.Certificate, NextProtos: []string{"h2", "http/1.1"},
	}
	i.http.ErrorLog = slog.NewLogLogger(o.Log.Handler(), slog.LevelDebug) // of handshakes that strangers break off
	return nil
}

// URLs are where console and API are with TLS.
func (i *Instance) URLs() (out []string) {
	for _, a := range i.AddressesTLS {
		if a.Addr().IsUnspecified() {
			out = append(out, fmt.Sprintf("https://%s:%d", cmp.Or(first(i.names), "this machine"), a.Port()))
			continue
		}
		out = append(out, "https://"+fold.AddrPort(a).String())
	}
	return out
}

func first(all []string) string {
	if len(all) == 0 {
		return ""
	}
	return all[0]
}
