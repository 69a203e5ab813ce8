// Package client is the typed client of the service's HTTP API, for the command line and for tests.
package client

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"
)

// Client talks to one service.
type Client struct {
	URL   string // such as http://127.0.0.1:8600
	Token string
	HTTP  *http.Client
	// Progress is told how far the service is with what a call waits for, where it takes longer; empty words: it is over. Nil: nobody is.
	Progress func(words string)

	cookie string // of a sign-in that goes on
}

// Error is a refusal by the service.
type Error struct {
	Status int
	Code   string // why, by the codes of docs/reasons.md; empty: none
	Words  string
}

func (e *Error) Error() string { return e.Words }

// ErrUnreachable says that no service answers.
var ErrUnreachable = errors.New("the service does not answer")

// New makes a client.
func New(base, token string) *Client {
	return &Client{URL: strings.TrimRight(base, "/"), Token: token, HTTP: &http.Client{}}
}

// Trusting makes a client that trusts an authority beside those of the system; its certificate is PEM.
func Trusting(base, token, authority string) (*Client, error) {
	c := New(base, token)
	if authority == "" {
		return c, nil
	}
	roots, err := x509.SystemCertPool()
	if err != nil {
		roots = x509.NewCertPool()
	}
	if !roots.AppendCertsFromPEM([]byte(authority)) {
		return nil, errors.New("the authority's certificate is no PEM: yl certificate authority prints it")
	}
	c.HTTP.Transport = &http.Transport{
		TLSClientConfig: &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS13}, ForceAttemptHTTP2: true, Proxy: http.ProxyFromEnvironment,
	}
	return c, nil
}

// Do makes a call; in and out may be nil.
func (c *Client) Do(ctx context.Context, method, path string, in, out any) error {
	_, err := c.do(ctx, method, path, in, out)
	return err
}

// patience is how long a call may take that says nothing else, from when the service was last seen working on it.
const patience = 60 * time.Second

func (c *Client) do(ctx context.Context, method, path string, in, out any) (http.Header, error) {
	if _, bounded := ctx.Deadline(); !bounded {
		var stop func()
		ctx, stop = c.watched(ctx)
		defer stop()
	}
	resp, err := c.send(ctx, method, path, in)
	if err != nil {
		if why := context.Cause(ctx); errors.Is(why, errSilent) {
			err = fmt.Errorf("%w at %s: %w", ErrUnreachable, c.URL, why)
		}
		return nil, err
	}
	return read(resp, out)
}

// read takes an answer in; out may be nil.
func read(resp *http.Response, out any) (http.Header, error) {
	defer resp.Body.Close()
	b, err := io.ReadAll(io.LimitReader(resp.Body, 256<<20))
	if err != nil {
		return nil, err
	}
	if out == nil || len(b) == 0 {
		return resp.Header, nil
	}
	if err := json.Unmarshal(b, out); err != nil {
		return nil, fmt.Errorf("the service's answer cannot be read: %w", err)
	}
	return resp.Header, nil
}

// Stream copies what a call answers, as it comes. It gives how many octets there were.
func (c *Client) Stream(ctx context.Context, path string, to io.Writer) (int64, error) {
	return c.Fetch(ctx, http.MethodGet, path, nil, to)
}

// Fetch makes a call and copies what it answers.
func (c *Client) Fetch(ctx context.Context, method, path string, in any, to io.Writer) (int64, error) {
	resp, err := c.send(ctx, method, path, in)
	if err != nil {
		return 0, err
	}
	defer resp.Body.Close()
	return io.Copy(to, resp.Body)
}

// goesOn is the code of a refusal that says to ask again: what is asked for is being worked out, and one call takes half a minute at most.
const goesOn = "computing-goes-on"

// send makes a call. Refusals are errors.
func (c *Client) send(ctx context.Context, method, path string, in any) (*http.Response, error) {
	var body []byte
	if in != nil {
		var err error
		if body, err = json.Marshal(in); err != nil {
			return nil, err
		}
	}
	for {
		resp, err := c.once(ctx, method, path, body)
		var no *Error
		if !errors.As(err, &no) || no.Code != goesOn || ctx.Err() != nil {
			return resp, err
		}
	}
}

func (c *Client) once(ctx context.Context, method, path string, in []byte) (*http.Response, error) {
	var body io.Reader
	if in != nil {
		body = bytes.NewReader(in)
	}
	req, err := http.NewRequestWithContext(ctx, method, c.URL+"/api/v1"+path, body)
	if err != nil {
		return nil, err
	}
	req.Header.Set("Content-Type", "application/json")
	if c.Token != "" {
		req.Header.Set("Authorization", "Bearer "+c.Token)
	}
	if c.cookie != "" {
		req.Header.Set("Cookie", c.cookie)
	}
	resp, err := c.HTTP.Do(req)
	if err != nil {
		return nil, fmt.Errorf("%w at %s: is it running? (%v)", ErrUnreachable, c.URL, err)
	}
	if resp.StatusCode >= 300 {
		defer resp.Body.Close()
		b, err := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
		if err != nil {
			return nil, err
		}
		return nil, problem(b, resp)
	}
	return resp, nil
}

// problem reads an RFC 9457 problem document.
func problem(b []byte, resp *http.Response) *Error {
	var p struct {
		Code   string `json:"code"`
		Detail string `json:"detail"`
		Errors []struct {
			Message  string `json:"message"`
			Location string `json:"location"`
		} `json:"errors"`
	}
	if json.Unmarshal(b, &p) != nil || p.Detail == "" {
		return &Error{Status: resp.StatusCode, Words: resp.Status}
	}
	for _, e := range p.Errors {
		p.Detail += fmt.Sprintf("\n  %s: %s", strings.TrimPrefix(e.Location, "body."), e.Message)
	}
	return &Error{resp.StatusCode, p.Code, p.Detail}
}

// SignIn gets an API token for an administrator.
func (c *Client) SignIn(ctx context.Context, name, password, purpose string) error {
	return c.SignInBy(ctx, Credentials{Name: name, Password: password, Purpose: purpose})
}

// Credentials are by what somebody signs in, and what the token is for that they get.
type Credentials struct {
	Name, Password string
	Code           string // of a second factor; empty: none
	NewPassword    string // to choose where the password was made for them; empty: ErrMustChange then
	Purpose, Role  string // of the token
}

// ErrMustChange is where a password counts only to choose another with.
var ErrMustChange = errors.New("this password was made for you: choose one of your own")

// SignInBy signs in, and keeps a token.
func (c *Client) SignInBy(ctx context.Context, by Credentials) error {
	var who struct {
		MustChange bool `json:"must-change"`
	}
	in := map[string]string{"name": by.Name, "password": by.Password}
	if by.Code != "" {
		in["code"] = by.Code
	}
	head, err := c.do(ctx, "POST", "/sign-in", in, &who)
	if err != nil {
		return err
	}
	signed := *c
	signed.Token, signed.cookie = "", strings.SplitN(head.Get("Set-Cookie"), ";", 2)[0]
	if who.MustChange {
		if by.NewPassword == "" {
			return ErrMustChange
		}
		if err := signed.Do(ctx, "PUT", "/me/password", map[string]string{"password": by.Password, "new": by.NewPassword},
			nil); err != nil {
			return err
		}
	}
	var out struct {
		Token string `json:"token"`
	}
	want := map[string]string{"name": by.Purpose}
	if by.Role != "" {
		want["role"] = by.Role
	}
	if err := signed.Do(ctx, "POST", "/tokens", want, &out); err != nil {
		return err
	}
	if out.Token == "" {
		return errors.New("no token was given")
	}
	c.Token = out.Token
	return signed.Do(ctx, "POST", "/sign-out", nil, nil) // the token is enough
}

// Query writes a path with its parameters; empty values are left out.
func Query(path string, pairs ...string) string {
	v := url.Values{}
	for i := 0; i+1 < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			v.Add(pairs[i], pairs[i+1])
		}
	}
	if len(v) == 0 {
		return path
	}
	return path + "?" + v.Encode()
}

// Get makes a call that only reads.
func Get[T any](ctx context.Context, c *Client, path string) (T, error) {
	var out T
	err := c.Do(ctx, "GET", path, nil, &out)
	return out, err
}
