// Package postbox is a stand-in for a mail server (RFC 5321): it takes what anybody on this machine sends, keeps it, and sends nothing on.
// The demonstration has one, so that mail to people can be read, and tests have one.
package postbox

import (
	"crypto/rand"
	"crypto/tls"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"sync"
	"time"

	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/guard"
)

// Host is what it calls itself, and what its certificate holds.
const Host = "127.0.0.1"

// Bounds of what one process takes.
const (
	mostAtOnce  = 32
	mostKept    = 1000
	longestMail = 1 << 20
	longestLine = 4096
	patience    = 30 * time.Second
)

// Options say how it is reached, and where mail is kept.
type Options struct {
	Listen string // on loopback
	// Whole is that TLS begins with the first octet (RFC 8314); otherwise a client asks for it by STARTTLS (RFC 3207), and before that
	// nothing is taken.
	Whole bool
	// Folder is where each message is kept as a file; empty: in memory.
	Folder string
}

// Box is one.
type Box struct {
	Address   string
	Authority string // by whom its certificate is, PEM

	o        Options
	conf     *tls.Config
	listener net.Listener
	slots    chan struct{}
	serving  guard.Group

	mu       sync.Mutex
	messages []string
	open     map[net.Conn]bool
	count    int
}

// Open opens one, with a certificate that an authority of its own made.
func Open(o Options) (*Box, error) {
	ca, err := cert.NewAuthority(rand.Reader, time.Now(), "Stand-in for a mail server")
	if err != nil {
		return nil, err
	}
	shown, err := ca.NewGateway(rand.Reader, time.Now(), Host)
	if err != nil {
		return nil, err
	}
	if o.Folder != "" {
		if err := os.MkdirAll(o.Folder, 0o700); err != nil {
			return nil, err
		}
	}
	b := &Box{
		Authority: string(ca.PEM()), o: o, slots: make(chan struct{}, mostAtOnce), open: map[net.Conn]bool{},
		conf: &tls.Config{
			MinVersion:   tls.VersionTLS12,
			Certificates: []tls.Certificate{{Certificate: shown.Chain(), PrivateKey: shown.Key}},
		},
	}
	if b.listener, err = net.Listen("tcp", o.Listen); err != nil {
		return nil, err
	}
	b.Address = b.listener.Addr().String()
	b.serving.Go("postbox.Open", b.serve)
	return b, nil
}

// URL is how a plan names it.
func (b *Box) URL() string {
	if b.o.Whole {
		return "smtps://" + b.Address
	}
	return "smtp://" + b.Address
}

// Close ends it, and what is under way.
func (b *Box) Close() {
	_ = b.listener.Close()
	b.mu.Lock()
	for c := range b.open {
		_ = c.Close()
	}
	b.mu.Unlock()
	b.serving.Wait()
}

// Messages are those that it keeps in memory, heads included, the newest last.
func (b *Box) Messages() []string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return append([]string{}, b.messages...)
}

func (b *Box) serve() {
	for {
		c, err := b.listener.Accept()
		if err != nil {
			return
		}
		select {
		case b.slots <- struct{}{}:
		default:
			_ = c.Close()
			continue
		}
		b.mu.Lock()
		b.open[c] = true
		b.mu.Unlock()
		b.serving.Go("postbox.serve", func() {
			defer func() {
				_ = c.Close()
				b.mu.Lock()
				delete(b.open, c)
				b.mu.Unlock()
				<-b.slots
			}()
			b.talk(c)
		})
	}
}

// keep keeps a message.
func (b *Box) keep(text string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.count >= mostKept {
		return fmt.Errorf("%d messages are kept already", mostKept)
	}
	b.count++
	if b.o.Folder == "" {
		b.messages = append(b.messages, text)
		return nil
	}
	return os.WriteFile(filepath.Join(b.o.Folder, fmt.Sprintf("%04d.eml", b.count)), []byte(text), 0o600)
}
