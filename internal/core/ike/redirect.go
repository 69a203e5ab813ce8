package ike

import (
	"fmt"
	"net/netip"
	"strings"
	"time"

	"yellowlantern/internal/core/reason"
)

// Kinds of what names a gateway in a redirection (RFC 5685 §7.2).
const (
	gatewayIPv4 = 1
	gatewayIPv6 = 2
	gatewayFQDN = 3
)

// gatewayAt writes a gateway's name or address as redirections do.
func gatewayAt(to string) []byte {
	kind, data := byte(gatewayFQDN), []byte(to)
	if a, err := netip.ParseAddr(to); err == nil {
		kind, data = gatewayIPv6, a.AsSlice()
		if a.Is4() {
			kind = gatewayIPv4
		}
	}
	return append([]byte{kind, byte(len(data))}, data...)
}

// gatewayIn reads one; false where it is none.
func gatewayIn(b []byte) (to string, ok bool) {
	if len(b) < 2 || len(b) < 2+int(b[1]) {
		return "", false
	}
	data := b[2 : 2+int(b[1])]
	switch b[0] {
	case gatewayIPv4, gatewayIPv6:
		a, ok := netip.AddrFromSlice(data)
		return a.String(), ok && a.Is4() == (b[0] == gatewayIPv4)
	case gatewayFQDN:
		name := printable(data)
		return name, len(data) > 0 && len(data) <= 128 && !strings.ContainsAny(name, "?/ ")
	}
	return "", false
}

// redirect sends a device that follows on to another gateway, once this one has proved who it is and before anybody logs in (RFC 5685 §6).
// Devices that were sent here by that gateway stay: two that send to each other would send them to and fro.
func (r *login) redirect() bool {
	if !r.redirects() {
		return false
	}
	r.reply(ikeAuth, append(r.shows(), notify{kind: nRedirect, data: gatewayAt(r.tunnel.SendTo)}.payload())...)
	r.refuse(reason.Of(reason.SentOn, reason.With{reason.Tunnel: r.tunnel.ID, reason.Address: r.tunnel.SendTo}), nRedirect)
	return true
}

// redirects tells whether the device is sent on.
func (r *login) redirects() bool {
	return r.tunnel.SendTo != "" && r.tunnel.Proof != BySharedKey && r.follows && !strings.EqualFold(r.sentBy, r.tunnel.SendTo)
}

// RedirectedError says that the gateway, having proved who it is, sends the device on to another one.
type RedirectedError struct{ To string }

func (e RedirectedError) Error() string { return fmt.Sprintf("ike: the gateway sends on to %s", e.To) }

// sentOn takes a redirection.
func (i *Initiator) sentOn(now time.Time, m *message) bool {
	data, ok := m.notified(nRedirect)
	to, ok2 := gatewayIn(data)
	if !ok || !ok2 {
		return false
	}
	i.fail(RedirectedError{to})
	return true
}
