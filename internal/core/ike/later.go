package ike

import (
	"bytes"

	"yellowlantern/internal/core/reason"
)

// nLater is a notification for private use (RFC 7296 §3.10.1), which others leave alone. A device says by it that it begins a login anew
// where nobody can judge it at the moment, and a gateway, to such a device alone, that this is so: systems' own clients would ask for
// another password whatever error they were told, and hear nothing.
const nLater notifyType = 45069

// laterMark tells it from what others use that number for.
var laterMark = []byte("yellow-lantern later")

var later = notify{kind: nLater, data: laterMark}

func postponed(m *message) bool {
	data, has := m.notified(nLater)
	return has && bytes.Equal(data, laterMark)
}

// postpone gives a login up that nobody can judge at the moment.
func (r *login) postpone(why reason.Reason) {
	if r.postpones {
		r.reply(ikeAuth, later.payload())
	}
	r.refuse(why, 0)
}
