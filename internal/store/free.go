package store

import "golang.org/x/sys/unix"

// Free is how many octets are free for records.
func (s *Store) Free() (uint64, error) {
	var at unix.Statfs_t
	if err := unix.Statfs(s.folder, &at); err != nil {
		return 0, err
	}
	return at.Bavail * uint64(at.Bsize), nil
}
