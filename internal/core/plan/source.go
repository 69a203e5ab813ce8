package plan

import (
	"fmt"
	"net/netip"
	"net/url"
	"strings"
	"time"
)

// KindLDAP is a directory (RFC 4511).
const KindLDAP = "ldap"

// Source is where people are kept beside the service's own: who is not among these is looked for in the sources, in their order.
type Source struct {
	Name        string       `json:"name" eg:"mainland" doc:"Its name."`
	Kind        string       `json:"kind" enum:"ldap" doc:"ldap: a directory (RFC 4511)."`
	Servers     []string     `json:"servers" nullable:"false" eg:"ldaps://directory.tern.example" doc:"Where it is asked, in order: ldaps://NAME, or ldap://NAME, which is secured by StartTLS before anything is said; with a port where it is another one."`
	From        netip.Addr   `json:"from-address,omitzero" eg:"10.20.0.1" doc:"The service's own address that it is asked from, where its machine has several; the system's choice if not given."`
	Authority   string       `json:"authority,omitempty" lines:"many" eg:"-----BEGIN CERTIFICATE----- and so on" doc:"By whom its servers' certificates are, PEM; the system's authorities if not given." then:"Nobody else's certificate is believed, and the name in it must be the server's."`
	Account     string       `json:"account,omitempty" eg:"cn=lantern,ou=services,dc=tern,dc=example" doc:"As whom the service looks people up." then:"Without one nobody is known but at their own login: who is switched off there stays connected until their session ends by its limits."`
	Secret      string       `json:"secret,omitempty" eg:"mainland-account" doc:"Name of the account's password, kept beside the plan (yl secret keep)."`
	BindAs      string       `json:"bind-as,omitempty" eg:"uid={user},ou=people,dc=tern,dc=example" doc:"What a person's own name is there, where there is no account; {user} is what they log in with. A name such as {user}@tern.example will do where the directory takes it."`
	Base        string       `json:"base" eg:"ou=people,dc=tern,dc=example" doc:"Below what people are looked for."`
	LoginBy     string       `json:"login-by,omitempty" eg:"uid" doc:"The attribute that holds what people log in with; uid if not given. Corporate directories have sAMAccountName and userPrincipalName."`
	Filter      string       `json:"filter,omitempty" eg:"(objectClass=inetOrgPerson)" doc:"Which of the entries there are people (RFC 4515); any that have the attribute if not given."`
	Membership  string       `json:"membership,omitempty" eg:"memberOf" doc:"The attribute of a person that names their groups; memberOf if not given. none: groups are looked for by their members alone."`
	GroupBase   string       `json:"group-base,omitempty" eg:"ou=groups,dc=tern,dc=example" doc:"Below what groups are looked for by their members; they are not if not given."`
	GroupMember string       `json:"group-member,omitempty" eg:"member" doc:"The attribute of a group that names its members; member if not given."`
	Nested      bool         `json:"nested,omitempty" doc:"Groups of groups count, to any depth."`
	Groups      []GroupTaken `json:"groups,omitempty" nullable:"false" doc:"Which of its groups are which of the plan's; those of the same name if not given."`
	Timeout     Duration     `json:"timeout,omitempty" eg:"5s" doc:"For how long a login waits for all of its servers together, 1s to 10s; 5s if not given."`
	LookAgain   Duration     `json:"look-again,omitempty" eg:"5m" doc:"How often it is looked whether people who are connected still may be, 30s to 24h; 5m if not given. It needs an account."`
	Remember    Duration     `json:"remember,omitempty" eg:"24h" doc:"For how long after a login somebody still comes in where none of its servers answers, 1h to 720h; not at all if not given." then:"Who is switched off there meanwhile comes in until it answers again. A hash of the password is kept for it (argon2id)."`
	Off         bool         `json:"off,omitempty" doc:"Keeps the source without asking it."`
}

// GroupTaken says which of a source's groups is which of the plan's.
type GroupTaken struct {
	From string `json:"from" eg:"vpn-*" doc:"The group's name there (its common name), or its whole distinguished name; * stands for any letters of a name."`
	To   string `json:"to,omitempty" ref:"groups" eg:"researchers" doc:"The plan's group; the one that is called like what * stands for if not given."`
}

// Defaults of a directory.
const (
	DefaultLoginBy    = "uid"
	DefaultMembership = "memberOf"
	DefaultMember     = "member"
	MembershipNone    = "none"
	defaultTimeout    = 5 * time.Second
	defaultLookAgain  = 5 * time.Minute
)

// LoginAttribute holds what people log in with.
func (s *Source) LoginAttribute() string { return or(s.LoginBy, DefaultLoginBy) }

// MembershipAttribute names a person's groups; empty: none does.
func (s *Source) MembershipAttribute() string {
	if s.Membership == MembershipNone {
		return ""
	}
	return or(s.Membership, DefaultMembership)
}

// MemberAttribute names a group's members.
func (s *Source) MemberAttribute() string { return or(s.GroupMember, DefaultMember) }

// Patience is for how long a login waits.
func (s *Source) Patience() time.Duration {
	if s.Timeout > 0 {
		return time.Duration(s.Timeout)
	}
	return defaultTimeout
}

// Again is how often it is looked whether people still may be connected.
func (s *Source) Again() time.Duration {
	if s.LookAgain > 0 {
		return time.Duration(s.LookAgain)
	}
	return defaultLookAgain
}

// CheckServer tells what is wrong with where a directory is said to be.
func CheckServer(server string) error {
	u, err := url.Parse(server)
	if err != nil || u.Scheme != "ldap" && u.Scheme != "ldaps" || u.Hostname() == "" || u.User != nil || strings.Trim(u.Path, "/") != "" ||
		u.RawQuery != "" {
		return fmt.Errorf("%q is no server: expected ldaps://NAME or ldap://NAME, with a port where it is another one", server)
	}
	return nil
}
