package probe

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strconv"
	"strings"

	"yellowlantern/internal/underlay"
)

// Held is what a code page says of the session that asks.
type Held struct {
	Held  bool   `json:"held"`
	Wrong string `json:"wrong,omitempty"` // with the code that was given
}

// giveCode gives the second factor on the code page, as a browser would; without a code it looks whether the session is held.
func (r *Report) giveCode(ctx context.Context, t *Tunnel, o Order, code string) {
	bounded, cancel := context.WithTimeout(ctx, wantTime)
	defer cancel()
	at, err := t.Code(bounded, o, code)
	switch {
	case err != nil:
		r.add("second factor", false, "", "the code page %s is not reached through the tunnel: %s", o.CodePage, err)
	case at.Held && at.Wrong != "":
		r.add("second factor", false, "", "the session is held: %s", at.Wrong)
	case at.Held:
		r.add("second factor", false, "", "the session is held until the code is given at %s: nothing else is reached", o.CodePage)
	default:
		r.add("second factor", true, "given: the session is not held", "")
	}
}

// Code asks the code page of an order whether the session is held, with a code if there is one.
func (t *Tunnel) Code(ctx context.Context, o Order, code string) (h Held, err error) {
	roots := x509.NewCertPool()
	if !roots.AppendCertsFromPEM([]byte(o.Authority)) {
		return h, fmt.Errorf("the order holds no authority")
	}
	method, body := http.MethodGet, ""
	if code != "" {
		method, body = http.MethodPost, url.Values{"code": {code}}.Encode()
	}
	ask, err := http.NewRequestWithContext(ctx, method, o.CodePage, strings.NewReader(body))
	if err != nil {
		return h, err
	}
	ask.Header.Set("Accept", "application/json")
	ask.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	c := http.Client{Transport: &http.Transport{
		DisableKeepAlives: true, TLSClientConfig: &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS12}, DialContext: t.dial,
	}}
	answer, err := c.Do(ask)
	if err != nil {
		return h, err
	}
	defer answer.Body.Close()
	return h, json.NewDecoder(answer.Body).Decode(&h)
}

// dial connects through the tunnel, with names as its device asks for them.
func (t *Tunnel) dial(ctx context.Context, _, address string) (net.Conn, error) {
	name, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	n, err := strconv.ParseUint(port, 10, 16)
	if err != nil {
		return nil, err
	}
	found, err := underlay.Resolve(ctx, tunnelPath{t}.DialUDP, t.Given.DNS, name)
	if err != nil {
		return nil, err
	}
	for _, a := range found {
		for _, mine := range t.Given.Addresses {
			if mine.Is4() == a.Is4() {
				return t.Stack.DialTCP(ctx, netip.AddrPortFrom(a, uint16(n)))
			}
		}
	}
	return nil, fmt.Errorf("%s has no address of a family that the tunnel carries", name)
}
