package linux

import (
	"encoding/json"
	"errors"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
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
	path string
	Was  map[string]string `json:"was"`
	Set  map[string]string `json:"set"`
	PID  int               `json:"pid"` // of the gateway
}

func remember(folder string) (*remembered, error) {
	r := &remembered{path: filepath.Join(folder, "machine.json"), Was: map[string]string{}, Set: map[string]string{}}
	b, err := os.ReadFile(r.path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return r, nil
	case err != nil:
		return nil, err
	}
	if json.Unmarshal(b, r) != nil || r.Was == nil || r.Set == nil { // it cannot be known any longer what was before
		r.Was, r.Set = map[string]string{}, map[string]string{}
	}
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
func (r *remembered) change(all []setting, allowed bool) (problems []inside.Problem, drifted bool) {
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
		drifted = true
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
		if e != nil || now != r.Set[key] {
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
