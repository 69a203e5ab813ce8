package store

import (
	"context"
	"time"

	"gorm.io/gorm/clause"
)

// Kit is that a kit was made: what it held is known by its digest alone.
type Kit struct {
	User     string `gorm:"primaryKey"`
	Platform string `gorm:"primaryKey"`
	Revision int
	Digest   string
	At       time.Time
	By       string
	Expires  time.Time // of the certificate that it holds; zero: it holds none
	// Authorities are the fingerprints of those that it holds, with spaces between.
	Authorities string
}

// SaveKit keeps that a kit was made, in place of an older one for the same kind of device.
func (s *Store) SaveKit(ctx context.Context, k Kit) error {
	return s.db.WithContext(ctx).Clauses(clause.OnConflict{UpdateAll: true}).Create(&k).Error
}

// Kits lists them by user.
func (s *Store) Kits(ctx context.Context) (map[string][]Kit, error) {
	var all []Kit
	if err := s.db.WithContext(ctx).Order("user, platform").Find(&all).Error; err != nil {
		return nil, err
	}
	out := map[string][]Kit{}
	for _, k := range all {
		out[k.User] = append(out[k.User], k)
	}
	return out, nil
}

// LoginSpan is when somebody came in, and when they were refused last.
type LoginSpan struct {
	First, Last, Refused time.Time
	Code, Words          string // of the refusal
}

// Logins gives them by user, of all the journal that is kept.
func (s *Store) Logins(ctx context.Context) (map[string]LoginSpan, error) {
	out := map[string]LoginSpan{}
	var came []struct {
		User        string
		First, Last time.Time
	}
	// The oldest and the newest line of each: their numbers go with time.
	err := s.db.WithContext(ctx).Raw(`SELECT a.user AS user, a.at AS first, b.at AS last FROM
		(SELECT user, MIN(id) AS lo, MAX(id) AS hi FROM journal_entries WHERE kind = 'login' AND user <> '' GROUP BY user) g
		JOIN journal_entries a ON a.id = g.lo JOIN journal_entries b ON b.id = g.hi`).Scan(&came).Error
	if err != nil {
		return nil, err
	}
	for _, c := range came {
		out[c.User] = LoginSpan{First: c.First, Last: c.Last}
	}
	var refused []struct {
		User, Code, Words string
		At                time.Time
	}
	err = s.db.WithContext(ctx).Raw(`SELECT j.user, j.at, j.reason AS code, j.words FROM
		(SELECT user, MAX(id) AS hi FROM journal_entries WHERE kind = 'refused' AND user <> '' GROUP BY user) g
		JOIN journal_entries j ON j.id = g.hi`).Scan(&refused).Error
	for _, r := range refused {
		l := out[r.User]
		l.Refused, l.Code, l.Words = r.At, r.Code, r.Words
		out[r.User] = l
	}
	return out, err
}

// KitLink is a link by which a person fetches a kit, once. The token in it is known by its digest alone.
type KitLink struct {
	Digest          string `gorm:"primaryKey"`
	User            string `gorm:"index"`
	Platform        string
	By              string
	At, Expires     time.Time
	Used, Withdrawn time.Time // zero: not
}

// SaveKitLink keeps a link.
func (s *Store) SaveKitLink(ctx context.Context, l KitLink) error {
	return translate(s.db.WithContext(ctx).Create(&l).Error)
}

// KitLinks lists links, the newest first; of one person, or where none is named, of everybody.
func (s *Store) KitLinks(ctx context.Context, user string) (ls []KitLink, err error) {
	q := s.db.WithContext(ctx).Order("at DESC, digest").Limit(1000)
	if user != "" {
		q = q.Where("user = ?", user)
	}
	err = q.Find(&ls).Error
	return ls, err
}

// KitLink finds one by its token's digest.
func (s *Store) KitLink(ctx context.Context, digest string) (l KitLink, err error) {
	err = translate(s.db.WithContext(ctx).First(&l, "digest = ?", digest).Error)
	return l, err
}

// EndKitLink marks a link that counts as used, or withdrawn; false where it counts no more. Of several who try at once one succeeds.
func (s *Store) EndKitLink(ctx context.Context, digest, column string, now time.Time) (bool, error) {
	never := time.Time{}
	r := s.db.WithContext(ctx).Model(&KitLink{}).
		Where("digest = ? AND used = ? AND withdrawn = ? AND expires > ?", digest, never, never, now.UTC()).Update(column, now.UTC())
	return r.RowsAffected == 1, r.Error
}
