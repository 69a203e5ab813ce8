// Package store keeps the service's records in SQLite through GORM: administrators, people, drafts, revisions, secrets,
// the journal, probe reports. Secrets are sealed under a key file beside the database. What records mean is left to others.
package store

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync/atomic"

	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
	_ "modernc.org/sqlite" // the driver
)

// Store is an open database.
type Store struct {
	db     *gorm.DB
	seal   cipher.AEAD
	people atomic.Uint64
}

// Errors that callers tell apart.
var (
	ErrNotFound = errors.New("not found")
	ErrExists   = errors.New("exists already")
	ErrStale    = errors.New("was changed meanwhile")
)

const pragmas = "?_pragma=journal_mode(WAL)&_pragma=foreign_keys(1)&_pragma=busy_timeout(5000)&_pragma=synchronous(NORMAL)&_txlock=immediate&_time_format=sqlite"

// Open opens the database in a folder, making both where they do not exist, and the key file beside it.
func Open(folder string) (*Store, error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, fmt.Errorf("data folder: %w", err)
	}
	key, err := keyFile(filepath.Join(folder, "key"))
	if err != nil {
		return nil, err
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	gcm, err := cipher.NewGCM(block)
	if err != nil {
		return nil, err
	}
	path := filepath.Join(folder, "yellowlantern.db")
	db, err := gorm.Open(sqlite.Dialector{DriverName: "sqlite", DSN: path + pragmas},
		&gorm.Config{Logger: logger.Discard, TranslateError: false})
	if err != nil {
		return nil, fmt.Errorf("database %s: %w", path, err)
	}
	_ = os.Chmod(path, 0o600)
	s := &Store{db: db, seal: gcm}
	if err := s.migrate(); err != nil {
		return nil, fmt.Errorf("database %s: %w", path, err)
	}
	return s, nil
}

// keyFile reads the key, or makes it. It is written under another name first, so that a half-written key never counts.
func keyFile(path string) ([]byte, error) {
	key, err := os.ReadFile(path)
	if err == nil {
		if len(key) != 32 {
			return nil, fmt.Errorf("key file %s has %d octets, expected 32: restore it from the backup, without it no secret can be read", path, len(key))
		}
		return key, nil
	}
	if !errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("key file: %w", err)
	}
	key = make([]byte, 32)
	if _, err := rand.Read(key); err != nil {
		return nil, err
	}
	if err := os.WriteFile(path+".new", key, 0o600); err != nil {
		return nil, fmt.Errorf("key file: %w", err)
	}
	return key, os.Rename(path+".new", path)
}

// Close closes the database.
func (s *Store) Close() error {
	db, err := s.db.DB()
	if err != nil {
		return err
	}
	return db.Close()
}

// sealed encrypts a secret, bound to what it is for.
func (s *Store) sealed(plain []byte, purpose string) ([]byte, error) {
	nonce := make([]byte, s.seal.NonceSize())
	if _, err := rand.Read(nonce); err != nil {
		return nil, err
	}
	return s.seal.Seal(nonce, nonce, plain, []byte(purpose)), nil
}

func (s *Store) unsealed(b []byte, purpose string) ([]byte, error) {
	n := s.seal.NonceSize()
	if len(b) < n {
		return nil, errors.New("the sealed secret is damaged")
	}
	plain, err := s.seal.Open(nil, b[:n], b[n:], []byte(purpose))
	if err != nil {
		return nil, errors.New("the secret does not open: it was sealed under another key file")
	}
	return plain, nil
}

// migrations bring the database from one version of its shape to the next; none is ever changed once released.
var migrations = []func(*gorm.DB) error{
	func(db *gorm.DB) error {
		return db.AutoMigrate(&Administrator{}, &ConsoleSession{}, &Token{}, &User{}, &Membership{}, &Draft{}, &Revision{}, &Secret{}, &JournalEntry{}, &ProbeReport{})
	},
	func(db *gorm.DB) error { return db.AutoMigrate(&OnTrial{}) },
	func(db *gorm.DB) error { return db.AutoMigrate(&Secret{}, &SharedSecret{}, &RevokedCertificate{}) },
	func(db *gorm.DB) error { return db.AutoMigrate(&ProbeReport{}, &Round{}, &Schedule{}, &PastSession{}) },
}

func (s *Store) migrate() error {
	return s.db.Transaction(func(db *gorm.DB) error {
		var version int
		if err := db.Raw("PRAGMA user_version").Scan(&version).Error; err != nil {
			return err
		}
		if version > len(migrations) {
			return fmt.Errorf("it was written by a newer version of this program (shape %d, this one knows %d)", version, len(migrations))
		}
		for ; version < len(migrations); version++ {
			if err := migrations[version](db); err != nil {
				return fmt.Errorf("bringing it to shape %d: %w", version+1, err)
			}
		}
		return db.Exec(fmt.Sprintf("PRAGMA user_version = %d", version)).Error
	})
}

func translate(err error) error {
	switch {
	case errors.Is(err, gorm.ErrRecordNotFound):
		return ErrNotFound
	case err != nil && isDuplicate(err):
		return ErrExists
	}
	return err
}

// isDuplicate knows SQLite's codes for a key that exists: SQLITE_CONSTRAINT_PRIMARYKEY and _UNIQUE.
func isDuplicate(err error) bool {
	var coded interface{ Code() int }
	return errors.As(err, &coded) && (coded.Code() == 1555 || coded.Code() == 2067)
}
