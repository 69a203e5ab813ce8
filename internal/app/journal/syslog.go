package journal

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"yellowlantern/internal/core/ledger"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/guard"
)

// Collector is where lines of the journal are sent on to: by syslog (RFC 5424) over TLS (RFC 5425).
type Collector struct {
	Address string         // host and port; the port of RFC 5425 is 6514
	Roots   *x509.CertPool // that its certificate is believed by; nil: the system's
	// Certificate is what it is shown; nil: none.
	Certificate *tls.Certificate

	problem atomic.Pointer[string]
}

const (
	collectorPatience = 15 * time.Second
	collectorRest     = time.Second // before another try, doubled up to a minute
	headEvery         = time.Hour   // a signed head goes with the lines
	// settles is after how long a line counts as taken, on a connection that stands: a collector confirms nothing (RFC 5425), and what was
	// on its way when one breaks is lost. So it is sent again.
	settles = 2 * time.Second
)

// Unsent is where lines are sent on to, and why they are not just now; empty: nowhere, and they are.
func (s *Service) Unsent() (to, why string) {
	if s.Collector == nil {
		return "", ""
	}
	if p := s.Collector.problem.Load(); p != nil {
		why = *p
	}
	return s.Collector.Address, why
}

// SendOn sends lines on as they are written, in order, and none twice but for those that were on their way when a connection broke, which
// their numbers tell; what was written while the collector was away comes after it is back. It returns when the context ends; without a
// collector at once.
func (s *Service) SendOn(ctx context.Context) {
	if s.Collector == nil {
		return
	}
	rest := collectorRest
	for ctx.Err() == nil {
		sent, err := s.sendSome(ctx)
		if ctx.Err() != nil {
			return
		}
		if sent {
			rest = collectorRest
		}
		words := err.Error()
		if was := s.Collector.problem.Swap(&words); was == nil || *was != words {
			s.log.Warn("syslog: lines of the journal wait", "collector", s.Collector.Address, "error", err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(rest):
		}
		rest = min(2*rest, time.Minute)
	}
}

// sendSome sends lines by one connection until it breaks.
func (s *Service) sendSome(ctx context.Context) (sent bool, err error) {
	bounded, stop := context.WithTimeout(ctx, collectorPatience)
	defer stop()
	conf := &tls.Config{MinVersion: tls.VersionTLS12, RootCAs: s.Collector.Roots}
	if c := s.Collector.Certificate; c != nil {
		conf.Certificates = []tls.Certificate{*c}
	}
	conn, err := (&tls.Dialer{Config: conf}).DialContext(bounded, "tcp", s.Collector.Address)
	if err != nil {
		return false, err
	}
	defer conn.Close()
	closed := make(chan error, 1)
	guard.Go("journal.sendSome", func() { // a collector sends nothing: what comes is that it went
		_, err := conn.Read(make([]byte, 1))
		closed <- errors.Join(errors.New("the collector closed the connection"), err)
	})
	lines, leave := s.Join()
	defer leave()
	last, err := s.store.SentOn(ctx)
	if err != nil {
		return false, err
	}
	head, look := time.NewTicker(headEvery), time.NewTicker(settles/2)
	defer head.Stop()
	defer look.Stop()
	type written struct {
		at time.Time
		id uint64
	}
	var under []written // not settled
	s.Collector.problem.Store(nil)
	host, _ := os.Hostname()
	for {
		settled := uint64(0)
		for len(under) > 0 && time.Since(under[0].at) >= settles {
			settled, under = under[0].id, under[1:]
		}
		if settled > 0 { // also where lines never stop coming
			if err := s.store.SetSentOn(ctx, settled); err != nil {
				return sent, err
			}
		}
		x, err := s.Chained(ctx, last, mostLines)
		if err != nil {
			return sent, err
		}
		var batch bytes.Buffer
		for _, l := range x.Lines {
			frame(&batch, message(host, l))
			last = l.ID
		}
		if len(x.Lines) > 0 {
			if err := write(conn, batch.Bytes()); err != nil {
				return sent, err
			}
			under, sent = append(under, written{time.Now(), last}), true
			continue
		}
		select {
		case <-look.C:
		case <-ctx.Done():
			return sent, ctx.Err()
		case err := <-closed:
			return sent, err
		case <-lines:
		case <-head.C:
			h, err := s.Head(ctx)
			if err != nil {
				return sent, err
			}
			batch.Reset()
			frame(&batch, headMessage(host, h))
			if err := write(conn, batch.Bytes()); err != nil {
				return sent, err
			}
		}
	}
}

func write(c net.Conn, b []byte) error {
	if err := c.SetWriteDeadline(time.Now().Add(collectorPatience)); err != nil {
		return err
	}
	_, err := c.Write(b)
	return err
}

// frame writes a message with its length before it (RFC 5425 §4.3).
func frame(b *bytes.Buffer, message string) { fmt.Fprintf(b, "%d %s", len(message), message) }

// What messages are (RFC 5424 §6.2.1): of the audit log, and how much they matter.
const (
	facilityAudit  = 13
	severityWarn   = 4
	severityNotice = 5
	severityInfo   = 6
)

// enterprise is the number for documentation (RFC 5612): structured data of our own has one in its name (RFC 5424 §7.2.2), and this product
// has none assigned.
const enterprise = "@32473"

// message is a line as syslog has it (RFC 5424 §6).
func message(host string, l ledger.Line) string {
	severity := severityInfo
	switch l.Kind {
	case reason.KindRefused, reason.KindMachine:
		severity = severityWarn
	case reason.KindChange, reason.KindTrust, reason.KindCommit:
		severity = severityNotice
	}
	data := []string{"line" + enterprise, param("id", strconv.FormatUint(l.ID, 10)), param("hash", hex.EncodeToString(l.Hash[:]))}
	for _, x := range [][2]string{{"user", l.User}, {"from", l.From}, {"gateway", l.Gateway}, {"code", l.Code}} {
		if x[1] != "" {
			data = append(data, param(x[0], x[1]))
		}
	}
	var with map[string]string
	if json.Unmarshal(l.With, &with) == nil && len(with) > 0 {
		data = append(data, param("with", string(l.With)))
	}
	return header(severity, l.At, host, l.Kind) + "[" + strings.Join(data, " ") + "] \ufeff" + l.Words
}

func headMessage(host string, h ledger.Head) string {
	return header(severityNotice, h.At, host, "head") + "[head" + enterprise + " " + param("id", strconv.FormatUint(h.ID, 10)) + " " +
		param("hash", hex.EncodeToString(h.Hash[:])) + " " + param("key", h.Key) + " " + param("signature", h.Signature) + "] \ufeffthe newest line of the journal, signed"
}

func header(severity int, at time.Time, host, kind string) string {
	return fmt.Sprintf("<%d>1 %s %s yellow-lantern %d %s ", facilityAudit*8+severity, at.UTC().Format("2006-01-02T15:04:05.000Z"),
		token(host, 255), os.Getpid(),
		token(kind, 32))
}

// token is a part of the header: printable ASCII without spaces, or none.
func token(s string, most int) string {
	s = strings.Map(func(r rune) rune {
		if r > ' ' && r < 0x7f {
			return r
		}
		return -1
	}, s)
	if s = s[:min(len(s), most)]; s == "" {
		return "-"
	}
	return s
}

// param is one parameter of structured data, with what must be escaped in it (RFC 5424 §6.3.3).
func param(name, value string) string {
	return name + `="` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, `]`, `\]`).Replace(value) + `"`
}
