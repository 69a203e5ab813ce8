// Package private keeps files that hold keys or tokens for their owner alone, also where they exist already with other rights.
package private

import (
	"fmt"
	"os"
	"path/filepath"
)

// Check tells what is wrong with who may read a file; one that does not exist is right.
func Check(path string) error {
	info, err := os.Stat(path)
	if err != nil {
		return nil
	}
	if perm := info.Mode().Perm(); info.Mode().IsRegular() && perm&0o077 != 0 {
		return fmt.Errorf("%s can be read or written by others (%v), and what it holds is secret: chmod 600 %s, or give another file", path, perm, path)
	}
	return nil
}

// Append opens a file to write behind what is in it.
func Append(path string) (*os.File, error) {
	if err := Check(path); err != nil {
		return nil, err
	}
	return os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
}

// Write puts a file in place of another one, whole or not at all; what others could read of the old one they cannot of the new one.
func Write(path string, b []byte) error {
	f, err := os.CreateTemp(filepath.Dir(path), ".new-*") // for its owner only
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	_, err = f.Write(b)
	if errClose := f.Close(); err == nil {
		err = errClose
	}
	if err != nil {
		return err
	}
	return os.Rename(f.Name(), path)
}
