// Package backup writes everything that the service holds into one file, and puts it back. The file is a tar archive: what it is, in JSON;
// the database, as SQLite has it; and the key that secrets are sealed under, itself sealed under a passphrase. A backup without secrets
// has no key, and nothing that would need it.
package backup

import (
	"archive/tar"
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"golang.org/x/crypto/scrypt"

	"yellowlantern/internal/private"
	"yellowlantern/internal/store"
)

const (
	manifestName = "backup.json"
	format       = 1
	mostManifest = 1 << 20
	mostKey      = 1 << 12

	// LeastPassphrase is the least length of a passphrase, in octets.
	LeastPassphrase = 12
)

// Cost of guessing a passphrase (RFC 7914): a second and 128 MiB each.
const scryptN, scryptR, scryptP = 1 << 17, 8, 1

// Manifest says what a backup is.
type Manifest struct {
	Format   int       `json:"format"`
	Program  string    `json:"program"` // version that wrote it
	At       time.Time `json:"at"`
	Secrets  bool      `json:"secrets"`
	Database string    `json:"database"` // SHA-256, hexadecimal
	Key      *sealed   `json:"key,omitempty"`
}

// sealed is the key file under a passphrase: AES-256-GCM by a key that scrypt made.
type sealed struct {
	N, R, P     int
	Salt, Nonce []byte
	Box         []byte
}

// Write writes a backup of a folder to a path, whole or not at all, also while a service uses the folder. No passphrase: without secrets.
func Write(folder, path, program string, passphrase []byte) (m Manifest, err error) {
	if _, err := os.Stat(path); err == nil {
		return m, fmt.Errorf("%s is there already: choose another name", path)
	}
	work, err := os.MkdirTemp(filepath.Dir(path), ".backup-*") // for its owner only
	if err != nil {
		return m, err
	}
	defer os.RemoveAll(work)
	db := filepath.Join(work, store.DatabaseName)
	m = Manifest{Format: format, Program: program, At: time.Now().UTC(), Secrets: len(passphrase) > 0}
	if err := store.Copy(folder, db, m.Secrets); err != nil {
		return m, err
	}
	if m.Database, err = digest(db); err != nil {
		return m, err
	}
	if m.Secrets {
		key, err := os.ReadFile(filepath.Join(folder, store.KeyName))
		if err != nil {
			return m, fmt.Errorf("key file: %w", err)
		}
		if m.Key, err = seal(key, passphrase); err != nil {
			return m, err
		}
	}
	archive := filepath.Join(work, "archive")
	if err := pack(archive, m, db); err != nil {
		return m, err
	}
	return m, os.Rename(archive, path)
}

func digest(path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	_, err = io.Copy(h, f)
	return hex.EncodeToString(h.Sum(nil)), err
}

func pack(path string, m Manifest, db string) error {
	out, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	w := tar.NewWriter(out)
	err = add(w, m, db)
	return errors.Join(err, w.Close(), out.Sync(), out.Close())
}

func add(w *tar.Writer, m Manifest, db string) error {
	b, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return err
	}
	if err := w.WriteHeader(&tar.Header{Name: manifestName, Mode: 0o600, Size: int64(len(b)), ModTime: m.At}); err != nil {
		return err
	}
	if _, err := w.Write(b); err != nil {
		return err
	}
	f, err := os.Open(db)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	if err := w.WriteHeader(&tar.Header{Name: store.DatabaseName, Mode: 0o600, Size: info.Size(), ModTime: m.At}); err != nil {
		return err
	}
	_, err = io.Copy(w, f)
	return err
}

func box(passphrase []byte, s *sealed) (cipher.AEAD, error) {
	key, err := scrypt.Key(passphrase, s.Salt, s.N, s.R, s.P, 32)
	if err != nil {
		return nil, err
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	return cipher.NewGCM(block)
}

func seal(key, passphrase []byte) (*sealed, error) {
	if len(passphrase) < LeastPassphrase {
		return nil, fmt.Errorf("the passphrase has %d octets; give at least %d, such as four unrelated words", len(passphrase),
			LeastPassphrase)
	}
	s := &sealed{N: scryptN, R: scryptR, P: scryptP, Salt: make([]byte, 16), Nonce: make([]byte, 12)}
	_, _ = rand.Read(s.Salt)
	_, _ = rand.Read(s.Nonce)
	a, err := box(passphrase, s)
	if err != nil {
		return nil, err
	}
	s.Box = a.Seal(nil, s.Nonce, key, []byte(manifestName))
	return s, nil
}

var errPassphrase = errors.New("the passphrase is not the one that the backup was made with")

func (s *sealed) open(passphrase []byte) ([]byte, error) {
	if s.N != scryptN || s.R != scryptR || s.P != scryptP || len(s.Nonce) != 12 || len(s.Box) > mostKey {
		return nil, errors.New("the backup's key is sealed in a way that this program does not know")
	}
	a, err := box(passphrase, s)
	if err != nil {
		return nil, err
	}
	key, err := a.Open(nil, s.Nonce, s.Box, []byte(manifestName))
	if err != nil {
		return nil, errPassphrase
	}
	return key, nil
}

// Look reads what a backup is.
func Look(path string) (m Manifest, err error) {
	f, err := os.Open(path)
	if err != nil {
		return m, err
	}
	defer f.Close()
	m, _, err = read(f, path)
	return m, err
}

func read(f io.Reader, path string) (m Manifest, r *tar.Reader, err error) {
	r = tar.NewReader(f)
	h, err := r.Next()
	if err != nil || h.Name != manifestName || h.Size > mostManifest {
		return m, nil, fmt.Errorf("%s is no backup of this program", path)
	}
	if err := json.NewDecoder(r).Decode(&m); err != nil {
		return m, nil, fmt.Errorf("%s: %w", path, err)
	}
	if m.Format != format {
		return m, nil, fmt.Errorf("%s is a backup of format %d, and this program knows %d: use one of its age", path, m.Format, format)
	}
	return m, r, nil
}

// Restore puts a backup in the place of a folder that no service uses. What was there is kept aside, under the name that it gives; empty:
// there was nothing. The folder is the same user's as before. Nothing is changed where the backup is damaged, foreign, or sealed under
// another passphrase.
func Restore(path, folder string, passphrase []byte) (m Manifest, aside string, err error) {
	f, err := os.Open(path)
	if err != nil {
		return m, "", err
	}
	defer f.Close()
	m, r, err := read(f, path)
	if err != nil {
		return m, "", err
	}
	var key []byte
	if m.Key != nil {
		if key, err = m.Key.open(passphrase); err != nil {
			return m, "", err
		}
	}
	folder = filepath.Clean(folder)
	if err := os.MkdirAll(filepath.Dir(folder), 0o755); err != nil {
		return m, "", err
	}
	fresh, err := os.MkdirTemp(filepath.Dir(folder), filepath.Base(folder)+".restored-") // for its owner alone
	if err != nil {
		return m, "", err
	}
	defer os.RemoveAll(fresh) // once it is in place there is none
	if err = unpack(r, m, fresh, key); err == nil {
		var s *store.Store
		if s, err = store.Open(fresh); err == nil {
			err = s.Close()
		}
	}
	if err != nil {
		return m, "", err
	}
	aside, err = putInPlace(fresh, folder)
	return m, aside, err
}

// putInPlace puts a folder in the place of another one, whose owner it gets.
func putInPlace(fresh, folder string) (aside string, err error) {
	info, err := os.Lstat(folder)
	if errors.Is(err, os.ErrNotExist) {
		return "", os.Rename(fresh, folder)
	}
	if err != nil {
		return "", err
	}
	if !info.IsDir() {
		return "", fmt.Errorf("%s is no folder", folder)
	}
	lock, err := private.Lock(folder)
	if err != nil {
		return "", err
	}
	defer lock.Close()
	if err := giveTo(fresh, info); err != nil {
		return "", err
	}
	there, err := os.ReadDir(folder)
	if err != nil {
		return "", err
	}
	aside = folder + ".before-" + time.Now().UTC().Format("20060102T150405Z")
	for at, n := aside, 2; exists(aside); n++ { // of another restore in the same second
		aside = fmt.Sprintf("%s-%d", at, n)
	}
	if err := os.Rename(folder, aside); err != nil {
		return "", err
	}
	if err := os.Rename(fresh, folder); err != nil {
		return "", errors.Join(err, os.Rename(aside, folder))
	}
	if len(there) == 1 { // the lock alone
		return "", os.RemoveAll(aside)
	}
	return aside, nil
}

func exists(path string) bool {
	_, err := os.Lstat(path)
	return err == nil
}

// giveTo gives a folder and what is in it to the owner of another one.
func giveTo(folder string, like os.FileInfo) error {
	owner, ok := like.Sys().(*syscall.Stat_t)
	if !ok || int(owner.Uid) == os.Geteuid() && int(owner.Gid) == os.Getegid() {
		return nil
	}
	return filepath.WalkDir(folder, func(path string, _ os.DirEntry, err error) error {
		if err == nil {
			err = os.Lchown(path, int(owner.Uid), int(owner.Gid))
		}
		return err
	})
}

func unpack(r *tar.Reader, m Manifest, folder string, key []byte) error {
	h, err := r.Next()
	if err != nil || h.Name != store.DatabaseName {
		return errors.New("the backup is cut short: there is no database in it")
	}
	db := filepath.Join(folder, store.DatabaseName)
	out, err := os.OpenFile(db, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, r)
	if err := errors.Join(err, out.Sync(), out.Close()); errors.Is(err, io.ErrUnexpectedEOF) {
		return errors.New("the backup is cut short")
	} else if err != nil {
		return fmt.Errorf("the backup's database: %w", err)
	}
	if got, err := digest(db); err != nil || got != m.Database {
		return errors.New("the backup is damaged: its database is not the one that was written")
	}
	if key == nil {
		return nil
	}
	return private.Write(filepath.Join(folder, store.KeyName), key)
}
