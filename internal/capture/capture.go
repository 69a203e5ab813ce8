// Package capture finds the first messages of devices in a recording that any packet analyser wrote (PCAP or PCAPNG). What they say is left
// to package ike.
package capture

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"
)

// Message is an IKE message as it was recorded.
type Message struct {
	At       time.Time
	From, To netip.AddrPort
	TCP      bool
	Data     []byte
}

const (
	portIKE  = 500
	portNATT = 4500
	mostRead = 2_000_000 // packets
)

var (
	marker = []byte{0, 0, 0, 0}                   // before IKE on UDP 4500 (RFC 3948 §2.2)
	prefix = []byte{'I', 'K', 'E', 'T', 'C', 'P'} // before all of a TCP stream (RFC 9329 §4)
)

// ErrNoRecording is for what is neither PCAP nor PCAPNG.
var ErrNoRecording = errors.New("this is no recording of packets: give a file in PCAP or PCAPNG, as packet analysers write them")

// IKE gives the IKE messages of a recording, in their order. Over TCP it gives the first of a stream alone. Packets that cannot be read are
// left out.
func IKE(r io.Reader, each func(Message) error) error {
	in := bufio.NewReader(r)
	source, link, err := open(in)
	if err != nil {
		return err
	}
	for range mostRead {
		data, info, err := source.ReadPacketData()
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) { // cut off, as recordings are
			return nil
		}
		if err != nil {
			return fmt.Errorf("the recording cannot be read any further: %w", err)
		}
		if m, ok := message(data, link(info)); ok {
			m.At = info.Timestamp
			if err := each(m); err != nil {
				return err
			}
		}
	}
	return nil
}

func open(in *bufio.Reader) (gopacket.PacketDataSource, func(gopacket.CaptureInfo) layers.LinkType, error) {
	head, err := in.Peek(4)
	if err != nil {
		return nil, nil, ErrNoRecording
	}
	if bytes.Equal(head, []byte{0x0a, 0x0d, 0x0d, 0x0a}) {
		r, err := pcapgo.NewNgReader(in, pcapgo.NgReaderOptions{WantMixedLinkType: true})
		if err != nil {
			return nil, nil, ErrNoRecording
		}
		return r, func(i gopacket.CaptureInfo) layers.LinkType {
			if x, err := r.Interface(i.InterfaceIndex); err == nil {
				return x.LinkType
			}
			return r.LinkType()
		}, nil
	}
	r, err := pcapgo.NewReader(in)
	if err != nil {
		return nil, nil, ErrNoRecording
	}
	return r, func(gopacket.CaptureInfo) layers.LinkType { return r.LinkType() }, nil
}

// message finds the IKE message in a packet.
func message(data []byte, link layers.LinkType) (m Message, ok bool) {
	first := gopacket.Decoder(link)
	if (link == layers.LinkTypeRaw || link == 12 || link == 14) && len(data) > 0 { // 12 and 14 are the same on some systems
		if first = layers.LayerTypeIPv4; data[0]>>4 == 6 {
			first = layers.LayerTypeIPv6
		}
	}
	p := gopacket.NewPacket(data, first, gopacket.DecodeOptions{Lazy: true, NoCopy: true})
	network, transport := p.NetworkLayer(), p.TransportLayer()
	if network == nil || transport == nil {
		return m, false
	}
	src, okS := netip.AddrFromSlice(network.NetworkFlow().Src().Raw())
	dst, okD := netip.AddrFromSlice(network.NetworkFlow().Dst().Raw())
	ports := transport.TransportFlow()
	if !okS || !okD || len(ports.Src().Raw()) != 2 {
		return m, false
	}
	from, to := binary.BigEndian.Uint16(ports.Src().Raw()), binary.BigEndian.Uint16(ports.Dst().Raw())
	m.From, m.To = netip.AddrPortFrom(src, from), netip.AddrPortFrom(dst, to)
	payload := transport.LayerPayload()
	switch transport.LayerType() {
	case layers.LayerTypeUDP:
		rest, marked := bytes.CutPrefix(payload, marker)
		switch {
		case from == portNATT || to == portNATT || marked:
			m.Data, ok = rest, marked
		case from == portIKE || to == portIKE:
			m.Data, ok = payload, true
		}
	case layers.LayerTypeTCP:
		rest, begins := bytes.CutPrefix(payload, prefix)
		if begins && len(rest) > 6 && bytes.Equal(rest[2:6], marker) {
			n := int(binary.BigEndian.Uint16(rest))
			m.TCP, m.Data, ok = true, rest[6:min(n, len(rest))], true
		}
	}
	return m, ok && len(m.Data) > 0
}
