package ikev2

import (
	"bytes"
	"crypto/rand"
	"crypto/x509"
	"encoding/binary"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/algorithm"
	"yellowlantern/internal/core/cert"
	"yellowlantern/internal/core/esp"
	"yellowlantern/internal/core/ike"
	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/packet"
	"yellowlantern/internal/gateway"
)

var authority = must(cert.NewAuthority(rand.Reader, time.Now(), "Tern Island"))

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// quiet is where a gateway under test logs.
func quiet() *slog.Logger { return slog.New(slog.NewTextHandler(io.Discard, nil)) }

// handset is a person's device at its barest: one UDP socket on loopback, the protocol machine, and a packet at a time.
type handset struct {
	t      testing.TB
	conn   *net.UDPConn
	buf    []byte // what was read last
	ike    netip.AddrPort
	natt   netip.AddrPort
	ini    *ike.Initiator
	given  ike.Established
	opener map[uint32]*esp.Opener
	older  *esp.Opener // that was deleted last
	sealer *esp.Sealer
	next   *esp.Sealer // once the older one is deleted
	added  int         // Child SAs after the first
	err    error
	mu     sync.Mutex // guards sealer, for delays sends from a goroutine of its own
	extra  []ike.Output
	wire   [][]byte // IKE messages sent, newest last
	// lagging keeps IKE messages back, in lag: ESP overtakes them.
	lagging bool
	lag     []func()
	// heardFrom are the addresses that the gateway answered from.
	heardFrom []netip.Addr
}

// roots are whom devices believe.
var roots = func() *x509.CertPool {
	p := x509.NewCertPool()
	p.AddCert(authority.Leaf)
	return p
}()

// newDevice prepares a device that dials a gateway under test.
func newDevice(t testing.TB, s *Sockets, dial, user, password string, groups ...string) *handset {
	conn, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	t.Cleanup(func() { _ = conn.Close() })
	if groups == nil {
		groups = []string{"X25519", "P-256"}
	}
	set := algorithm.OfLevel(algorithm.Strict)
	set.Groups = groups
	offer, err := ike.PolicyOf(set)
	require.NoError(t, err)
	d := &handset{t: t, conn: conn, ike: s.IKE(), natt: s.NATT()}
	d.ini, err = ike.NewInitiator(ike.Caller{
		Name: dial, User: user, Password: password, Roots: roots, Algorithms: offer, Rand: rand.Reader,
		Local: conn.LocalAddr().(*net.UDPAddr).AddrPort(), Remote: d.ike, Now: time.Now,
	})
	require.NoError(t, err)
	return d
}

func (d *handset) perform(outs []ike.Output) {
	for _, o := range outs {
		switch o := o.(type) {
		case ike.Send:
			d.wire = append(d.wire, o.Data)
			to, data := d.ike, o.Data
			if o.To.NATT {
				to, data = d.natt, append(make([]byte, markerLen), o.Data...)
			}
			if d.lagging {
				d.lag = append(d.lag, func() { _, _ = d.conn.WriteToUDPAddrPort(data, to) })
				continue
			}
			_, _ = d.conn.WriteToUDPAddrPort(data, to)
		case ike.Established:
			d.given = o
			d.install(o.Child, true)
		case ike.Renewed:
			d.install(o.Child, o.Asked)
			d.added++
		case ike.Dropped:
			d.older = d.opener[o.In] // packets overtake each other
			delete(d.opener, o.In)
			d.ready()
		case ike.Failed:
			d.err = o.Err
		default:
			d.extra = append(d.extra, o)
		}
	}
}

func (d *handset) install(c ike.Child, ready bool) {
	if d.opener == nil {
		d.opener = map[uint32]*esp.Opener{}
	}
	d.opener[c.In] = must(esp.NewOpener(c.In, c.Algorithm, c.InKey))
	d.next = must(esp.NewSealer(c.Out, c.Algorithm, c.OutKey))
	if ready {
		d.ready()
	}
}

// ready sends with the newest Child SA from now on.
func (d *handset) ready() {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.next != nil {
		d.sealer, d.next = d.next, nil
	}
}

// read takes one datagram within a time: the packet inside it where it was ESP, nil where it was IKE. ok is false if none came.
func (d *handset) read(wait time.Duration) (inner []byte, ok bool) {
	if d.buf == nil {
		d.buf = make([]byte, 4096)
	}
	buf := d.buf
	_ = d.conn.SetReadDeadline(time.Now().Add(wait))
	n, from, err := d.conn.ReadFromUDPAddrPort(buf)
	if err != nil {
		return nil, false
	}
	if !slices.Contains(d.heardFrom, from.Addr()) {
		d.heardFrom = append(d.heardFrom, from.Addr())
	}
	b := bytes.Clone(buf[:n]) // what is in it is kept
	if from.Port() == d.natt.Port() {
		if binary.BigEndian.Uint32(b) != 0 {
			spi, ok := esp.SPIOf(b)
			if ok && d.older != nil && d.older.SPI == spi {
				inner, _, _ = d.older.Open(b)
			}
			if ok && d.opener[spi] != nil {
				inner, _, _ = d.opener[spi].Open(b)
			}
			return inner, true
		}
		b = b[markerLen:]
	}
	d.perform(d.ini.Handle(time.Now(), b))
	return nil, true
}

// login logs in, and gives why it failed.
func (d *handset) login() error {
	d.perform(d.ini.Start(time.Now()))
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end) && d.sealer == nil && d.err == nil; {
		if _, ok := d.read(200 * time.Millisecond); !ok {
			d.perform(d.ini.Tick(time.Now()))
		}
	}
	if d.err == nil && d.sealer == nil {
		return ike.ErrNoAnswer
	}
	return d.err
}

// alive asks for a sign of life by a message of so many octets, and tells whether it came.
func (d *handset) alive(octets int) bool {
	d.perform(d.ini.AliveOf(time.Now(), octets))
	for end := time.Now().Add(2 * time.Second); d.ini.Waiting() && time.Now().Before(end); {
		d.read(100 * time.Millisecond)
	}
	return !d.ini.Waiting()
}

// end says that the session is over, and waits for the answer.
func (d *handset) end() {
	d.perform(d.ini.End(time.Now()))
	d.read(time.Second)
	_ = d.conn.Close()
}

// send puts a packet into the tunnel, from a socket of the device's or another.
func (d *handset) send(b []byte, by *net.UDPConn) { _, _ = by.WriteToUDPAddrPort(d.seal(b), d.natt) }

func (d *handset) seal(b []byte) []byte {
	buf := make([]byte, esp.Headroom+len(b)+esp.Tailroom)
	copy(buf[esp.Headroom:], b)
	d.mu.Lock()
	defer d.mu.Unlock()
	return must(d.sealer.Seal(buf, esp.Headroom, len(b)))
}

// echo writes an ICMP echo request or reply.
func echo(src, dst netip.Addr, kind byte, id, seq uint16) []byte {
	b := make([]byte, 28+32)
	b[0], b[8], b[9] = 0x45, 64, 1
	binary.BigEndian.PutUint16(b[2:], uint16(len(b)))
	copy(b[12:], src.AsSlice())
	copy(b[16:], dst.AsSlice())
	binary.BigEndian.PutUint16(b[10:], packet.Checksum(b[:20], 0))
	b[20] = kind
	binary.BigEndian.PutUint16(b[24:], id)
	binary.BigEndian.PutUint16(b[26:], seq)
	binary.BigEndian.PutUint16(b[22:], packet.Checksum(b[20:], 0))
	return b
}

// mirror is an inside on which every address answers pings.
type mirror struct {
	g atomic.Pointer[gateway.Gateway]
}

func (m *mirror) Apply(inside.Desired) inside.Observed { return inside.Observed{Port: "mirror"} }
func (m *mirror) Observed() inside.Observed            { return inside.Observed{Port: "mirror"} }
func (m *mirror) Answer(netip.Addr, bool)              {}

func (m *mirror) Send(batch []gateway.Frames) {
	var back []inside.Packet
	for _, f := range batch {
		for _, came := range f.Packets {
			info, err := packet.Parse(came.Bytes())
			if err == nil && info.EchoRequest() {
				p := inside.Roomy(came.Bytes()) // sealed where it stands
				back = append(back, p.Became(packet.EchoReply(p.Bytes(), info)))
			}
		}
	}
	if g := m.g.Load(); g != nil && len(back) > 0 {
		g.FromInside(back, false)
	}
}
