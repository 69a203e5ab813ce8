// Package private keeps files that hold keys or tokens for their owner alone, also where they exist already with other rights.
package private

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"syscall"
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

// Foreign reads a file that a less trusted user may have written, as root may have to: a regular file of limited size and nothing else, no
// link to one. What is in it is data to be checked. It gives whose file it is.
func Foreign(path string, most int64) (b []byte, owner uint32, err error) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NOFOLLOW|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, 0, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, 0, err
	}
	if !info.Mode().IsRegular() || info.Size() > most {
		return nil, 0, fmt.Errorf("%s is no regular file of up to %d bytes", path, most)
	}
	if s, ok := info.Sys().(*syscall.Stat_t); ok {
		owner = s.Uid
	}
	b, err = io.ReadAll(io.LimitReader(f, most))
	return b, owner, err
}

// Close takes from others what they may do in a folder, and from its group to write there: whoever can put a file into it has the program
// read another one. A folder that is neither this user's nor root's is an error.
func Close(folder string) error {
	info, err := os.Stat(folder)
	if err != nil {
		return err
	}
	s, ok := info.Sys().(*syscall.Stat_t)
	if ok && s.Uid != 0 && int(s.Uid) != os.Geteuid() {
		return fmt.Errorf("folder %s belongs to user %d, who can replace what is in it: chown it to the user whom the service runs as", folder, s.Uid)
	}
	perm := info.Mode().Perm()
	if perm&0o027 == 0 {
		return nil
	}
	if err := os.Chmod(folder, perm&^0o027); err != nil {
		return fmt.Errorf("folder %s is open to others (%v) and cannot be closed: chmod 700 it: %w", folder, perm, err)
	}
	return nil
}

// Folder makes a folder for this process' user alone, with those above it that are not there, and makes sure that nobody else can put
// anything into it: it and the one above it are this user's or root's, and no link.
func Folder(path string) error {
	if err := os.MkdirAll(path, 0o700); err != nil {
		return err
	}
	for _, at := range []string{filepath.Dir(path), path} {
		info, err := os.Lstat(at)
		if err != nil {
			return err
		}
		s, ok := info.Sys().(*syscall.Stat_t)
		own := ok && (s.Uid == 0 || int(s.Uid) == os.Geteuid())
		if !info.IsDir() || !own || info.Mode().Perm()&0o022 != 0 {
			return fmt.Errorf("%s is not only for this user and root (%v): what is kept there could be changed by others; remove it", at, info.Mode())
		}
	}
	return nil
}
