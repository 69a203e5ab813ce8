package cleartunnel

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"net"
	"sync"
	"time"

	"yellowlantern/internal/core/eap"
	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/core/segment"
	"yellowlantern/internal/core/session"
	"yellowlantern/internal/dial"
	"yellowlantern/internal/underlay"
)

// device is a standing session.
type device struct {
	conn  *net.UDPConn
	given dial.Given
	done  sync.WaitGroup

	mu    sync.Mutex
	ended error
}

// Dial logs in at the server that was started last, whatever the network that the device is on.
func (k *Kind) Dial(ctx context.Context, _ underlay.Underlay, l dial.Login, receive func([][]byte)) (dial.Session, error) {
	k.mu.Lock()
	at := k.at
	k.mu.Unlock()
	conn, err := net.DialUDP("udp4", nil, net.UDPAddrFromAddrPort(at))
	if err != nil {
		return nil, err
	}
	d := &device{conn: conn}
	if err := d.login(ctx, eap.NewPeer(rand.Reader, l.User, l.Password)); err != nil {
		_ = conn.Close()
		return nil, err
	}
	d.done.Go(func() { d.read(receive) })
	return d, nil
}

func (d *device) login(ctx context.Context, peer *eap.Peer) error {
	buf := make([]byte, 4096)
	d.send(isLogin, nil)
	for ctx.Err() == nil {
		_ = d.conn.SetReadDeadline(time.Now().Add(time.Second))
		n, err := d.conn.Read(buf)
		if err != nil || n == 0 {
			continue
		}
		switch buf[0] {
		case isLogin:
			answer, done, err := peer.Handle(append([]byte{}, buf[1:n]...))
			if err != nil {
				return &dial.Fault{Code: reason.FaultRefused, Err: err}
			}
			if !done && answer != nil {
				d.send(isLogin, answer)
			}
		case isGiven:
			d.given.Over, d.given.Algorithms = session.OverUDP, "none"
			_ = d.conn.SetReadDeadline(time.Time{})
			return json.Unmarshal(buf[1:n], &d.given.Configuration)
		case isRefused:
			return &dial.Fault{Code: reason.FaultRefused, Err: errors.New("the gateway refused the login")}
		}
	}
	return ctx.Err()
}

func (d *device) read(receive func([][]byte)) {
	buf := make([]byte, 4096)
	for {
		n, err := d.conn.Read(buf)
		if err != nil {
			return
		}
		switch {
		case n > 1 && buf[0] == isPacket:
			receive([][]byte{buf[1:n]})
		case n > 0 && buf[0] == isEnd:
			d.mu.Lock()
			d.ended = errors.New("the gateway ended the session")
			d.mu.Unlock()
		}
	}
}

func (d *device) send(what byte, b []byte) { _, _ = d.conn.Write(append([]byte{what}, b...)) }

func (d *device) Given() dial.Given { return d.given }
func (d *device) Send(b []byte)     { d.send(isPacket, b) }

func (d *device) SendAll(ps []inside.Packet) {
	for _, p := range ps {
		segment.Each(p, func(one inside.Packet) { d.Send(one.Bytes()) })
	}
}

func (d *device) Ended() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.ended
}

func (d *device) Close() {
	d.send(isEnd, nil)
	_ = d.conn.Close()
	d.done.Wait()
}
