// Crowd logs in many times at once, as a test's devices: crowd NUMBER KIT PASSWORD-FILE prints how many came in and why others did not, and
// holds their sessions until its input ends.
package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"sync"
	"time"

	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/dial"
	"yellowlantern/internal/probe"
	"yellowlantern/internal/tunnel/kinds"
	"yellowlantern/internal/underlay"
)

// Came is how it went.
type Came struct {
	In      int            `json:"in"`
	Refused map[string]int `json:"refused"`
	Slowest float64        `json:"slowest"` // login, in seconds
}

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run() error {
	n, err := strconv.Atoi(os.Args[1])
	if err != nil {
		return err
	}
	b, err := os.ReadFile(os.Args[2])
	if err != nil {
		return err
	}
	kit, err := probe.ReadKit(b)
	if err != nil {
		return err
	}
	password, err := os.ReadFile(os.Args[3])
	if err != nil {
		return err
	}
	login, err := kit.Login(probe.Options{Password: strings.TrimSpace(string(password))})
	if err != nil {
		return err
	}
	var all sync.WaitGroup
	var mu sync.Mutex
	out := Came{Refused: map[string]int{}}
	var sessions []dial.Session
	for i := range n {
		all.Go(func() {
			login := login
			login.Device = fmt.Sprintf("device %d", i)
			begun := time.Now()
			ctx, stop := context.WithTimeout(context.Background(), 45*time.Second)
			defer stop()
			s, err := kinds.Dialer(plan.KindIKEv2).Dial(ctx, underlay.Host(), login, func([][]byte) {})
			mu.Lock()
			defer mu.Unlock()
			if err != nil {
				out.Refused[err.Error()]++
				return
			}
			out.In++
			out.Slowest = max(out.Slowest, time.Since(begun).Seconds())
			sessions = append(sessions, s)
		})
	}
	all.Wait()
	if err := json.NewEncoder(os.Stdout).Encode(out); err != nil {
		return err
	}
	_, _ = io.Copy(io.Discard, os.Stdin)
	for _, s := range sessions {
		s.Close()
	}
	return nil
}
