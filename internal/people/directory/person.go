package directory

import (
	"encoding/binary"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"yellowlantern/internal/core/fold"
	"yellowlantern/internal/people/source"
)

// Attributes that tell of an account's state: of corporate directories, and of others by RFC 2307 and the password policy draft.
var stateAttributes = []string{
	"userAccountControl", "msDS-User-Account-Control-Computed", "lockoutTime", "accountExpires", "primaryGroupID", "objectSid",
	"shadowExpire", "pwdAccountLockedTime", "nsAccountLock",
}

// inChain is the matching rule by which a corporate directory follows groups of groups itself.
const inChain = "1.2.840.113556.1.4.1941"

// corporate is the capability by which such a directory is known (rootDSE).
const corporate = "1.2.840.113556.1.4.800"

func (a *asking) attributes() []string {
	s := a.d.own
	out := append([]string{s.LoginAttribute(), "cn", "displayName", "mail"}, stateAttributes...)
	if m := s.MembershipAttribute(); m != "" {
		out = append(out, m)
	}
	return out
}

// filter finds a person by what they log in with, whatever that holds (RFC 4515 §3).
func (a *asking) filter(user string) string {
	own := fmt.Sprintf("(%s=%s)", a.d.own.LoginAttribute(), ldap.EscapeFilter(user))
	if a.d.own.Filter == "" {
		return own
	}
	return "(&" + a.d.own.Filter + own + ")"
}

func (a *asking) request(user string) *ldap.SearchRequest {
	return ldap.NewSearchRequest(a.d.own.Base, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 2, 0, false, a.filter(user),
		a.attributes(), nil)
}

// find finds a person's entry by the account, and tells whether the person may come in as far as the entry says.
func (a *asking) find(user string) (*ldap.Entry, error) {
	begun := time.Now()
	r := a.request(user)
	out, err := a.search(r)
	return a.found(begun, user, r, out, err)
}

func (a *asking) found(begun time.Time, user string, r *ldap.SearchRequest, out *ldap.SearchResult, err error) (*ldap.Entry, error) {
	var own *source.Error
	switch {
	case errors.As(err, &own):
		return nil, err
	case ldap.IsErrorWithCode(err, ldap.LDAPResultSizeLimitExceeded), err == nil && len(out.Entries) > 1:
		err = source.Fail(source.Several, "more than one entry below %s is called that by %s", r.BaseDN, a.d.own.LoginAttribute())
	case ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject), ldap.IsErrorWithCode(err, ldap.LDAPResultInvalidDNSyntax):
		err = source.Fail(source.Mistaken, "there is nothing at %s", r.BaseDN)
	case ldap.IsErrorWithCode(err, ldap.ErrorFilterCompile):
		err = source.Fail(source.Mistaken, "the filter %s cannot be read", r.Filter)
	case ldap.IsErrorWithCode(err, ldap.LDAPResultReferral):
		err = source.Fail(source.Mistaken, "it refers to another server for %s, which is not followed: name that server, or a base that this one has", r.BaseDN)
	case err != nil:
		err = source.Fail(source.Away, "looking for somebody: %v", said(err))
	case len(out.Entries) == 0:
		err = source.Fail(source.Unknown, "0 entries below %s, the filter was %s", r.BaseDN, r.Filter)
	}
	if err != nil {
		a.did(begun, err, "looked for %s", user)
		return nil, err
	}
	e := out.Entries[0]
	a.did(begun, nil, "found %s", e.DN)
	if err := state(e, time.Now()); err != nil {
		a.did(begun, err, "the state of the account")
		return e, err
	}
	return e, nil
}

// data is the code of a corporate directory in the text of a refused bind.
var data = regexp.MustCompile(`\bdata ([0-9a-f]+)\b`)

// refusedFor says why a corporate directory refuses a password that is right.
var refusedFor = map[string]string{
	"530": "they may not log in at this hour", "531": "they may not log in from here", "532": "their password has expired",
	"533": "they are switched off", "701": "their account has expired", "773": "they must change their password first", "775": "they are locked out",
}

// proves has a person bind with their password, by a connection of its own: the account's stays the account's.
func (a *asking) proves(dn, password string) error {
	c, server, err := a.connect()
	if err != nil {
		return err
	}
	defer c.Close()
	return a.bindAs(c, server, dn, password)
}

func (a *asking) bindAs(c *ldap.Conn, server, name, password string) error {
	_, err := a.bindFor(c, server, name, password)
	return err
}

// bindFor also tells whether the connection is theirs now, be it to change their password alone.
func (a *asking) bindFor(c *ldap.Conn, server, name, password string) (bound bool, err error) {
	begun := time.Now()
	a.within(c)
	result, err := c.SimpleBind(&ldap.SimpleBindRequest{
		Username: name, Password: password,
		Controls: []ldap.Control{ldap.NewControlBeheraPasswordPolicy()},
	})
	bound = err == nil
	var e *ldap.Error
	switch {
	case toChange(result):
		err = source.Fail(source.Expired, "they must choose another password first")
	case ldap.IsErrorWithCode(err, ldap.LDAPResultInvalidCredentials), ldap.IsErrorWithCode(err,
		ldap.LDAPResultInappropriateAuthentication):
		errors.As(err, &e)
		if m := data.FindStringSubmatch(e.Err.Error()); m != nil && refusedFor[m[1]] != "" {
			kind := source.Barred
			if m[1] == "532" || m[1] == "773" {
				kind = source.Expired
			}
			err = source.Fail(kind, "%s", refusedFor[m[1]])
		} else {
			err = source.Fail(source.Wrong, "the password is wrong")
		}
	case ldap.IsErrorWithCode(err, ldap.LDAPResultInvalidDNSyntax), ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject):
		err = source.Fail(source.Unknown, "nobody is called %s there", name)
	case ldap.IsErrorWithCode(err, ldap.LDAPResultUnwillingToPerform), ldap.IsErrorWithCode(err, ldap.LDAPResultConstraintViolation):
		err = source.Fail(source.Barred, "the directory will not have them log in (%v)", said(err))
	case err != nil:
		err = source.Fail(source.Away, "%s: %v", server, said(err))
	}
	a.did(begun, err, "bound as %s with the password", name)
	return bound, err
}

// direct has a person bind as themselves, and read their own entry.
func (a *asking) direct(user, password string) (source.Person, error) {
	name := user
	if as := a.d.own.BindAs; strings.Contains(as, "=") { // a distinguished name (RFC 4514 §2.4)
		name = strings.ReplaceAll(as, "{user}", ldap.EscapeDN(user))
	} else if as != "" {
		name = strings.ReplaceAll(as, "{user}", user)
	}
	c, server, err := a.connect()
	if err != nil {
		return source.Person{}, err
	}
	defer c.Close()
	if err := a.bindAs(c, server, name, password); err != nil {
		return source.Person{}, err
	}
	a.lookup, a.server = c, server
	defer func() { a.lookup = nil }() // it is the person's, and nobody else's
	entry, err := a.find(user)
	if err != nil {
		return source.Person{}, err
	}
	return a.person(entry, user)
}

// filetime is a moment in hundreds of nanoseconds since 1601, as corporate directories write it; ok is false where none is meant.
func filetime(text string) (time.Time, bool) {
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n <= 0 || n == 0x7fffffffffffffff {
		return time.Time{}, false
	}
	return time.Unix(n/1e7-11644473600, 0).UTC(), true
}

// state tells why an entry's person may not come in; nil: nothing says so.
func state(e *ldap.Entry, now time.Time) error {
	control, _ := strconv.Atoi(e.GetAttributeValue("userAccountControl"))
	computed, _ := strconv.Atoi(e.GetAttributeValue("msDS-User-Account-Control-Computed"))
	const disabled, locked, expired = 0x2, 0x10, 0x800000
	switch {
	case control&disabled != 0:
		return source.Fail(source.Barred, "they are switched off there")
	case (control|computed)&locked != 0:
		return source.Fail(source.Barred, "they are locked out there")
	case computed&expired != 0:
		return source.Fail(source.Expired, "their password has expired there")
	case e.GetAttributeValue("pwdAccountLockedTime") != "", strings.EqualFold(e.GetAttributeValue("nsAccountLock"), "true"):
		return source.Fail(source.Barred, "they are locked out there")
	}
	if over, ok := filetime(e.GetAttributeValue("accountExpires")); ok && !now.Before(over) {
		return source.Fail(source.Barred, "their account ended there on %s", over.Format(time.DateOnly))
	}
	if days, err := strconv.Atoi(e.GetAttributeValue("shadowExpire")); err == nil && days >= 0 {
		if over := time.Unix(int64(days)*86400, 0).UTC(); !now.Before(over) {
			return source.Fail(source.Barred, "their account ended there on %s", over.Format(time.DateOnly))
		}
	}
	return nil
}

// person is who an entry is about, with their groups.
func (a *asking) person(e *ldap.Entry, user string) (source.Person, error) {
	s := a.d.own
	p := source.Person{
		Name: e.DN, Login: e.GetAttributeValue(s.LoginAttribute()), FullName: e.GetAttributeValue("displayName"),
		Mail: e.GetAttributeValue("mail"),
	}
	if p.FullName == "" {
		p.FullName = e.GetAttributeValue("cn")
	}
	begun := time.Now()
	for _, name := range e.GetAttributeValues(s.LoginAttribute()) { // of several names the one that they were looked for by
		if fold.Same(name, user) {
			p.Login = name
		}
	}
	groups, requests, err := a.groups(e)
	a.did(begun, err, "groups: %d, further requests for them: %d", len(groups), requests)
	p.Groups = groups
	return p, err
}

// set is groups, each once.
type set struct {
	seen map[string]bool // by the name in one spelling
	all  []source.Group
}

// add takes a group that is not there yet, and tells so.
func (s *set) add(dn string) bool {
	parsed, err := ldap.ParseDN(dn)
	if err != nil || len(parsed.RDNs) == 0 {
		return false
	}
	key := strings.ToLower(parsed.String())
	if s.seen[key] {
		return false
	}
	if s.seen == nil {
		s.seen = map[string]bool{}
	}
	s.seen[key] = true
	s.all = append(s.all, source.Group{DN: dn, Name: parsed.RDNs[0].Attributes[0].Value})
	return true
}

func (a *asking) groups(e *ldap.Entry) (out []source.Group, requests int, err error) {
	s := a.d.own
	var all set
	if m := s.MembershipAttribute(); m != "" {
		for _, dn := range e.GetAttributeValues(m) {
			all.add(dn)
		}
	}
	ask := func(base, filter string) (news []string, err error) {
		requests++
		r := ldap.NewSearchRequest(base, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, mostGroups, 0, false, filter, []string{"1.1"}, nil)
		got, err := a.search(r)
		var own *source.Error
		switch {
		case errors.As(err, &own):
			return nil, err
		case ldap.IsErrorWithCode(err, ldap.LDAPResultSizeLimitExceeded):
			return nil, source.Fail(source.Mistaken, "more than %d groups are found: name a narrower group-base", mostGroups)
		case ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject):
			return nil, source.Fail(source.Mistaken, "there is nothing at %s", base)
		case err != nil:
			return nil, source.Fail(source.Away, "looking for groups: %v", said(err))
		}
		for _, g := range got.Entries {
			if all.add(g.DN) {
				news = append(news, g.DN)
			}
		}
		return news, nil
	}
	if sid := e.GetRawAttributeValue("objectSid"); len(sid) > 8 {
		if id, err := strconv.ParseUint(e.GetAttributeValue("primaryGroupID"), 10, 32); err == nil { // which no list of members names
			group := binary.LittleEndian.AppendUint32(slices.Clone(sid[:len(sid)-4]), uint32(id))
			if _, err := ask(base(s.GroupBase, s.Base), "(objectSid="+escapeOctets(group)+")"); err != nil {
				return nil, requests, err
			}
		}
	}
	if s.Nested && a.chained() {
		_, err = ask(base(s.GroupBase, s.Base), fmt.Sprintf("(%s:%s:=%s)", s.MemberAttribute(), inChain, ldap.EscapeFilter(e.DN)))
		return all.all, requests, err
	}
	if s.GroupBase == "" {
		return all.all, requests, nil
	}
	next := []string{e.DN}
	if s.Nested {
		for _, g := range all.all {
			next = append(next, g.DN)
		}
	}
	for level := 0; len(next) > 0 && level < deepest; level++ {
		var news []string
		for part := range slices.Chunk(next, 50) {
			filter := ""
			for _, dn := range part {
				filter += fmt.Sprintf("(%s=%s)", s.MemberAttribute(), ldap.EscapeFilter(dn))
			}
			found, err := ask(s.GroupBase, "(|"+filter+")")
			if err != nil {
				return nil, requests, err
			}
			news = append(news, found...)
		}
		if next = news; !s.Nested {
			break
		}
	}
	return all.all, requests, nil
}

func base(first, otherwise string) string {
	if first != "" {
		return first
	}
	return otherwise
}

func escapeOctets(b []byte) string {
	var out strings.Builder
	for _, o := range b {
		fmt.Fprintf(&out, `\%02x`, o)
	}
	return out.String()
}

// chained tells whether the directory follows groups of groups itself.
func (a *asking) chained() bool {
	if a.corp == nil {
		r := ldap.NewSearchRequest("", ldap.ScopeBaseObject, ldap.NeverDerefAliases, 1, 0, false, "(objectClass=*)",
			[]string{"supportedCapabilities"}, nil)
		out, err := a.search(r)
		is := err == nil && len(out.Entries) == 1 && slices.Contains(out.Entries[0].GetAttributeValues("supportedCapabilities"), corporate)
		a.corp = &is
	}
	return *a.corp
}
