// Relay carries packets between a TUN device and UDP: what a tunnel costs without being one. relay plain|joined DEVICE LISTEN [REMOTE];
// without REMOTE it answers where the last datagram came from. plain carries them as they are, one by one; joined takes what the kernel
// offers for joined packets, and seals each by AES-256-GCM.
package main

import (
	"crypto/aes"
	"crypto/cipher"
	"encoding/binary"
	"fmt"
	"net"
	"net/netip"
	"os"
	"slices"
	"sync/atomic"

	"golang.org/x/sys/unix"

	"yellowlantern/internal/core/segment"
	"yellowlantern/internal/tun"
)

func main() {
	fmt.Fprintln(os.Stderr, run(os.Args[1] == "joined", os.Args[2:]))
	os.Exit(1)
}

// relay is one.
type relay struct {
	device *tun.Device
	conn   *net.UDPConn
	fixed  bool
	peer   atomic.Pointer[netip.AddrPort]
}

// run relays until something fails.
func run(joined bool, args []string) error {
	device, err := tun.Open(args[0], tun.How{Plain: !joined})
	if err != nil {
		return err
	}
	at, err := net.ResolveUDPAddr("udp", args[1])
	if err != nil {
		return err
	}
	conn, err := net.ListenUDP("udp4", at)
	if err != nil {
		return err
	}
	r := &relay{device: device, conn: conn, fixed: len(args) > 2}
	if r.fixed {
		to, err := netip.ParseAddrPort(args[2])
		if err != nil {
			return err
		}
		r.peer.Store(&to)
	}
	if joined {
		return r.joined()
	}
	go r.receive(func(b, _ []byte) { device.Write(b) })
	for from := device.Reader(0); ; {
		batch, err := from.Read()
		if err != nil {
			return err
		}
		for _, p := range batch {
			if to := r.peer.Load(); to != nil {
				_, _ = conn.WriteToUDPAddrPort(p.Bytes(), *to)
			}
		}
	}
}

func (r *relay) receive(handle func(b, notes []byte)) {
	b, notes := make([]byte, 1<<16), make([]byte, 128)
	for {
		n, noted, _, from, err := r.conn.ReadMsgUDPAddrPort(b, notes)
		if err != nil {
			return
		}
		if was := r.peer.Load(); !r.fixed && (was == nil || *was != from) {
			r.peer.Store(&from)
		}
		handle(b[:n], notes[:noted])
	}
}

const (
	ivLen  = 8
	tagLen = 16
)

func (r *relay) joined() error {
	raw, err := r.conn.SyscallConn()
	if err != nil {
		return err
	}
	_ = raw.Control(func(fd uintptr) {
		_ = unix.SetsockoptInt(int(fd), unix.IPPROTO_UDP, unix.UDP_GRO, 1)
		_ = unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_RCVBUFFORCE, 4<<20)
	})
	block, err := aes.NewCipher(make([]byte, 32))
	if err != nil {
		return err
	}
	gcm, err := cipher.NewGCM(block)
	if err != nil {
		return err
	}
	var plain [][]byte
	go r.receive(func(b, notes []byte) {
		each := len(b)
		if len(notes) >= unix.SizeofCmsghdr+4 {
			each = int(binary.NativeEndian.Uint32(notes[unix.SizeofCmsghdr:]))
		}
		plain = plain[:0]
		var nonce [12]byte
		for len(b) > 0 {
			n := min(each, len(b))
			copy(nonce[4:], b[:ivLen])
			if out, err := gcm.Open(b[ivLen:ivLen], nonce[:], b[ivLen:n], nil); err == nil {
				plain = append(plain, out)
			}
			b = b[n:]
		}
		r.device.WriteAll(slices.Values(plain))
	})
	whole, seq := make([]byte, 0, 1<<17), uint64(0)
	for from := r.device.Reader(0); ; {
		batch, err := from.Read()
		if err != nil {
			return err
		}
		to := r.peer.Load()
		for _, p := range batch {
			if to == nil {
				continue
			}
			whole = whole[:0]
			seal := func(size int, put func(into []byte)) {
				at := len(whole)
				whole = whole[:at+ivLen+size+tagLen]
				seq++
				binary.BigEndian.PutUint64(whole[at:], seq)
				put(whole[at+ivLen : at+ivLen+size])
				var nonce [12]byte
				copy(nonce[4:], whole[at:])
				gcm.Seal(whole[at+ivLen:at+ivLen], nonce[:], whole[at+ivLen:at+ivLen+size], nil)
			}
			if p.Each == 0 {
				seal(p.Len, func(into []byte) { copy(into, p.Bytes()) })
				_, _ = r.conn.WriteToUDPAddrPort(whole, *to)
				continue
			}
			shape, err := segment.ShapeOf(p.Bytes(), p.Each)
			if err != nil {
				continue
			}
			for i := range shape.Count() {
				seal(shape.Len(i), func(into []byte) { shape.Put(i, into) })
			}
			r.sendCut(whole, shape.Len(0)+ivLen+tagLen, *to)
		}
	}
}

// sendCut sends at most 40 datagrams by one call, for none is larger than 1,500 octets.
func (r *relay) sendCut(whole []byte, each int, to netip.AddrPort) {
	oob := make([]byte, unix.CmsgSpace(2))
	binary.NativeEndian.PutUint64(oob, uint64(unix.CmsgLen(2)))
	binary.NativeEndian.PutUint32(oob[8:], unix.IPPROTO_UDP)
	binary.NativeEndian.PutUint32(oob[12:], unix.UDP_SEGMENT)
	binary.NativeEndian.PutUint16(oob[unix.SizeofCmsghdr:], uint16(each))
	for len(whole) > 0 {
		n := min(40*each, len(whole))
		_, _, _ = r.conn.WriteMsgUDPAddrPort(whole[:n], oob, to)
		whole = whole[n:]
	}
}
