// Package pcapng writes packets in the PCAP Next Generation capture file format (draft-ietf-opsawg-pcapng): a section, interfaces of
// link type RAW, and packets with their direction and a comment. What is written, and for how long, is left to the callers.
package pcapng

import (
	"encoding/binary"
	"io"
	"time"
)

// Block types, options and values of the draft.
const (
	blockSection   = 0x0a0d0d0a
	blockInterface = 1
	blockPacket    = 6
	byteOrder      = 0x1a2b3c4d
	linkTypeRaw    = 101 // the packet begins with its IP header

	optEnd       = 0
	optComment   = 1
	optName      = 2 // of an interface
	optAbout     = 3
	optResolve   = 9
	optUserAppl  = 4 // of a section
	optFlags     = 2 // of a packet
	flagInbound  = 1
	flagOutbound = 2
)

// Packet is one packet as it was at an interface.
type Packet struct {
	At        time.Time
	Interface int // index, as handed to NewWriter
	Outbound  bool
	Comment   string
	Data      []byte
}

// Interface is a place at which packets are recorded.
type Interface struct{ Name, About string }

// Writer writes a file. It is not safe for concurrent use.
type Writer struct {
	w    io.Writer
	Size int64 // octets written
}

// NewWriter writes the section and its interfaces.
func NewWriter(w io.Writer, program string, interfaces ...Interface) (*Writer, error) {
	out := &Writer{w: w}
	body := binary.LittleEndian.AppendUint32(nil, byteOrder)
	body = binary.LittleEndian.AppendUint16(body, 1) // version 1.0
	body = binary.LittleEndian.AppendUint16(body, 0)
	body = binary.LittleEndian.AppendUint64(body, ^uint64(0)) // of unknown length
	err := out.block(blockSection, ended(option(body, optUserAppl, []byte(program))))
	for _, i := range interfaces {
		body = binary.LittleEndian.AppendUint16(nil, linkTypeRaw)
		body = binary.LittleEndian.AppendUint16(body, 0)
		body = binary.LittleEndian.AppendUint32(body, 0) // no limit
		body = option(option(option(body, optName, []byte(i.Name)), optAbout, []byte(i.About)), optResolve, []byte{9})
		if err == nil {
			err = out.block(blockInterface, ended(body))
		}
	}
	return out, err
}

// Write writes a packet.
func (w *Writer) Write(p Packet) error {
	ns := uint64(p.At.UnixNano())
	body := binary.LittleEndian.AppendUint32(nil, uint32(p.Interface))
	body = binary.LittleEndian.AppendUint32(body, uint32(ns>>32))
	body = binary.LittleEndian.AppendUint32(body, uint32(ns))
	body = binary.LittleEndian.AppendUint32(body, uint32(len(p.Data)))
	body = binary.LittleEndian.AppendUint32(body, uint32(len(p.Data)))
	body = padded(append(body, p.Data...))
	flags := uint32(flagInbound)
	if p.Outbound {
		flags = flagOutbound
	}
	body = option(body, optFlags, binary.LittleEndian.AppendUint32(nil, flags))
	if p.Comment != "" {
		body = option(body, optComment, []byte(p.Comment))
	}
	return w.block(blockPacket, ended(body))
}

func (w *Writer) block(kind uint32, body []byte) error {
	size := uint32(12 + len(body))
	b := binary.LittleEndian.AppendUint32(make([]byte, 0, size), kind)
	b = binary.LittleEndian.AppendUint32(b, size)
	b = append(b, body...)
	n, err := w.w.Write(binary.LittleEndian.AppendUint32(b, size))
	w.Size += int64(n)
	return err
}

func option(b []byte, code uint16, value []byte) []byte {
	value = value[:min(len(value), 0xffff)]
	b = binary.LittleEndian.AppendUint16(b, code)
	b = binary.LittleEndian.AppendUint16(b, uint16(len(value)))
	return padded(append(b, value...))
}

func ended(b []byte) []byte { return binary.LittleEndian.AppendUint32(b, optEnd) }

// padded fills up to a multiple of four octets.
func padded(b []byte) []byte {
	for len(b)%4 != 0 {
		b = append(b, 0)
	}
	return b
}
