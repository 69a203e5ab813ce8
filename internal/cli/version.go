package cli

import (
	"fmt"
	"runtime/debug"
)

// version is the first heading of CHANGELOG.md, put in when the program is built.
var version = "unreleased"

// Version tells version and commit, as far as the build knows them.
func Version() string {
	commit, changed := "", ""
	if info, ok := debug.ReadBuildInfo(); ok {
		for _, s := range info.Settings {
			switch {
			case s.Key == "vcs.revision":
				commit = ", commit " + s.Value[:min(12, len(s.Value))]
			case s.Key == "vcs.modified" && s.Value == "true":
				changed = " with changes"
			}
		}
	}
	return fmt.Sprintf("%s%s%s", version, commit, changed)
}
