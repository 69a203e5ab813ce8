package plan

import (
	"reflect"
	"slices"
	"strings"
)

// KindIKEv2 is the kind of tunnel that is carried out.
const KindIKEv2 = "ikev2"

// carried are the kinds that are carried out, known those that a plan may name.
var (
	carried = []string{KindIKEv2}
	known   = []string{KindIKEv2, "masque", "l2tp-ipsec", "key-pair-udp", "portal", "pptp"}
)

// AllowKind makes plans take tunnels of a kind, which is carried out. It is called before anything runs.
func AllowKind(name string) {
	carried = append(carried, name)
	if !slices.Contains(known, name) {
		known = append(known, name)
	}
}

// Carried tells whether tunnels of a kind are carried out.
func Carried(kind string) bool { return slices.Contains(carried, kind) }

// enumOf are the words that a field may hold, with commas between; empty: any. Those of kinds of tunnels are registered.
func enumOf(f reflect.StructField) string {
	if f.Tag.Get("oneof") == "kinds" {
		return strings.Join(known, ",")
	}
	return f.Tag.Get("enum")
}
