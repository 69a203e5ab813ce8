package capture

import (
	"bytes"
	"net/netip"
	"testing"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"
	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/packet"
	"yellowlantern/internal/core/pcapng"
)

var ike = bytes.Repeat([]byte("an IKE message. "), 4)

// datagrams are packets with the message in them, and one without.
func datagrams() map[string][]byte {
	at := netip.MustParseAddrPort
	return map[string][]byte{
		"UDP 500":          packet.UDP(at("198.51.100.7:500"), at("192.0.2.10:500"), ike),
		"UDP 4500":         packet.UDP(at("198.51.100.7:40001"), at("192.0.2.10:4500"), append(make([]byte, 4), ike...)),
		"IPv6":             packet.UDP(at("[2001:db8::7]:500"), at("[2001:db8:10::10]:500"), ike),
		"ports of our own": packet.UDP(at("127.0.0.1:33001"), at("127.0.0.1:33002"), append(make([]byte, 4), ike...)),
		"ESP":              packet.UDP(at("198.51.100.7:4500"), at("192.0.2.10:4500"), append([]byte{1, 2, 3, 4}, ike...)),
		"somebody else's":  packet.UDP(at("198.51.100.7:53"), at("192.0.2.10:53"), ike),
	}
}

func read(t *testing.T, b []byte) (out []Message) {
	require.NoError(t, IKE(bytes.NewReader(b), func(m Message) error {
		m.Data = bytes.Clone(m.Data)
		out = append(out, m)
		return nil
	}))
	return out
}

// The messages are found in what analysers write, with Ethernet or without, and in our own recordings; a file that ends too early gives
// what is in it, and what is no recording is said to be none.
func TestIKE(t *testing.T) {
	for what, b := range datagrams() {
		wants := what != "ESP" && what != "somebody else's"
		ether := layers.EthernetTypeIPv4
		if b[0]>>4 == 6 {
			ether = layers.EthernetTypeIPv6
		}
		framed := gopacket.NewSerializeBuffer()
		mac := []byte{2, 0, 0, 0, 0, 1}
		require.NoError(t, gopacket.SerializeLayers(framed, gopacket.SerializeOptions{},
			&layers.Ethernet{SrcMAC: mac, DstMAC: mac, EthernetType: ether}, gopacket.Payload(b)))
		for link, data := range map[layers.LinkType][]byte{layers.LinkTypeEthernet: framed.Bytes(), layers.LinkTypeRaw: b} {
			var old, newer bytes.Buffer
			w := pcapgo.NewWriter(&old)
			require.NoError(t, w.WriteFileHeader(1<<16, link))
			info := gopacket.CaptureInfo{Timestamp: time.Unix(1_800_000_000, 0), CaptureLength: len(data), Length: len(data)}
			require.NoError(t, w.WritePacket(info, data))
			ng, err := pcapgo.NewNgWriter(&newer, link)
			require.NoError(t, err)
			require.NoError(t, ng.WritePacket(info, data))
			require.NoError(t, ng.Flush())
			for _, file := range [][]byte{old.Bytes(), newer.Bytes(), append(bytes.Clone(old.Bytes()), 1, 2, 3)} {
				got := read(t, file)
				require.Equal(t, wants, len(got) == 1, "%s, %s", what, link)
				if wants {
					require.Equal(t, ike, got[0].Data, what)
					require.Equal(t, int64(1_800_000_000), got[0].At.Unix())
				}
			}
		}
	}
	var own bytes.Buffer
	w, err := pcapng.NewWriter(&own, "yl", pcapng.Interface{Name: "outside"})
	require.NoError(t, err)
	require.NoError(t, w.Write(pcapng.Packet{At: time.Now(), Data: datagrams()["UDP 500"]}))
	got := read(t, own.Bytes())
	require.Len(t, got, 1)
	require.Equal(t, netip.MustParseAddrPort("198.51.100.7:500"), got[0].From)
	for _, none := range []string{"", "yl", "this is a text, and no recording", "\x0a\x0d\x0d\x0a and no more"} {
		require.ErrorIs(t, IKE(bytes.NewReader([]byte(none)), nil), ErrNoRecording)
	}
}

// The first message of a TCP stream is found behind its prefix (RFC 9329 §4).
func TestIKEOverTCP(t *testing.T) {
	body := append([]byte("IKETCP"), 0, byte(len(ike)+6), 0, 0, 0, 0)
	b := gopacket.NewSerializeBuffer()
	ip := &layers.IPv4{Version: 4, TTL: 64, Protocol: layers.IPProtocolTCP, SrcIP: []byte{198, 51, 100, 7}, DstIP: []byte{192, 0, 2, 10}}
	tcp := &layers.TCP{SrcPort: 40001, DstPort: 443, PSH: true}
	require.NoError(t, tcp.SetNetworkLayerForChecksum(ip))
	require.NoError(t, gopacket.SerializeLayers(b, gopacket.SerializeOptions{FixLengths: true, ComputeChecksums: true}, ip, tcp,
		gopacket.Payload(append(body, ike...))))
	m, ok := message(b.Bytes(), layers.LinkTypeRaw)
	require.True(t, ok)
	require.True(t, m.TCP)
	require.Equal(t, ike, m.Data)
}

func FuzzIKE(f *testing.F) {
	var own bytes.Buffer
	w, _ := pcapng.NewWriter(&own, "yl", pcapng.Interface{Name: "outside"})
	_ = w.Write(pcapng.Packet{Data: datagrams()["UDP 500"]})
	f.Add(own.Bytes())
	f.Fuzz(func(t *testing.T, b []byte) { _ = IKE(bytes.NewReader(b), func(Message) error { return nil }) })
}
