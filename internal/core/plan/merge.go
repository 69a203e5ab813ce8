package plan

import (
	"slices"
	"strings"
)

// Conflict is a stretch that two people changed differently.
type Conflict struct {
	Line   int    `json:"line" doc:"Line in the older text, from 1."`
	Base   string `json:"base"`
	Ours   string `json:"ours"`
	Theirs string `json:"theirs"`
}

// Merge brings the changes from base to theirs into ours, line by line, so that comments and layout of both stay. Where
// both changed the same lines differently, ours stands and the conflicts are given; take says of each conflict in turn whose lines are
// to stand ("ours" or "theirs"): such a one is settled.
func Merge(base, ours, theirs string, take ...string) (string, []Conflict) {
	b, o, t := lines(base), lines(ours), lines(theirs)
	toO, toT := align(b, o), align(b, t)
	var out []string
	var conflicts []Conflict
	i, io, it := 0, 0, 0
	for {
		// The next base line that both kept ends the stretch that somebody changed.
		j := i
		for j < len(b) && (toO[j] < io || toT[j] < it) {
			j++
		}
		jo, jt := len(o), len(t)
		if j < len(b) {
			jo, jt = toO[j], toT[j]
		}
		bb, oo, tt := b[i:j], o[io:jo], t[it:jt]
		switch {
		case slices.Equal(bb, oo):
			out = append(out, tt...)
		case slices.Equal(bb, tt) || slices.Equal(oo, tt):
			out = append(out, oo...)
		case len(take) > 0:
			if take[0] == "theirs" {
				out = append(out, tt...)
			} else {
				out = append(out, oo...)
			}
			take = take[1:]
		default:
			conflicts = append(conflicts, Conflict{i + 1, strings.Join(bb, ""), strings.Join(oo, ""), strings.Join(tt, "")})
			out = append(out, oo...)
		}
		if j == len(b) {
			return strings.Join(out, ""), conflicts
		}
		out = append(out, b[j])
		i, io, it = j+1, jo+1, jt+1
	}
}

func lines(text string) []string { return strings.SplitAfter(text, "\n") }

// align maps each line of a to its partner in b by a longest common subsequence, -1 where it has none.
func align(a, b []string) []int {
	partner := make([]int, len(a))
	for i := range partner {
		partner[i] = -1
	}
	head := 0
	for head < len(a) && head < len(b) && a[head] == b[head] {
		partner[head] = head
		head++
	}
	tail := 0
	for tail < len(a)-head && tail < len(b)-head && a[len(a)-1-tail] == b[len(b)-1-tail] {
		partner[len(a)-1-tail] = len(b) - 1 - tail
		tail++
	}
	x, y := a[head:len(a)-tail], b[head:len(b)-tail]
	if len(x)*len(y) > 1<<24 {
		return partner // too much was changed to look for islands: it counts as one change
	}
	length := make([][]int32, len(x)+1)
	for i := range length {
		length[i] = make([]int32, len(y)+1)
	}
	for i := len(x) - 1; i >= 0; i-- {
		for j := len(y) - 1; j >= 0; j-- {
			if x[i] == y[j] {
				length[i][j] = length[i+1][j+1] + 1
			} else {
				length[i][j] = max(length[i+1][j], length[i][j+1])
			}
		}
	}
	for i, j := 0, 0; i < len(x) && j < len(y); {
		switch {
		case x[i] == y[j]:
			partner[head+i] = head + j
			i, j = i+1, j+1
		case length[i+1][j] >= length[i][j+1]:
			i++
		default:
			j++
		}
	}
	return partner
}
