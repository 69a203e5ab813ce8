// Package certainty counts, over many faults that a test made, how often diagnosis was right, by how certain it was.
package certainty

import (
	"fmt"
	"strings"
	"sync"

	"yellowlantern/internal/core/diagnose"
)

const ten = 10

// Bands counts causes by tens of certainty; the last one holds 100 alone. Its methods may be called at the same time.
type Bands struct {
	mu           sync.Mutex
	runs         int
	right, total [100/ten + 1]int
}

// Count takes one answer, in which causes of these codes are right.
func (b *Bands) Count(causes []diagnose.Cause, right func(code string) bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.runs++
	for _, c := range causes {
		b.total[c.Sure/ten]++
		if right(c.Code) {
			b.right[c.Sure/ten]++
		}
	}
}

// High gives how many causes were called 90 or more, how many of them were right, and how many answers there were.
func (b *Bands) High() (right, total, runs int) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for i := 90 / ten; i < len(b.total); i++ {
		right, total = right+b.right[i], total+b.total[i]
	}
	return right, total, b.runs
}

// String has a line for each band in which there is any.
func (b *Bands) String() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	out := strings.Builder{}
	for i, n := range b.total {
		if n > 0 {
			fmt.Fprintf(&out, "certainty %d to %d: %d of %d right\n", ten*i, min(ten*i+ten-1, 100), b.right[i], n)
		}
	}
	return out.String()
}
