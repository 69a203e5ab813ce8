package enrolled

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"yellowlantern/internal/guard"
	"yellowlantern/internal/private"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/underlay"
)

const (
	atOnce    = 4 // jobs
	callTime  = time.Minute
	soonest   = time.Second // after a call that failed
	latest    = 5 * time.Second
	handTries = 5
)

// Enrol makes a key, has it enrolled by an invitation, and keeps the identity in a file that is there for its owner alone.
func Enrol(ctx context.Context, i Invitation, path string, now time.Time) (Identity, error) {
	id := Identity{Format: Format, Name: i.Name, Service: i.Service, Authority: i.Authority}
	if _, err := os.Lstat(path); err == nil {
		return id, fmt.Errorf("%s exists: this machine is a probe already; to enroll it again, remove the file", path)
	}
	switch {
	case i.Format != Format:
		return id, fmt.Errorf("the invitation is of format %d, this program knows %d: use the service's version", i.Format, Format)
	case now.After(i.Until):
		return id, fmt.Errorf("the invitation ended at %s: have another one made (yl probe invite %s)",
			i.Until.Local().Format(time.DateTime), i.Name)
	}
	if err := mayCall(i.Service); err != nil {
		return id, err
	}
	public, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return id, err
	}
	e := Enrolment{Name: i.Name, Code: i.Code}
	if e.Key, err = x509.MarshalPKIXPublicKey(public); err == nil {
		if id.Key, err = x509.MarshalPKCS8PrivateKey(key); err == nil {
			e.Proof, err = sign(key, i.Name, "", nil, now)
		}
	}
	if err != nil {
		return id, err
	}
	text, err := json.MarshalIndent(id, "", "  ")
	if err != nil {
		return id, err
	}
	err = private.Write(path, append(text, '\n')) // first: an invitation counts once
	if err == nil {
		err = ownedAs(path, filepath.Dir(path))
	}
	if err != nil {
		return id, err
	}
	if err := id.client().post(ctx, "/api/v1/probes/enrol", e, nil); err != nil {
		_ = os.Remove(path)
		return id, err
	}
	return id, nil
}

// ownedAs gives a file that root wrote to the owner of its folder, who is to read it.
func ownedAs(path, folder string) error {
	s, err := os.Stat(folder)
	if err != nil || os.Geteuid() != 0 {
		return err
	}
	of := s.Sys().(*syscall.Stat_t)
	return os.Lchown(path, int(of.Uid), int(of.Gid))
}

// ReadIdentity reads the file of an enrolled probe.
func ReadIdentity(path string) (id Identity, err error) {
	b, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return id, fmt.Errorf("%s is not there: this machine is no probe yet (yl probe enroll INVITATION)", path)
	}
	if err == nil {
		err = json.Unmarshal(b, &id)
	}
	if err == nil && id.Format != Format {
		err = fmt.Errorf("it is of format %d, this program knows %d", id.Format, Format)
	}
	if err == nil {
		err = mayCall(id.Service)
	}
	if err != nil {
		return id, fmt.Errorf("%s: %w", path, err)
	}
	return id, nil
}

// mayCall refuses to send secrets in the clear, but to this machine.
func mayCall(service string) error {
	u, err := url.Parse(service)
	if err == nil && u.Scheme == "http" {
		if ip := net.ParseIP(u.Hostname()); ip.IsLoopback() || u.Hostname() == "localhost" {
			return nil
		}
	}
	if err != nil || u.Scheme != "https" || u.Host == "" {
		return fmt.Errorf("the service's address %q is no https://NAME", service)
	}
	return nil
}

// caller calls the service.
type caller struct {
	service string
	http    *http.Client
}

func (id Identity) client() *caller {
	roots, err := x509.SystemCertPool()
	if err != nil {
		roots = x509.NewCertPool()
	}
	roots.AppendCertsFromPEM([]byte(id.Authority))
	return &caller{strings.TrimSuffix(id.Service, "/"), &http.Client{
		Timeout:       callTime,
		Transport:     &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS12}},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}}
}

// refused is an answer that says no.
type refused struct {
	status int
	words  string
}

func (r *refused) Error() string {
	return fmt.Sprintf("the service refuses it (%d): %s", r.status, r.words)
}

func (c *caller) post(ctx context.Context, path string, in, out any) error {
	b, err := json.Marshal(in)
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, c.service+path, bytes.NewReader(b))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/json")
	res, err := c.http.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	answer, err := io.ReadAll(io.LimitReader(res.Body, mostReport))
	if err != nil {
		return err
	}
	if res.StatusCode >= 300 {
		var problem struct{ Detail string }
		if json.Unmarshal(answer, &problem) != nil || problem.Detail == "" {
			problem.Detail = strings.TrimSpace(string(answer[:min(len(answer), 200)]))
		}
		return &refused{res.StatusCode, problem.Detail}
	}
	if out == nil {
		return nil
	}
	return json.Unmarshal(answer, out)
}

// Probe waits for jobs and does them.
type Probe struct {
	Identity
	Log *slog.Logger

	key ed25519.PrivateKey
	mu  sync.Mutex
	bad string // why calls fail, as it was logged last
}

// Run does jobs until the context ends, or the service no longer knows the probe.
func (p *Probe) Run(ctx context.Context) error {
	k, err := x509.ParsePKCS8PrivateKey(p.Key)
	key, ok := k.(ed25519.PrivateKey)
	if err != nil || !ok {
		return errors.Join(errors.New("the probe's key cannot be read: enrol it again"), err)
	}
	p.key = key
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	var wait guard.Group
	for range atOnce {
		wait.Go("enrolled.run", func() { p.work(ctx, stop) })
	}
	wait.Wait()
	var no *refused
	if errors.As(context.Cause(ctx), &no) {
		return no
	}
	return nil
}

func (p *Probe) work(ctx context.Context, stop context.CancelCauseFunc) {
	c, pause := p.client(), soonest
	for ctx.Err() == nil {
		job, err := p.call(ctx, c, "", nil)
		var no *refused
		switch {
		case ctx.Err() != nil:
			return
		case errors.As(err, &no) && no.status == http.StatusUnauthorized:
			stop(no)
			return
		case err != nil:
			p.says(err.Error())
			select {
			case <-time.After(pause):
			case <-ctx.Done():
			}
			pause = min(2*pause, latest)
		default:
			p.says("")
			if pause = soonest; job != nil {
				p.do(ctx, c, *job)
			}
		}
	}
}

// says logs once when calls begin to fail, and when they succeed again.
func (p *Probe) says(bad string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	switch {
	case bad == p.bad:
	case bad != "":
		p.Log.Warn("the service cannot be called; trying again", "service", p.Service, "error", bad)
	default:
		p.Log.Info("the service answers again", "service", p.Service)
	}
	p.bad = bad
}

func (p *Probe) call(ctx context.Context, c *caller, job string, report []byte) (*Job, error) {
	token, err := sign(p.key, p.Name, job, report, time.Now())
	if err != nil {
		return nil, err
	}
	var a Answer
	err = c.post(ctx, "/api/v1/probes/calls", Call{token, report}, &a)
	return a.Job, err
}

// do tries, and hands in what was seen.
func (p *Probe) do(ctx context.Context, c *caller, j Job) {
	r, err := try(ctx, j)
	if err != nil {
		r = &probe.Report{At: time.Now(), Login: "not tried: " + err.Error()}
	}
	p.Log.Info("tried", "class", j.Order.Class, "revision", j.Order.Revision, "connected", r.Connected, "trials", r.Tried())
	packed, err := pack(*r)
	if len(packed) > mostPacked {
		packed, err = pack(probe.Report{At: r.At, Login: "the report is larger than a call may carry"})
	}
	for range handTries {
		if err == nil {
			_, err = p.call(ctx, c, j.ID, packed)
		}
		var no *refused
		if err == nil || ctx.Err() != nil || errors.As(err, &no) {
			break
		}
		select {
		case <-time.After(soonest):
			err = nil
		case <-ctx.Done():
		}
	}
	if err != nil {
		p.Log.Warn("the report was not taken", "error", err)
	}
}

func try(ctx context.Context, j Job) (*probe.Report, error) {
	key, err := x509.ParsePKCS8PrivateKey(j.Key)
	if err != nil {
		return nil, err
	}
	signer, ok := key.(ed25519.PrivateKey)
	if !ok {
		return nil, errors.New("the key of the job cannot be used")
	}
	u := underlay.Host()
	defer u.Close()
	return probe.Run(ctx, u, j.Order, OptionsOf(j.Order.User, j.Password, signer, j.Certificate))
}

// OptionsOf is how an identity that is made for a trial logs in.
func OptionsOf(name, password string, key ed25519.PrivateKey, certificate []byte) probe.Options {
	return probe.Options{
		Password: password, Key: key, Certificate: certificate, SharedKey: []byte(password), MixedIn: []byte(password), MixedInID: name,
		Tester: true,
	}
}
