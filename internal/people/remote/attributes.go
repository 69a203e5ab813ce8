package remote

import (
	"math"
	"net"
	"net/netip"
	"strings"
	"sync/atomic"
	"time"

	"layeh.com/radius/rfc2865"
	"layeh.com/radius/rfc6911"
	"layeh.com/radius/vendors/microsoft"

	"yellowlantern/internal/core/fold"
	"yellowlantern/internal/core/login"
	"yellowlantern/internal/people/source"
	"yellowlantern/internal/radius"
)

// answering remembers whether servers ever answered the question how they are.
type answering struct{ once atomic.Bool }

func (a *answering) did()         { a.once.Store(true) }
func (a *answering) before() bool { return a.once.Load() }

// limits are those of an acceptance: an address (RFC 2865 §5.8, RFC 6911 §3.1), how long (§5.27), and how long in silence (§5.28).
func limits(p *radius.Packet) (l login.Limits) {
	for _, ip := range []net.IP{rfc2865.FramedIPAddress_Get(p), rfc6911.FramedIPv6Address_Get(p)} {
		a, ok := netip.AddrFromSlice(ip)
		ofOurChoice := netip.AddrFrom4([4]byte{255, 255, 255, 254})
		if a = fold.Addr(a); ok && a.IsGlobalUnicast() && a != ofOurChoice {
			l.Addresses = append(l.Addresses, a)
		}
	}
	seconds := func(n uint32) time.Duration {
		if n == math.MaxUint32 { // without an end
			return 0
		}
		return time.Duration(n) * time.Second
	}
	l.Longest = seconds(uint32(rfc2865.SessionTimeout_Get(p)))
	l.Idle = seconds(uint32(rfc2865.IdleTimeout_Get(p)))
	return l
}

// chapErrors are those of MS-CHAPv2 that say more than that something is wrong (RFC 2759 §6).
var chapErrors = map[string]string{
	"646": "they may not log in at this hour", "647": "their account is switched off", "648": "their password has expired",
	"649": "they may not come in from outside",
}

// refusal is a rejection as an error: by the code of MS-CHAPv2 where there is one, else with what the server has people told.
func refusal(answer *radius.Packet) error {
	if words := chapErrors[chapError(answer)]; words != "" {
		return source.Fail(source.Barred, "%s", words)
	}
	return source.Fail(source.Refused, "name or password are wrong, or the server's rules keep them out%s", said(answer))
}

const chapExpired = "648"

// chapError is the code in what a server says of an answer to a challenge, such as 691 (RFC 2548 §2.1.5): an octet that numbers it, then
// words such as E=691 R=0.
func chapError(answer *radius.Packet) string {
	text := string(microsoft.MSCHAPError_Get(answer))
	if _, code, ok := strings.Cut(text, "E="); ok {
		return code[:min(len(code), 3)]
	}
	return ""
}
