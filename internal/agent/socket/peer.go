package socket

import (
	"errors"
	"fmt"
	"net"
	"os"
	"os/user"
	"slices"
	"strconv"

	"golang.org/x/sys/unix"
)

// mayBe tells whose process is at the other end of a connection (SO_PEERCRED, unix(7)), if it is none of root, ourselves and these users.
func mayBe(c net.Conn, users []uint32) error {
	x, ok := c.(*net.UnixConn)
	if !ok {
		return errors.New("no UNIX socket")
	}
	raw, err := x.SyscallConn()
	if err != nil {
		return err
	}
	var cred *unix.Ucred
	var failed error
	look := func(fd uintptr) { cred, failed = unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED) }
	if err := errors.Join(raw.Control(look), failed); err != nil {
		return err
	}
	if failed != nil {
		return failed
	}
	if cred.Uid == 0 || cred.Uid == uint32(os.Geteuid()) || slices.Contains(users, cred.Uid) {
		return nil
	}
	return fmt.Errorf("process %d of user %d is at the other end, which may not be there", cred.Pid, cred.Uid)
}

// Owner is whom the socket at a path belongs to: enough for whoever only looks.
func Owner(path string) (uint32, error) {
	var at unix.Stat_t
	if err := unix.Stat(path, &at); err != nil {
		return 0, fmt.Errorf("%s: %w", path, err)
	}
	return at.Uid, nil
}

// User finds a user's number by name, or takes it as it is.
func User(name string) (uint32, error) {
	if n, err := strconv.ParseUint(name, 10, 32); err == nil {
		return uint32(n), nil
	}
	u, err := user.Lookup(name)
	if err != nil {
		return 0, fmt.Errorf("user %q: %w", name, err)
	}
	n, err := strconv.ParseUint(u.Uid, 10, 32)
	return uint32(n), err
}
