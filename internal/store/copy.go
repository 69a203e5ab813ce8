package store

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
)

// DatabaseName and KeyName are the files of a data folder that hold everything.
const (
	DatabaseName = databaseName
	KeyName      = keyName
)

// Copy writes a consistent copy of a folder's database into a file that is not there yet, also while a service uses it. Without secrets
// there is nothing in the copy that opens anything: no keys, no passwords of people or administrators, no sessions and tokens.
func Copy(folder, to string, secrets bool) error {
	from := filepath.Join(folder, databaseName)
	if _, err := os.Stat(from); err != nil {
		return fmt.Errorf("there is no database in %s: name the service's folder with --data", folder)
	}
	db, err := connect(from + unsynced)
	if err != nil {
		return plainly(err)
	}
	raw, err := db.DB()
	if err != nil {
		return err
	}
	err = db.Exec("VACUUM INTO ?", to).Error
	if err = errors.Join(err, raw.Close()); err != nil {
		return fmt.Errorf("the database cannot be copied: %w", plainly(err))
	}
	if err := os.Chmod(to, 0o600); err != nil {
		return err
	}
	if secrets {
		return nil
	}
	return forgetSecrets(to)
}

// forgetSecrets takes everything secret out of a database, also out of what its file no longer uses.
func forgetSecrets(path string) error {
	db, err := connect(path + "?_pragma=journal_mode(DELETE)&_pragma=secure_delete(1)")
	if err != nil {
		return err
	}
	for _, statement := range []string{
		"DELETE FROM secrets", "DELETE FROM shared_secrets", "DELETE FROM console_sessions", "DELETE FROM tokens", "DELETE FROM administrators",
		"UPDATE users SET sealed = NULL", "UPDATE source_people SET hash = ''", "VACUUM",
	} {
		if err = errors.Join(err, db.Exec(statement).Error); err != nil {
			break
		}
	}
	raw, errRaw := db.DB()
	if errRaw == nil {
		errRaw = raw.Close()
	}
	return errors.Join(err, errRaw)
}
