package directory

import (
	"context"
	"encoding/binary"
	"unicode/utf16"

	"github.com/go-ldap/ldap/v3"

	"yellowlantern/internal/people/source"
)

// toChange tells of a bind's answer that the password is right, and counts only to choose another with (the password policy draft, §6.2).
func toChange(r *ldap.SimpleBindResult) bool {
	if r == nil {
		return false
	}
	c, ok := ldap.FindControl(r.Controls, ldap.ControlTypeBeheraPasswordPolicy).(*ldap.ControlBeheraPasswordPolicy)
	return ok && (c.Error == ldap.BeheraPasswordExpired || c.Error == ldap.BeheraChangeAfterReset)
}

// Changes implements source.Changer.
func (d *Directory) Changes() bool { return d.own.Changes && d.Looks() }

// Change implements source.Changer: by the person themselves where the directory lets them bind for that, otherwise by the account, and
// with the former password either way.
func (d *Directory) Change(ctx context.Context, c source.Call, next string) (err error) {
	defer func() { d.Settled(err) }()
	ctx, stop := context.WithTimeout(ctx, d.s.Patience())
	defer stop()
	a := &asking{d: d, ctx: ctx}
	defer a.close()
	entry, err := a.find(c.User)
	if entry == nil || err != nil && source.KindOf(err) != source.Expired {
		return err
	}
	own, server, err := a.connect()
	if err != nil {
		return err
	}
	defer own.Close()
	bound, err := a.bindFor(own, server, entry.DN, c.Password)
	if err != nil && source.KindOf(err) != source.Expired {
		return err
	}
	if a.chained() {
		return a.changeCorporate(entry.DN, c.Password, next)
	}
	by := own
	if !bound {
		if by, err = a.bound(); err != nil {
			return err
		}
	}
	a.within(by)
	_, err = by.PasswordModify(ldap.NewPasswordModifyRequest(entry.DN, c.Password, next)) // RFC 3062
	return changed(err)
}

// changeCorporate changes a password as corporate directories have it: the former one taken away and the next one added, in one request
// over a secured connection, which anybody may ask for who knows the former one.
func (a *asking) changeCorporate(dn, password, next string) error {
	c, err := a.bound()
	if err != nil {
		return err
	}
	r := ldap.NewModifyRequest(dn, nil)
	r.Delete("unicodePwd", []string{quotedUTF16(password)})
	r.Add("unicodePwd", []string{quotedUTF16(next)})
	a.within(c)
	return changed(c.Modify(r))
}

// quotedUTF16 is a password as unicodePwd has it.
func quotedUTF16(text string) string {
	var out []byte
	for _, u := range utf16.Encode([]rune(`"` + text + `"`)) {
		out = binary.LittleEndian.AppendUint16(out, u)
	}
	return string(out)
}

// changed is what came of it.
func changed(err error) error {
	switch {
	case err == nil:
		return nil
	case ldap.IsErrorWithCode(err, ldap.LDAPResultInvalidCredentials):
		return source.Fail(source.Wrong, "the password is wrong")
	case ldap.IsErrorWithCode(err, ldap.LDAPResultConstraintViolation), ldap.IsErrorWithCode(err, ldap.LDAPResultUnwillingToPerform):
		return source.Fail(source.Unfit, "the directory will not have it (%v)", said(err))
	case ldap.IsErrorWithCode(err, ldap.LDAPResultInsufficientAccessRights):
		return source.Fail(source.Mistaken, "the account may not change passwords there")
	}
	return source.Fail(source.Away, "changing the password: %v", said(err))
}
