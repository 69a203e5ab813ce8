package connection

import (
	"cmp"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"

	"yellowlantern/internal/private"
)

// saved is what must be known to take a connection's traces away, when the process that left them was killed.
type saved struct {
	Name     string `json:"name"`
	PID      int    `json:"pid"`
	Slot     int    `json:"slot"`
	Resolver string `json:"resolver"`
	Changed  bool   `json:"changed"`
}

var goodName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,11}$`)

// GoodName tells whether a connection may be called so: its device has its name.
func GoodName(name string) bool { return goodName.MatchString(name) }

// mostSaved bounds what is kept of a connection: the system's list of name servers is part of it.
const mostSaved = 1 << 20

// above is root's, and no folder of the gateway's user: what stands in it is done by root.
const above = "/run/yellow-lantern-dial"

// folder is where connections keep what they must be undone by, and where they are asked; one for each network namespace, for what they
// change is the namespace's.
func folder() string {
	var at unix.Stat_t
	if unix.Stat("/proc/self/ns/net", &at) != nil {
		return above + "/host"
	}
	return fmt.Sprintf("%s/%d", above, at.Ino)
}

func savedAt(name string) string { return filepath.Join(folder(), name+".json") }

func (m *machine) save() error {
	if err := private.Folder(folder()); err != nil {
		return err
	}
	b, err := json.Marshal(saved{m.o.Name, os.Getpid(), m.slot, m.before.text, true})
	if err != nil {
		return err
	}
	return private.Write(savedAt(m.o.Name), b)
}

// Claim makes a connection's name this process's until release is called; where another process has it, that one is left alone.
func Claim(name string) (release func(), err error) {
	if err := private.Folder(folder()); err != nil {
		return nil, fmt.Errorf("%w: connecting needs root", err)
	}
	f, err := os.OpenFile(filepath.Join(folder(), name+".lock"), os.O_CREATE|os.O_RDWR|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0o600)
	if err != nil {
		return nil, err
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		_ = f.Close()
		by := ""
		if b, _, err := private.Foreign(statusAt(name), mostSaved); err == nil {
			var s State
			if json.Unmarshal(b, &s) == nil {
				by = fmt.Sprintf(", as process %d", s.PID)
			}
		}
		return nil, fmt.Errorf("connection %s is up already%s: end it first (yl dial down %s), or give this one another --name", name, by,
			name)
	}
	return func() { _ = f.Close() }, nil // the file stays: whoever opened it meanwhile waits for the same lock
}

const identityBytes = 8

// Identity is what this installation is told from others by, whatever its host is called: made once, and kept in the folder that the
// system's service manager gives (STATE_DIRECTORY, systemd.exec(5)), or in /var/lib/yellow-lantern-dial.
func Identity() (string, error) {
	at := cmp.Or(os.Getenv("STATE_DIRECTORY"), "/var/lib/yellow-lantern-dial")
	if err := private.Folder(at); err != nil {
		return "", err
	}
	path := filepath.Join(at, "installation")
	if b, _, err := private.Foreign(path, mostSaved); err == nil {
		if id := strings.TrimSpace(string(b)); goodIdentity.MatchString(id) {
			return id, nil
		}
	}
	b := make([]byte, identityBytes)
	_, _ = rand.Read(b)
	id := hex.EncodeToString(b)
	return id, private.Write(path, []byte(id+"\n"))
}

var goodIdentity = regexp.MustCompile(fmt.Sprintf(`^[0-9a-f]{%d}$`, 2*identityBytes))

// Restore takes away what a connection of that name left that was killed. One that lives is an error.
func Restore(name string) error {
	b, _, err := private.Foreign(savedAt(name), mostSaved)
	switch {
	case errors.Is(err, os.ErrNotExist):
		return nil
	case err != nil:
		return err
	}
	var s saved
	if err := json.Unmarshal(b, &s); err != nil {
		return fmt.Errorf("%s: %w", savedAt(name), err)
	}
	if Lives(s.PID) {
		return fmt.Errorf("connection %s is up already, as process %d: end it first (yl dial down %s), or give this one another --name", name, s.PID, name)
	}
	return undo(s)
}

// Keep writes how a connection is where List finds it.
func Keep(s State) error {
	if err := private.Folder(folder()); err != nil {
		return err
	}
	b, err := json.Marshal(s)
	if err != nil {
		return err
	}
	return private.Write(statusAt(s.Name), b)
}

// Forget takes that away.
func Forget(name string) { _ = os.Remove(statusAt(name)) }

func statusAt(name string) string { return filepath.Join(folder(), name+".status") }

// LogAt is where a connection in the background writes what happens.
func LogAt(name string) string { return filepath.Join(folder(), name+".log") }

// List gives every connection of this machine: those that are up, and those whose process was killed.
func List() (out []State, err error) {
	all, err := filepath.Glob(filepath.Join(folder(), "*.status"))
	for _, path := range all {
		var s State
		b, _, e := private.Foreign(path, mostSaved)
		if e == nil {
			e = json.Unmarshal(b, &s)
		}
		if e != nil {
			err = errors.Join(err, fmt.Errorf("%s: %w", path, e))
			continue
		}
		if !Lives(s.PID) {
			s.Up, s.Trouble = false,
				"its process was killed: yl dial down "+s.Name+" takes away what it left, and so does the next yl dial up"
		}
		out = append(out, s)
	}
	return out, err
}

// Lives tells whether a process is there.
func Lives(pid int) bool {
	if pid <= 0 || syscall.Kill(pid, 0) != nil {
		return false
	}
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	_, after, ok := strings.Cut(string(b), ") ")               // the name before it may hold anything but that
	return err != nil || !ok || !strings.HasPrefix(after, "Z") // ended, and nobody has asked how
}
