package instance

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"time"

	"yellowlantern/internal/app/trust"
	"yellowlantern/internal/httpapi"
)

// KitsCertificate is under which name the certificate of the pages of kits is kept, where no other is given.
const KitsCertificate = "kits"

var errKitsAt = errors.New("where do people reach the pages of kits? --kits-at https://kits.tern.example, with a port where it is not 443")

// at is where people reach what is open to them: as it is said, or by the service's first name and the port that it is open at.
func (o Options) at(doors []net.Listener) (string, error) {
	switch u, err := url.Parse(o.KitsAt); {
	case o.KitsAt != "" && (err != nil || u.Scheme != "https" || u.Hostname() == "" || u.User != nil || u.RawQuery != "" || u.Path != ""):
		return "", fmt.Errorf("--kits-at %q: %w", o.KitsAt, errKitsAt)
	case o.KitsAt != "":
		return o.KitsAt, nil
	case len(o.ListenKits) > 0:
		return "", errKitsAt
	case len(o.Names) == 0:
		return "", nil
	case len(doors) > 0:
		if port := doors[0].Addr().(*net.TCPAddr).Port; port != 443 {
			return fmt.Sprintf("https://%s:%d", o.Names[0], port), nil
		}
	}
	return "https://" + o.Names[0], nil
}

// openKits opens the pages of kits at doors of their own, so that they can be reached from where the console must not be.
func (i *Instance) openKits(ctx context.Context, o Options, doors []net.Listener, server *httpapi.Server) error {
	if len(doors) == 0 {
		return nil
	}
	u, err := url.Parse(o.KitsAt)
	if err != nil {
		return err
	}
	shown, err := i.App.Trust.Show(ctx, trust.ByKits, cmp.Or(o.KitsCertificate, KitsCertificate), []string{u.Hostname()})
	if err != nil {
		return fmt.Errorf("the certificate of the pages of kits: %w", err)
	}
	i.kits = &http.Server{
		Handler: server.Kits(u.Hostname()), ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 30 * time.Second, WriteTimeout: time.Minute,
		IdleTimeout: time.Minute, MaxHeaderBytes: 16 << 10,
		// Phones of some years ago have no newer version.
		TLSConfig: &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: shown.Certificate, NextProtos: []string{"h2", "http/1.1"}},
		ErrorLog:  slog.NewLogLogger(o.Log.Handler(), slog.LevelDebug),
	}
	for _, door := range doors {
		i.AddressesKits = append(i.AddressesKits, door.Addr().(*net.TCPAddr).AddrPort())
		go i.serve(func() error { return i.kits.ServeTLS(door, "", "") })
	}
	return nil
}
