package connection

import (
	"bytes"
	"context"
	"crypto"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"strings"
	"sync"
	"time"

	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/private"
)

const (
	renewalPace = 12 * time.Hour // between two looks at when the certificate ends
	renewalTime = 30 * time.Second
)

// Renewer keeps the certificate of a device's key from ending.
type Renewer struct {
	Service   string // where it is renewed: an address of the service's
	Authority string // of which the service's own certificate may be, PEM
	Key       crypto.Signer
	File      string // where the certificate is kept
	Log       *slog.Logger

	mu  sync.Mutex
	der []byte
}

// Shows begins with a certificate, DER.
func (r *Renewer) Shows(der []byte) *Renewer {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.der = der
	return r
}

// Chain is what the device shows now.
func (r *Renewer) Chain() [][]byte {
	r.mu.Lock()
	defer r.mu.Unlock()
	return [][]byte{r.der}
}

// Run has it renewed in its last days, until the context ends.
func (r *Renewer) Run(ctx context.Context) {
	t := time.NewTicker(renewalPace)
	defer t.Stop()
	for {
		if renewed, err := r.Renew(ctx, time.Now()); err != nil {
			r.Log.Warn("this device's certificate is not renewed yet", "error", err)
		} else if renewed {
			r.Log.Info("this device's certificate was renewed", "file", r.File)
		}
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
	}
}

// Renew asks for a newer certificate where the present one is in its last days, and keeps it in the place of that.
func (r *Renewer) Renew(ctx context.Context, now time.Time) (bool, error) {
	leaf, err := x509.ParseCertificate(r.Chain()[0])
	if err != nil || leaf.NotAfter.Sub(now) > cert.RenewWithin {
		return false, err
	}
	request, err := x509.CreateCertificateRequest(rand.Reader, &x509.CertificateRequest{Subject: pkix.Name{CommonName: "a device"}}, r.Key)
	if err != nil {
		return false, err
	}
	der, err := r.ask(ctx, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE REQUEST", Bytes: request}))
	if err != nil {
		return false, err
	}
	next, err := x509.ParseCertificate(der)
	switch {
	case err != nil:
		return false, err
	case !bytes.Equal(next.RawSubjectPublicKeyInfo, leaf.RawSubjectPublicKeyInfo):
		return false, errors.New("the service answers with the certificate of another key")
	case !next.NotAfter.After(leaf.NotAfter):
		return false, nil
	}
	if err := private.Write(r.File, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})); err != nil {
		return false, err
	}
	r.Shows(der)
	return true, nil
}

// ask sends the request to the service, which is believed by the kit's authority or by this machine's.
func (r *Renewer) ask(ctx context.Context, request []byte) ([]byte, error) {
	roots, err := x509.SystemCertPool()
	if err != nil {
		roots = x509.NewCertPool()
	}
	roots.AppendCertsFromPEM([]byte(r.Authority))
	client := &http.Client{
		Timeout:       renewalTime,
		Transport:     &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS12}, DisableKeepAlives: true},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	b, err := json.Marshal(map[string]string{"request": string(request)})
	if err != nil {
		return nil, err
	}
	asks, err := http.NewRequestWithContext(ctx, http.MethodPost, strings.TrimSuffix(r.Service, "/")+"/api/v1/renewals", bytes.NewReader(b))
	if err != nil {
		return nil, err
	}
	asks.Header.Set("Content-Type", "application/json")
	answer, err := client.Do(asks)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	body, err := io.ReadAll(io.LimitReader(answer.Body, 64<<10))
	if err != nil {
		return nil, err
	}
	var said struct{ PEM, Detail string }
	_ = json.Unmarshal(body, &said)
	block, _ := pem.Decode([]byte(said.PEM))
	if answer.StatusCode != http.StatusOK || block == nil {
		return nil, fmt.Errorf("%s answers %s: %s", r.Service, answer.Status, said.Detail)
	}
	return block.Bytes, nil
}
