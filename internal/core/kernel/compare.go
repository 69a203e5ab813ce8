package kernel

import (
	"fmt"
	"strings"

	"yellowlantern/internal/core/inside"
)

// String writes the route as ip-route(8) does.
func (r Route) String() string {
	var words []string
	say := func(on bool, format string, args ...any) {
		if on {
			words = append(words, fmt.Sprintf(format, args...))
		}
	}
	say(r.Unreachable, "unreachable")
	say(true, "%s", r.To)
	say(r.Via.IsValid(), "via %s", r.Via)
	say(r.Link != "", "dev %s", r.Link)
	say(true, "proto %d metric %d", Protocol, r.Metric)
	say(r.MTU > 0, "mtu %d", r.MTU)
	return strings.Join(words, " ")
}

// Compare holds the lines of what would be against those of what is. The lines that are gone stand where their neighbours stood.
func Compare(now, then []string) (out []inside.Line) {
	// The longest common part, from the end.
	common := make([][]int, len(now)+1)
	for i := range common {
		common[i] = make([]int, len(then)+1)
	}
	for i := len(now) - 1; i >= 0; i-- {
		for k := len(then) - 1; k >= 0; k-- {
			if common[i][k] = max(common[i+1][k], common[i][k+1]); now[i] == then[k] {
				common[i][k] = common[i+1][k+1] + 1
			}
		}
	}
	i, k := 0, 0
	for i < len(now) || k < len(then) {
		switch {
		case i < len(now) && k < len(then) && now[i] == then[k]:
			out = append(out, inside.Line{Is: inside.Same, Text: now[i]})
			i, k = i+1, k+1
		case k == len(then) || i < len(now) && common[i+1][k] >= common[i][k+1]:
			out = append(out, inside.Line{Is: inside.Gone, Text: now[i]})
			i++
		default:
			out = append(out, inside.Line{Is: inside.New, Text: then[k]})
			k++
		}
	}
	return out
}
