package nameupdate

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"yellowlantern/internal/core/plan"
)

const (
	callTime   = 10 * time.Second
	mostAnswer = 1 << 16
	mostQuoted = 120 // of an answer, in what is said of it
)

// Caller carries out a call of a plan.
type Caller struct {
	plan.NameCall
	Value string         // of its secret; empty: it has none
	Roots *x509.CertPool // nil: the system's
}

// To is whom it speaks to: host and port.
func (c Caller) To() (string, error) {
	u, err := url.Parse(c.Expand(c.URL, "", nil))
	if err != nil || u.Host == "" {
		return "", fmt.Errorf("%q is no address of a page", c.URL)
	}
	return net.JoinHostPort(u.Hostname(), cmp.Or(u.Port(), map[string]string{"http": "80"}[u.Scheme], "443")), nil
}

// Do makes the call. ErrRefused says that it was answered by something else than success. Redirections are not followed: the secret is for
// whom the plan names.
func (c Caller) Do(ctx context.Context, name string, addrs []netip.Addr) error {
	ctx, stop := context.WithTimeout(ctx, callTime)
	defer stop()
	var body io.Reader
	if c.Body != "" {
		body = strings.NewReader(c.Expand(c.Body, name, addrs))
	}
	req, err := http.NewRequestWithContext(ctx, strings.ToUpper(cmp.Or(c.Method, "post")), c.Expand(c.URL, name, addrs), body)
	if err != nil {
		return fmt.Errorf("%q is no address of a page", c.URL)
	}
	req.Header.Set("User-Agent", "yellow-lantern")
	if c.Type != "" {
		req.Header.Set("Content-Type", c.Type)
	}
	switch {
	case c.Value == "":
	case c.User != "":
		req.SetBasicAuth(c.User, c.Value)
	case c.Header != "":
		req.Header.Set(c.Header, c.Value)
	default:
		req.Header.Set("Authorization", "Bearer "+c.Value)
	}
	client := &http.Client{
		Transport:     &http.Transport{TLSClientConfig: &tls.Config{MinVersion: tls.VersionTLS12, RootCAs: c.Roots}, ForceAttemptHTTP2: true},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	defer client.CloseIdleConnections()
	resp, err := client.Do(req)
	if err != nil {
		var u *url.Error
		if errors.As(err, &u) { // which names the whole address: a token may stand in it after all
			err = u.Err
		}
		return fmt.Errorf("%s is not reached: %w", req.URL.Host, err)
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(io.LimitReader(resp.Body, mostAnswer))
	if err != nil {
		return fmt.Errorf("the answer of %s: %w", req.URL.Host, err)
	}
	return c.judge(resp.StatusCode, strings.ToValidUTF8(string(b), "�"))
}

// echoes tells whether a text holds the secret as it was sent, or as a page may show what was sent: some services answer with the request,
// Authorization included.
func (c Caller) echoes(text string) bool {
	if c.Value == "" {
		return false
	}
	dense := func(s string) string { return strings.ToLower(strings.Join(strings.Fields(s), "")) }
	text = dense(text)
	quoted, _ := json.Marshal(c.Value)
	for _, value := range []string{c.Value, c.User + ":" + c.Value} {
		for _, shown := range []string{
			value, url.QueryEscape(value), url.PathEscape(value), html.EscapeString(value), hex.EncodeToString([]byte(value)),
			strings.TrimRight(base64.StdEncoding.EncodeToString([]byte(value)), "="), base64.RawURLEncoding.EncodeToString([]byte(value)),
			strings.Trim(string(quoted), `"`),
		} {
			if strings.Contains(text, dense(shown)) {
				return true
			}
		}
	}
	return false
}

// judge tells whether an answer means success.
func (c Caller) judge(status int, text string) error {
	whole := text
	if text = strings.ReplaceAll(text, cmp.Or(c.Value, "\x00"), "(the secret)"); c.echoes(text) {
		text = "(what was sent, with the secret)"
	}
	quoted := []rune(strings.Join(strings.Fields(text), " "))
	if len(quoted) > mostQuoted {
		quoted = append(quoted[:mostQuoted], '…')
	}
	said := fmt.Sprintf("it answers %d, %q", status, string(quoted))
	switch {
	case status >= 300 && status < 400:
		return fmt.Errorf("%w: it answers %d, and redirections are not followed; name the address that it leads to", ErrRefused, status)
	case status < 200 || status > 299:
		return fmt.Errorf("%w: %s; check user, secret and address", ErrRefused, said)
	case len(c.Answers) > 0 && !slices.ContainsFunc(c.Answers, func(want string) bool { return strings.Contains(whole, want) }):
		return fmt.Errorf("%w: %s, which holds none of %s", ErrRefused, said, strings.Join(c.Answers, ", "))
	}
	return nil
}
