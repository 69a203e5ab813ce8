package store

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
)

const keyLen = 32 // octets

// openKey reads the key file, or makes it where nothing is sealed yet.
func (s *Store) openKey(path string) error {
	key, err := os.ReadFile(path)
	switch {
	case errors.Is(err, os.ErrNotExist):
		if n, err := s.sealedRecords(); err != nil || n > 0 {
			if err != nil {
				return plainly(err)
			}
			return fmt.Errorf("key file %s is missing, and %d passwords and private keys are sealed under it: restore it from the backup that "+
				"belongs to this database; without it none of them can be read", path, n)
		}
		if key, err = makeKey(path); err != nil {
			return fmt.Errorf("key file: %w", err)
		}
	case err != nil:
		return fmt.Errorf("key file: %w", err)
	case len(key) != keyLen:
		return fmt.Errorf("key file %s has %d octets, expected %d: restore it from the backup, without it no secret can be read", path,
			len(key), keyLen)
	}
	if info, err := os.Stat(path); err == nil && info.Mode().Perm()&0o077 != 0 {
		return fmt.Errorf("key file %s can be read by others: chmod 600 it, and consider who may have had it", path)
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return err
	}
	if s.seal, err = cipher.NewGCM(block); err != nil {
		return err
	}
	return s.tryKey(path)
}

// makeKey writes the key under another name first, so that a half-written key never counts, and to the disk before anything is sealed.
func makeKey(path string) ([]byte, error) {
	key := make([]byte, keyLen)
	if _, err := rand.Read(key); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(path+".new", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	_, err = f.Write(key)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return nil, err
	}
	return key, os.Rename(path+".new", path)
}

// sealedRecords counts what is sealed.
func (s *Store) sealedRecords() (n int64, err error) {
	err = s.db.Raw("SELECT (SELECT COUNT(*) FROM users WHERE sealed IS NOT NULL) + (SELECT COUNT(*) FROM secrets) + (SELECT COUNT(*) FROM shared_secrets)").
		Scan(&n).Error
	return n, err
}

// tryKey opens one sealed record of each kind: a foreign key file is refused at once, not at the first login.
func (s *Store) tryKey(path string) error {
	foreign := fmt.Errorf("key file %s is not the one that this database was sealed under: restore the one that belongs to it", path)
	var u User
	if err := s.db.Where("sealed IS NOT NULL").Limit(1).Find(&u).Error; err != nil {
		return plainly(err)
	}
	if len(u.Sealed) > 0 {
		if _, err := s.unsealed(u.Sealed, purpose(u.Name)); err != nil {
			return foreign
		}
	}
	var c Secret
	if err := s.db.Where("sealed IS NOT NULL").Limit(1).Find(&c).Error; err != nil {
		return plainly(err)
	}
	if len(c.Sealed) > 0 {
		if _, err := s.unsealed(c.Sealed, keyPurpose(c.Name)); err != nil {
			return foreign
		}
	}
	var x SharedSecret
	if err := s.db.Limit(1).Find(&x).Error; err != nil {
		return plainly(err)
	}
	if len(x.Sealed) > 0 {
		if _, err := s.unsealed(x.Sealed, sharedPurpose(x.Name)); err != nil {
			return foreign
		}
	}
	return nil
}
