// Package guard starts goroutines that do not take the process with them. A panic ends the goroutine in which it happens, is logged with
// its stack and counted by the goroutine's name. Every goroutine of the product begins here; the exceptions are the packet path's readers,
// which hold locks of sessions: the layering test lists them, each with the fuzz target that stands for it.
package guard

import (
	"fmt"
	"log/slog"
	"maps"
	"runtime/debug"
	"sync"
	"time"
)

// longestPause is how long Keep waits at most before it starts a function again, and calmAfter after how long without a panic it begins
// with the shortest pause again.
const (
	longestPause = time.Second
	calmAfter    = time.Minute
)

var counted = struct {
	sync.Mutex
	by map[string]uint64
}{by: map[string]uint64{}}

// Panics gives how many panics ended a goroutine, by its name, since the process started.
func Panics() map[string]uint64 {
	counted.Lock()
	defer counted.Unlock()
	return maps.Clone(counted.by)
}

// Run calls f, and tells whether it returned. A panic is logged and counted.
func Run(name string, f func()) (returned bool) {
	defer func() {
		if returned {
			return
		}
		// runtime.Goexit comes here too, with nothing to recover: it ends what called it, as its caller wanted.
		if p := recover(); p != nil {
			count(name, p)
		}
	}()
	f()
	return true
}

func count(name string, p any) {
	counted.Lock()
	counted.by[name]++
	n := counted.by[name]
	counted.Unlock()
	slog.Error("a task failed; the process goes on", "task", name, "times", n, "panic", fmt.Sprint(p), "stack", string(debug.Stack()))
}

// Go calls f in a goroutine of its own.
func Go(name string, f func()) { go Run(name, f) }

// PacketPath calls f in a goroutine of its own that is not guarded: it carries packets under locks of sessions, which a recovered panic
// would leave locked for ever. A process that ends is back at once, with its sessions (RFC 5723); one that hangs is not. Such goroutines
// are listed in the layering test, each with the fuzz target of what it reads.
func PacketPath(_ string, f func()) { go f() }

// Keep calls f until it returns without a panic, with a pause after each panic that grows to a second. It is for loops without which the
// process does not do its work: readers of sockets, and what is due now and then.
func Keep(name string, f func()) {
	for pause := time.Millisecond; ; pause = min(2*pause, longestPause) {
		begun := time.Now()
		if Run(name, f) {
			return
		}
		if time.Since(begun) > calmAfter {
			pause = time.Millisecond
		}
		time.Sleep(pause)
	}
}

// After calls f in a goroutine of its own when a time is over, unless the timer is stopped before.
func After(d time.Duration, name string, f func()) *time.Timer {
	return time.AfterFunc(d, func() { Run(name, f) })
}

// Group is a sync.WaitGroup whose goroutines are guarded. Its zero value is ready for use.
type Group struct{ wait sync.WaitGroup }

// Go calls f in a goroutine that Wait waits for.
func (g *Group) Go(name string, f func()) { g.wait.Go(func() { Run(name, f) }) }

// Keep does the same with Keep.
func (g *Group) Keep(name string, f func()) { g.wait.Go(func() { Keep(name, f) }) }

// PacketPath does the same with PacketPath.
func (g *Group) PacketPath(_ string, f func()) { g.wait.Go(f) }

// Wait waits until every goroutine of the group is over.
func (g *Group) Wait() { g.wait.Wait() }
