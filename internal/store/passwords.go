package store

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/hex"
	"time"

	"gorm.io/gorm"

	"yellowlantern/internal/core/eap"
	"yellowlantern/internal/core/password"
)

// Kept is what is kept of a person's password. An NT hash is as good as the password: it is kept only where somebody logs in by an answer
// to a challenge, and otherwise a hash of it that is slow to guess by.
type Kept struct {
	nt   [eap.NTHashLen]byte
	slow string // argon2id, of the NT hash; empty: the NT hash itself is kept
}

// NTHash gives the NT hash; ok is false where it is not kept.
func (k Kept) NTHash() (hash [eap.NTHashLen]byte, ok bool) { return k.nt, k.slow == "" }

// Is tells whether it is this password.
func (k Kept) Is(text string) bool {
	nt := eap.NTHash(text)
	if k.slow != "" {
		return password.Matches(k.slow, hex.EncodeToString(nt[:]))
	}
	return subtle.ConstantTimeCompare(nt[:], k.nt[:]) == 1
}

// NewPassword is a password, and how it is to be kept.
type NewPassword struct {
	Text      string
	Challenge bool          // answers to a challenge are judged by it
	Cost      password.Cost // where they are not; the zero value: as for one that a person chose
	Must      bool          // it was made by somebody else, and another is to be chosen
	Ends      bool          // sessions from before it end, and devices that come back log in
}

// seal gives what is kept of it.
func (s *Store) sealPassword(name string, p NewPassword) (sealed []byte, hashed bool, err error) {
	nt := eap.NTHash(p.Text)
	if p.Challenge {
		sealed, err = s.sealed(nt[:], purpose(name))
		return sealed, false, err
	}
	return s.slowly(name, nt, p.Cost)
}

func (s *Store) slowly(name string, nt [eap.NTHashLen]byte, cost password.Cost) (sealed []byte, hashed bool, err error) {
	if cost == (password.Cost{}) {
		cost = password.Often
	}
	slow, err := cost.Hash(hex.EncodeToString(nt[:]), rand.Reader)
	if err == nil {
		sealed, err = s.sealed([]byte(slow), purpose(name))
	}
	return sealed, true, err
}

// Password is what is kept of a person's password, with who they are.
func (s *Store) Password(ctx context.Context, name string) (u User, k Kept, err error) {
	if err = translate(s.db.WithContext(ctx).Preload("Groups").First(&u, "name = ?", name).Error); err != nil {
		return u, k, err
	}
	b, err := s.unsealed(u.Sealed, purpose(u.Name))
	switch {
	case err != nil:
	case u.Hashed:
		k.slow = string(b)
	default:
		k.nt = [eap.NTHashLen]byte(b)
	}
	u.Sealed = nil
	return u, k, err
}

// SetPassword replaces a password.
func (s *Store) SetPassword(ctx context.Context, name string, p NewPassword) error {
	sealed, hashed, err := s.sealPassword(name, p)
	if err != nil {
		return err
	}
	now := time.Now().UTC()
	set := map[string]any{"sealed": sealed, "hashed": hashed, "must_change": p.Must, "password_at": now}
	if p.Ends {
		set["ended"], set["forgotten"] = now, gorm.Expr("forgotten + 1")
	}
	return s.setSealed(ctx, name, set)
}

// KeepOtherwise keeps the password that somebody has in another way; text is it, or empty where the NT hash is to be forgotten.
func (s *Store) KeepOtherwise(ctx context.Context, name, text string, challenge bool) error {
	sealed, hashed, err := s.sealPassword(name, NewPassword{Text: text, Challenge: challenge})
	if text == "" {
		_, k, bad := s.Password(ctx, name)
		if bad != nil {
			return bad
		}
		nt, has := k.NTHash()
		if !has {
			return nil
		}
		sealed, hashed, err = s.slowly(name, nt, password.Cost{})
	}
	if err != nil {
		return err
	}
	return s.setSealed(ctx, name, map[string]any{"sealed": sealed, "hashed": hashed})
}

func (s *Store) setSealed(ctx context.Context, name string, what map[string]any) error {
	defer s.peopleChanged()
	r := s.db.WithContext(ctx).Model(&User{}).Where("name = ?", name).Updates(what)
	if r.Error == nil && r.RowsAffected == 0 {
		return ErrNotFound
	}
	return r.Error
}
