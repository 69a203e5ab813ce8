package plan

import "time"

// KindLDAP is a directory (RFC 4511).
const KindLDAP = "ldap"

// LDAP is what a source of that kind says beside what every source does.
type LDAP struct {
	Account     string   `json:"account,omitempty" eg:"cn=lantern,ou=services,dc=tern,dc=example" ask:"always" doc:"As whom the service looks people up." then:"Without one nobody is known but at their own login: who is switched off there stays connected until their session ends by its limits."`
	BindAs      string   `json:"bind-as,omitempty" eg:"uid={user},ou=people,dc=tern,dc=example" doc:"What a person's own name is there, where there is no account; {user} is what they log in with. A name such as {user}@tern.example will do where the directory takes it."`
	Base        string   `json:"base" eg:"ou=people,dc=tern,dc=example" ask:"always" doc:"Below what people are looked for."`
	LoginBy     string   `json:"login-by,omitempty" eg:"uid" doc:"The attribute that holds what people log in with; uid if not given. Corporate directories have sAMAccountName and userPrincipalName."`
	Filter      string   `json:"filter,omitempty" eg:"(objectClass=inetOrgPerson)" doc:"Which of the entries there are people (RFC 4515); any that have the attribute if not given."`
	Membership  string   `json:"membership,omitempty" eg:"memberOf" doc:"The attribute of a person that names their groups; memberOf if not given. none: groups are looked for by their members alone."`
	GroupBase   string   `json:"group-base,omitempty" eg:"ou=groups,dc=tern,dc=example" doc:"Below what groups are looked for by their members; they are not if not given."`
	GroupMember string   `json:"group-member,omitempty" eg:"member" doc:"The attribute of a group that names its members; member if not given."`
	Nested      bool     `json:"nested,omitempty" doc:"Groups of groups count, to any depth."`
	Changes     bool     `json:"change-passwords,omitempty" doc:"People whose password there has expired, or was made for them, choose another in the login, where the device is asked once more (EAP-GTC inside eap-ttls)." then:"Where the directory does not let them do it themselves the account must be allowed to."`
	LookAgain   Duration `json:"look-again,omitempty" eg:"5m" doc:"How often it is looked whether people who are connected still may be, 30s to 24h; 5m if not given. It needs an account."`
}

// Defaults of a directory.
const (
	DefaultLoginBy    = "uid"
	DefaultMembership = "memberOf"
	DefaultMember     = "member"
	MembershipNone    = "none"
	defaultLookAgain  = 5 * time.Minute
)

// LDAP gives the settings of a source of that kind; of another kind there are none.
func (s *Source) LDAP() *LDAP {
	if o, ok := s.Own.(*LDAP); ok {
		return o
	}
	return &LDAP{}
}

// LoginAttribute holds what people log in with.
func (o *LDAP) LoginAttribute() string { return or(o.LoginBy, DefaultLoginBy) }

// MembershipAttribute names a person's groups; empty: none does.
func (o *LDAP) MembershipAttribute() string {
	if o.Membership == MembershipNone {
		return ""
	}
	return or(o.Membership, DefaultMembership)
}

// MemberAttribute names a group's members.
func (o *LDAP) MemberAttribute() string { return or(o.GroupMember, DefaultMember) }

// Again is how often it is looked whether people still may be connected.
func (o *LDAP) Again() time.Duration {
	if o.LookAgain > 0 {
		return time.Duration(o.LookAgain)
	}
	return defaultLookAgain
}
