// Package store keeps the service's records in SQLite through GORM: administrators, people, drafts, revisions, secrets,
// the journal, probe reports. Secrets are sealed under a key file beside the database. What records mean is left to others.
package store

import (
	"context"
	"crypto/cipher"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"github.com/libtnb/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"

	"yellowlantern/internal/private"
)

// Store is an open database. What somebody relies on once it is answered (commits, people, passwords, revocations, tokens) goes to the disk
// before that; events (the journal, ended sessions, reports) may lose their last moments to a power cut.
type Store struct {
	db      *gorm.DB
	events  *gorm.DB
	seal    cipher.AEAD
	people  atomic.Uint64
	roll    atomic.Uint64 // changes of people themselves
	trust   atomic.Uint64
	outside atomic.Uint64
	chain   chain
	lines   lines
	lock    *os.File
	folder  string
}

// Errors that callers tell apart.
var (
	ErrNotFound = errors.New("not found")
	ErrExists   = errors.New("exists already")
	ErrStale    = errors.New("was changed meanwhile")
)

const (
	databaseName = "yellowlantern.db"
	keyName      = "key"
	pragmas      = "?_pragma=busy_timeout(5000)&_pragma=journal_mode(WAL)&_pragma=foreign_keys(1)&_txlock=immediate&_time_format=sqlite"
	synced       = pragmas + "&_pragma=synchronous(FULL)"
	// mostConnections is how many of either kind the database has at once; whoever wants more waits. Nobody may hold one and want another.
	mostConnections = 16
	unsynced        = pragmas + "&_pragma=synchronous(NORMAL)"
)

// Open opens the database in a folder, making both where they do not exist, and the key file beside it. A second service is kept off the
// folder. A key file that is missing, or another one, is refused where there are secrets that only the right one opens.
func Open(folder string) (*Store, error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, fmt.Errorf("data folder: %w", err)
	}
	if err := private.Close(folder); err != nil {
		return nil, fmt.Errorf("data folder: %w", err)
	}
	lock, err := private.Lock(folder)
	if err != nil {
		return nil, err
	}
	s := &Store{lock: lock, folder: folder}
	if err := s.open(folder); err != nil {
		_ = s.Close()
		return nil, err
	}
	return s, nil
}

func (s *Store) open(folder string) (err error) {
	path := filepath.Join(folder, databaseName)
	if s.db, err = connect(path + synced); err != nil {
		return fmt.Errorf("database %s: %w", path, plainly(err))
	}
	if s.events, err = connect(path + unsynced); err != nil {
		return fmt.Errorf("database %s: %w", path, plainly(err))
	}
	_ = os.Chmod(path, 0o600)
	if err := s.whole(path, filepath.Join(folder, keyName)); err != nil {
		return err
	}
	if err := s.migrate(); err != nil {
		return fmt.Errorf("database %s: %w", path, plainly(err))
	}
	if err := s.openKey(filepath.Join(folder, keyName)); err != nil {
		return err
	}
	return s.signStart()
}

// checkTime is how long the database is looked at before it is used: a large one in part.
const checkTime = 20 * time.Second

// whole refuses a damaged database, and an empty one that was not empty: what is sealed under the key is missing then.
func (s *Store) whole(path, key string) error {
	var version int
	if err := s.db.Raw("PRAGMA user_version").Scan(&version).Error; err != nil {
		return fmt.Errorf("database %s: %w", path, plainly(err))
	}
	if _, err := os.Stat(key); err == nil && version == 0 {
		return fmt.Errorf("database %s is empty, and there is the key file of one that was not: put the newest backup in its place "+
			"(yl restore FILE); for a new installation take %s away", path, key)
	}
	ctx, stop := context.WithTimeout(context.Background(), checkTime)
	defer stop()
	var found []string
	err := s.db.WithContext(ctx).Raw("PRAGMA quick_check(3)").Scan(&found).Error
	switch {
	case ctx.Err() != nil: // nothing was found so far
		return nil
	case err != nil:
		return fmt.Errorf("database %s: %w", path, plainly(err))
	case len(found) != 1 || found[0] != "ok":
		return fmt.Errorf("database %s is damaged (%s): put the newest backup in its place (yl restore FILE), which keeps this one aside", path,
			strings.Join(found, "; "))
	}
	return nil
}

func connect(dsn string) (*gorm.DB, error) {
	db, err := gorm.Open(sqlite.Open(dsn), &gorm.Config{Logger: logger.Discard, TranslateError: false})
	if err != nil {
		return nil, err
	}
	pool, err := db.DB()
	if err != nil {
		return nil, err
	}
	pool.SetMaxOpenConns(mostConnections)
	pool.SetMaxIdleConns(max(1, mostConnections/4))
	return db, nil
}

// Close closes the database, and lets another service have the folder.
func (s *Store) Close() error {
	var errs []error
	for _, g := range []*gorm.DB{s.events, s.db} {
		if g == nil {
			continue
		}
		if db, err := g.DB(); err == nil {
			errs = append(errs, db.Close())
		}
	}
	if s.lock != nil {
		errs = append(errs, s.lock.Close())
	}
	return errors.Join(errs...)
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
		return db.AutoMigrate(&Administrator{}, &ConsoleSession{}, &Token{}, &User{}, &Membership{}, &Draft{}, &Revision{}, &Secret{},
			&JournalEntry{}, &ProbeReport{})
	},
	func(db *gorm.DB) error { return db.AutoMigrate(&OnTrial{}) },
	func(db *gorm.DB) error { return db.AutoMigrate(&Secret{}, &SharedSecret{}, &RevokedCertificate{}) },
	func(db *gorm.DB) error { return db.AutoMigrate(&ProbeReport{}, &Round{}, &Schedule{}, &PastSession{}) },
	func(db *gorm.DB) error { return db.AutoMigrate(&OnTrial{}) },
	func(db *gorm.DB) error { return db.AutoMigrate(&ConsoleSession{}, &Token{}) },
	func(db *gorm.DB) error {
		return db.AutoMigrate(&JournalEntry{}, &PastSession{}, &ProbeReport{}, &IssuedCertificate{}, &Secret{})
	},
	func(db *gorm.DB) error { return db.AutoMigrate(&OnTrial{}, &CommitStep{}) },
	func(db *gorm.DB) error { return db.AutoMigrate(&Taken{}) },
	func(db *gorm.DB) error { return db.AutoMigrate(&Outside{}) },
	func(db *gorm.DB) error {
		if err := db.AutoMigrate(&User{}); err != nil {
			return err
		}
		return db.Exec("UPDATE users SET forgotten = 0 WHERE forgotten IS NULL").Error
	},
	func(db *gorm.DB) error { return db.AutoMigrate(&PersonKey{}) },
	func(db *gorm.DB) error { return db.AutoMigrate(&Kit{}, &KitLink{}) },
	func(db *gorm.DB) error { return db.AutoMigrate(&PersonShared{}, &Kit{}, &PersonKey{}) },
	func(db *gorm.DB) error { return db.AutoMigrate(&PersonKey{}, &AuthorityList{}, &Invitation{}) },
	func(db *gorm.DB) error {
		if err := db.AutoMigrate(&User{}, &Membership{}, &PersonLink{}); err != nil {
			return err
		}
		return db.Exec("UPDATE users SET mail = '', hours = '', tunnels = '', sessions = 0, must_change = 0, until = ?, password_at = at",
			time.Time{}).Error
	},
	func(db *gorm.DB) error { return db.AutoMigrate(&SourcePerson{}) },
	func(db *gorm.DB) error {
		if err := db.AutoMigrate(&SourcePerson{}, &AccountedSession{}, &Account{}); err != nil {
			return err
		}
		for _, table := range []string{"users", "source_people"} {
			if err := db.Exec("CREATE INDEX IF NOT EXISTS " + table + "_spelled ON " + table + "(name COLLATE NOCASE)").Error; err != nil {
				return err
			}
		}
		return nil
	},
	func(db *gorm.DB) error {
		if err := db.AutoMigrate(&PersonLink{}, &Factor{}, &RecoveryCode{}, &CodedKey{}); err != nil {
			return err
		}
		return db.Exec("UPDATE password_links SET what = '' WHERE what IS NULL").Error
	},
	func(db *gorm.DB) error {
		if err := db.AutoMigrate(&Administrator{}, &Token{}); err != nil {
			return err
		}
		return db.Exec("UPDATE administrators SET role = 'administrator', must_change = 0; UPDATE tokens SET role = '', used = ?", time.Time{}).Error
	},
	beginLedger,
	func(db *gorm.DB) error { return db.AutoMigrate(&Approval{}) },
	func(db *gorm.DB) error {
		if err := db.AutoMigrate(&Administrator{}); err != nil {
			return err
		}
		return db.Exec("UPDATE administrators SET source = '', groups = '', checked = ?, gone = 0", time.Time{}).Error
	},
	func(db *gorm.DB) error { return db.AutoMigrate(&Guess{}) },
	func(db *gorm.DB) error {
		if err := db.AutoMigrate(&User{}); err != nil {
			return err
		}
		return db.Exec("UPDATE users SET hashed = 0").Error
	},
	bindSecrets,
	foldNames,
	func(db *gorm.DB) error { return db.AutoMigrate(&Hand{}) },
	func(db *gorm.DB) error {
		if err := db.AutoMigrate(&LedgerState{}); err != nil {
			return err
		}
		return db.Exec("UPDATE ledger_states SET signs = 0").Error
	},
	func(db *gorm.DB) error {
		if err := db.AutoMigrate(&User{}); err != nil {
			return err
		}
		return db.Exec("UPDATE users SET ended = ?", time.Time{}).Error
	},
	requests,
	enrolledProbes,
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
		if version == len(migrations) { // nothing is written, so that a full disk does not keep the service from starting
			return nil
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
