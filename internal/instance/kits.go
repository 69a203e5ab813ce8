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
	"sync"
	"time"

	"yellowlantern/internal/app"
	"yellowlantern/internal/app/trust"
	"yellowlantern/internal/guard"
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
	case len(o.ListenKits) > 0 || len(o.Names) == 0: // the plan says it, or nobody does
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
	pages := &kitPages{app: i.App, otherwise: cmp.Or(o.KitsCertificate, KitsCertificate)}
	if pages.host() != "" {
		if _, err := pages.shows(ctx); err != nil {
			return fmt.Errorf("the certificate of the pages of kits: %w", err)
		}
	}
	i.kits = &http.Server{
		Handler: server.Kits(pages.host), ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 30 * time.Second, WriteTimeout: time.Minute,
		IdleTimeout: time.Minute, MaxHeaderBytes: 16 << 10, HTTP2: &http.HTTP2Config{MaxConcurrentStreams: 16},
		// Phones of some years ago have no newer version.
		TLSConfig: &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: pages.certificate, NextProtos: []string{"h2", "http/1.1"}},
		ErrorLog:  slog.NewLogLogger(o.Log.Handler(), slog.LevelDebug),
	}
	for _, door := range doors {
		i.AddressesKits = append(i.AddressesKits, door.Addr().(*net.TCPAddr).AddrPort())
		guard.Go("http.kits", func() { i.serve(func() error { return i.kits.ServeTLS(door, "", "") }) })
	}
	return nil
}

// kitPages are by which name the pages of kits are called, and with which certificate: as the plan says that runs, or the options.
type kitPages struct {
	app       *app.App
	otherwise string // certificate

	mu         sync.Mutex // guards what follows
	as, called string
	shown      *trust.Shown
}

// host is what they are called; empty: nobody has said.
func (k *kitPages) host() string {
	at, _ := k.app.Kits()
	u, err := url.Parse(at)
	if err != nil {
		return ""
	}
	return u.Hostname()
}

func (k *kitPages) shows(ctx context.Context) (*trust.Shown, error) {
	_, name := k.app.Kits()
	name = cmp.Or(name, k.otherwise)
	host := k.host()
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.shown != nil && k.as == name && k.called == host {
		return k.shown, nil
	}
	shown, err := k.app.Trust.Show(ctx, trust.ByKits, name, []string{host})
	if err == nil {
		k.shown, k.as, k.called = shown, name, host
	}
	return shown, err
}

func (k *kitPages) certificate(hello *tls.ClientHelloInfo) (*tls.Certificate, error) {
	if k.host() == "" {
		return nil, errors.New("nobody has said what the pages of kits are called: kits-at in the plan, or --kits-at")
	}
	shown, err := k.shows(hello.Context())
	if err != nil {
		return nil, err
	}
	return shown.Certificate(hello)
}
