package check

import (
	"strings"
	"time"

	"yellowlantern/internal/core/plan"
)

// platform is what a system's own client can be set to offer, by its maker's documents (none of them could be tried
// here). Lengths of time are after how long it renews by itself.
type platform struct {
	name             string
	encryption, prf  []string
	groups, logins   []string
	renewsIKE, renew time.Duration // 0: not told
	pfs              bool
}

var platforms = map[string]platform{
	"windows": {
		"Windows",
		[]string{"aes128gcm", "aes256gcm"},
		[]string{"sha256", "sha384"},
		[]string{"p256", "p384"},
		[]string{"eap-mschapv2", "eap-tls", "eap-ttls"},
		8 * time.Hour, time.Hour, true,
	},
	"apple": {
		"iOS and macOS",
		[]string{"aes128gcm", "aes256gcm", "chacha20poly1305"},
		[]string{"sha256", "sha384", "sha512"},
		[]string{"p256", "p384", "p521", "x25519"},
		[]string{"eap-mschapv2", "eap-tls", "pre-shared-key"},
		24 * time.Hour, 24 * time.Hour, true,
	},
	"android": {
		"Android 11 and later",
		[]string{"aes128gcm", "aes256gcm", "chacha20poly1305"},
		[]string{"sha256", "sha384", "sha512"},
		[]string{"x25519"},
		[]string{"eap-mschapv2", "eap-tls", "pre-shared-key"},
		2 * time.Hour, time.Hour, false,
	},
	"own-client": {
		"our own client",
		[]string{"aes256gcm", "aes128gcm", "chacha20poly1305"},
		[]string{"sha256", "sha384", "sha512"},
		[]string{"x25519", "p256", "p384", "p521"},
		[]string{"eap-mschapv2"},
		0, 0, true,
	},
}

// platforms holds each tunnel against the devices that its passages say people use.
func (c *checker) platforms() {
	for _, p := range c.p.Passages {
		for _, name := range p.Platforms {
			for _, word := range p.Tunnels {
				if t := c.n.Tunnels[word]; t != nil && !t.Off && !p.Off {
					c.platform(p, *t, platforms[name])
				}
			}
		}
	}
}

func (c *checker) platform(p plan.Passage, t plan.Tunnel, d platform) {
	base, own := "tunnels/"+t.Name, t.IKEv2()
	common := false
	for _, s := range own.SuiteNames() {
		parts := strings.Split(s, "-")
		common = common || len(parts) == 3 && has(d.encryption, parts[0]) && has(d.prf, parts[1]) && has(d.groups, parts[2])
	}
	if !common && len(own.SuiteNames()) > 0 {
		suite := strings.Join([]string{firstCommon(d.encryption, "aes256gcm"), firstCommon(d.prf, "sha256"), d.groups[0]}, "-")
		path, edit := base+"/suites", suite
		if own.Algorithms != nil {
			path, edit = base+"/algorithms/groups", d.groups[0]
		}
		c.add(Stop, "no-common-algorithm", path, "add "+edit, "%s, which people of passage %s use, can agree with none of %s: it offers %s with %s and %s",
			d.name, p.Name, quoted(own.SuiteNames()), quoted(d.encryption), quoted(d.prf), quoted(d.groups))
		if own.Algorithms == nil || has(own.Algorithms.Encryption, firstCommon(d.encryption, "aes256gcm")) {
			c.mend("add", path, edit)
		}
	}
	if !has(d.logins, t.Login) {
		c.add(Stop, "login-not-offered", base+"/login", "use one of "+quoted(d.logins), "%s, which people of passage %s use, cannot log in by %s", d.name, p.Name, t.Login)
	}
	if own.PFS && !d.pfs {
		c.add(Stop, "pfs-not-offered", base+"/pfs", "leave it out", "%s, which people of passage %s use, renews without a key exchange of its own: their sessions end at the first renewal", d.name, p.Name)
		c.mend("remove", base+"/pfs", "")
	}
	c.lifetime(p, base+"/lifetimes/ike", own.Lifetimes.IKE, d.name, d.renewsIKE)
	c.lifetime(p, base+"/lifetimes/esp", own.Lifetimes.ESP, d.name, d.renew)
}

func (c *checker) lifetime(p plan.Passage, path string, ours plan.Duration, device string, theirs time.Duration) {
	if ours != 0 && theirs != 0 && time.Duration(ours) <= theirs {
		enough := plan.Duration(theirs + theirs/4)
		c.add(Stop, "lifetime-short", path, "use "+enough.String()+" or more", "%s, which people of passage %s use, renews after %s only: after %s their sessions end", device, p.Name, plan.Duration(theirs), ours)
		c.mend("set", path, enough.String())
	}
}

func has(list []string, word string) bool {
	for _, w := range list {
		if w == word {
			return true
		}
	}
	return false
}

func firstCommon(list []string, wish string) string {
	if has(list, wish) {
		return wish
	}
	return list[0]
}
