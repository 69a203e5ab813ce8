package plan

import (
	"fmt"
	"maps"
	"net/netip"
	"net/url"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
)

// Source is where people are kept beside the service's own: who is not among these is looked for in the sources, in their order. What
// every kind of source has stands here, and beside it what its kind brings.
type Source struct {
	Name      string       `json:"name" eg:"mainland" doc:"Its name."`
	Kind      string       `json:"kind" enum:"ldap,radius" doc:"ldap: a directory (RFC 4511). radius: a server that judges logins (RFC 2865)."`
	Servers   []string     `json:"servers" nullable:"false" eg:"ldaps://directory.tern.example" doc:"Where it is asked, in order, with a port where it is another one. ldap: ldaps://NAME, or ldap://NAME, which is secured by StartTLS before anything is said. radius: radius+tls://NAME (RFC 6614), or radius://NAME, by UDP."`
	From      netip.Addr   `json:"from-address,omitzero" eg:"10.20.0.1" doc:"The service's own address that it is asked from, where its machine has several; the system's choice if not given."`
	Authority string       `json:"authority,omitempty" lines:"many" eg:"-----BEGIN CERTIFICATE----- and so on" doc:"By whom its servers' certificates are, PEM; the system's authorities if not given." then:"Nobody else's certificate is believed, and the name in it must be the server's."`
	Secret    string       `json:"secret,omitempty" kept:"secret" eg:"mainland-account" doc:"Name of what the service proves itself with, kept beside the plan (yl secret keep): the account's password of a directory, the secret that a RADIUS server shares with the service."`
	Groups    []GroupTaken `json:"groups,omitempty" nullable:"false" doc:"Which of its groups are which of the plan's; those of the same name if not given."`
	Timeout   Duration     `json:"timeout,omitempty" eg:"5s" doc:"For how long a login waits for all of its servers together, 1s to 10s; 5s if not given."`
	Remember  Duration     `json:"remember,omitempty" eg:"24h" doc:"For how long after a login somebody still comes in where none of its servers answers, 1h to 720h; not at all if not given." then:"Who is switched off there meanwhile comes in until it answers again. A hash of the password is kept for it (argon2id)."`
	Off       bool         `json:"off,omitempty" doc:"Keeps the source without asking it."`
	// Own are the settings of its kind, a pointer to the kind's struct; in a document they stand among the others.
	Own any `json:"-"`
}

// GroupTaken says which of a source's groups is which of the plan's.
type GroupTaken struct {
	From string `json:"from" eg:"vpn-*" doc:"The group's name there (its common name), or its whole distinguished name; * stands for any letters of a name."`
	To   string `json:"to,omitempty" ref:"groups" eg:"researchers" doc:"The plan's group; the one that is called like what * stands for if not given."`
}

const defaultTimeout = 5 * time.Second

var sourceKinds = []Kind{
	{Name: KindLDAP, Options: reflect.TypeFor[LDAP]()},
	{Name: KindRADIUS, Options: reflect.TypeFor[RADIUS]()},
}

// Patience is for how long a login waits.
func (s *Source) Patience() time.Duration {
	if s.Timeout > 0 {
		return time.Duration(s.Timeout)
	}
	return defaultTimeout
}

// serverPorts are the schemes by which each kind's servers are named, with the ports that they have if nothing is said.
var serverPorts = map[string]map[string]string{
	KindLDAP:   {"ldap": "389", "ldaps": "636"},
	KindRADIUS: {SchemeRADIUS: "1812", SchemeRADIUSTLS: "2083"},
}

// Server is where a source is asked.
type Server struct {
	Scheme string
	Host   string // name or address
	Port   string
}

// ReadServer reads where a source of a kind is said to be.
func ReadServer(kind, server string) (Server, error) {
	ports := serverPorts[kind]
	u, err := url.Parse(server)
	if err != nil || ports[u.Scheme] == "" || u.Hostname() == "" || u.User != nil || strings.Trim(u.Path, "/") != "" || u.RawQuery != "" ||
		strings.ContainsFunc(u.Hostname(), unicode.IsSpace) {
		return Server{}, fmt.Errorf("%q is no server: expected %s, with a port where it is another one", server, Expected(kind))
	}
	out := Server{u.Scheme, u.Hostname(), ports[u.Scheme]}
	if given := u.Port(); given != "" {
		n, err := strconv.ParseUint(given, 10, 16)
		if err != nil || n == 0 {
			return Server{}, fmt.Errorf("%q is no server: there is no port %s", server, given)
		}
		out.Port = given
	}
	return out, nil
}

// Expected says how a kind's servers are written.
func Expected(kind string) string {
	schemes := slices.Sorted(maps.Keys(serverPorts[kind]))
	slices.Reverse(schemes) // the secured one first
	return strings.Join(schemes, "://NAME or ") + "://NAME"
}

// Address is what is dialled.
func (s Server) Address() string {
	if strings.Contains(s.Host, ":") { // an IPv6 address
		return "[" + s.Host + "]:" + s.Port
	}
	return s.Host + ":" + s.Port
}

// Judges tells whether a kind of source can judge people who log in by a way that asks for a password: a directory can only be handed one.
func Judges(kind, login string) bool {
	return login == LoginTTLS || kind == KindRADIUS && (login == LoginMSCHAPv2 || login == LoginRelayed)
}

// Possible are the plan's groups that people of a source can be in, by what it makes of its groups.
func (s *Source) Possible(groups []Group) (out []string) {
	for _, g := range groups {
		may := len(s.Groups) == 0 // those of the same name
		for _, m := range s.Groups {
			may = may || m.To == g.Name || m.To == "" && (strings.Contains(m.From, "*") || m.From == g.Name)
		}
		if may {
			out = append(out, g.Name)
		}
	}
	return out
}
