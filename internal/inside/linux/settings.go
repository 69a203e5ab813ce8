package linux

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"yellowlantern/internal/core/inside"
	"yellowlantern/internal/core/kernel"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/private"
)

const procSys = "/proc/sys/"

// setting is one of the machine's, with what it must be.
type setting struct {
	key  string // as sysctl(8) names it, with slashes, for links may have dots in their names
	must func(now string) bool
	to   string // what is set where it is not so
	why  reason.Code
	own  bool // of our own device: set whatever the plan says
}

// differs says that it is not as it must be.
func (s setting) differs(now string) string {
	return fmt.Sprintf("%s is %s in place of %s", strings.ReplaceAll(s.key, "/", "."), now, s.to)
}

func is(value string) func(string) bool { return func(now string) bool { return now == value } }

// settingsFor are those that people's packets depend on. forwarded tells whether the machine forwarded IPv6 before we came.
func settingsFor(s kernel.State, m *machine, device string) (out []setting) {
	if s.Sixth { // first of all: who begins to forward forgets what it learnt from advertisements, unless it is told to go on learning
		for _, l := range m.links {
			key := "net/ipv6/conf/" + l.name + "/accept_ra"
			if now, err := readSetting(key); err == nil && now == "1" {
				out = append(out, setting{key, is("2"), "2", reason.RouterAdvertisements, false})
			}
		}
	}
	for _, l := range s.Forwards {
		out = append(out, setting{"net/ipv4/conf/" + l + "/forwarding", is("1"), "1", reason.ForwardingOff, l == device})
		if s.Sixth {
			out = append(out, setting{"net/ipv6/conf/" + l + "/forwarding", is("1"), "1", reason.ForwardingOff, l == device})
		}
	}
	if s.Sixth {
		out = append(out, setting{"net/ipv6/conf/all/forwarding", is("1"), "1", reason.ForwardingOff, false})
	}
	return append(out,
		setting{"net/ipv6/conf/" + device + "/accept_ra", is("0"), "0", "", true},
		setting{"net/ipv6/conf/" + device + "/addr_gen_mode", is("1"), "1", "", true})
}

func readSetting(key string) (string, error) {
	b, err := os.ReadFile(procSys + key)
	return strings.TrimSpace(string(b)), err
}

func writeSetting(key, value string) error { return os.WriteFile(procSys+key, []byte(value), 0o644) }

// remembered are the values that settings had before we changed them. They are on the disk before anything is changed, so that whoever
// starts after a crash knows them too.
type remembered struct {
	path  string
	owner uint32            // whose file it is
	Was   map[string]string `json:"was"`
	Set   map[string]string `json:"set"`
	PID   int               `json:"pid"` // of the gateway
}

// ourSetting are the settings that we make, and no others: the file that says what they were is of the gateway's user, and root sets them
// back by it. A link's name holds no slash, and is neither of the two names that lead elsewhere.
var ourSetting = regexp.MustCompile(`^net/(ipv4/conf/[^/]{1,15}/forwarding|ipv6/conf/[^/]{1,15}/(forwarding|accept_ra))$`)

// settable tells whether a setting is one of ours, with a value that it can have.
func settable(key, value string) bool {
	link := strings.Split(key, "/")
	return ourSetting.MatchString(key) && link[3] != "." && link[3] != ".." && len(value) == 1 && value >= "0" && value <= "2"
}

// mostRemembered bounds the file, in octets.
const mostRemembered = 1 << 20

func remember(folder string) (*remembered, error) {
	r := &remembered{path: filepath.Join(folder, "machine.json"), Was: map[string]string{}, Set: map[string]string{}}
	b, owner, err := private.Foreign(r.path, mostRemembered)
	r.owner = owner
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return r, nil
	case err != nil:
		return nil, err
	}
	if json.Unmarshal(b, r) != nil || r.Was == nil || r.Set == nil { // it cannot be known any longer what was before
		r.Was, r.Set = map[string]string{}, map[string]string{}
	}
	maps.DeleteFunc(r.Was, func(key, value string) bool { return !settable(key, value) })
	maps.DeleteFunc(r.Set, func(key, value string) bool { return !settable(key, value) })
	return r, nil
}

func (r *remembered) keep() error {
	b, err := json.Marshal(r)
	if err != nil {
		return err
	}
	return private.Write(r.path, append(b, '\n'))
}

// change sets what is not as it must be, where that is allowed, and tells what is not.
func (r *remembered) change(all []setting, allowed bool) (problems []inside.Problem, drifted []string) {
	for _, s := range all {
		now, err := readSetting(s.key)
		if err != nil || s.must(now) {
			continue // a kernel without IPv6 has no settings of it
		}
		sysctl := strings.ReplaceAll(s.key, "/", ".")
		if !s.own && !allowed {
			problems = append(problems, inside.Told(reason.Of(s.why, reason.With{reason.Setting: sysctl, reason.Value: s.to})))
			continue
		}
		drifted = append(drifted, s.differs(now))
		if !s.own {
			if _, known := r.Was[s.key]; !known {
				r.Was[s.key] = now
			}
			r.Set[s.key] = s.to
			err = r.keep()
		}
		if err == nil {
			err = writeSetting(s.key, s.to)
		}
		if err != nil {
			problems = append(problems, inside.Told(reason.Of(reason.SettingNotTaken, reason.With{
				reason.Setting: sysctl, reason.Value: s.to, reason.Error: err.Error(),
			})))
		}
	}
	return problems, drifted
}

// restore sets everything back that is still as we set it. IPv6 forwarding of all links is set back first: it sets each link's.
func (r *remembered) restore() error {
	var err error
	keys := slices.Sorted(maps.Keys(r.Was))
	for _, key := range keys {
		now, e := readSetting(key)
		if set, known := r.Set[key]; e != nil || !known || now != set {
			continue
		}
		if e := writeSetting(key, r.Was[key]); e != nil {
			err = errors.Join(err, e)
		}
	}
	r.Was, r.Set = map[string]string{}, map[string]string{}
	if e := os.Remove(r.path); e != nil && !errors.Is(e, fs.ErrNotExist) {
		err = errors.Join(err, e)
	}
	return err
}
