package e2e

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"encoding/json"
	"io/fs"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/algorithm"
	"yellowlantern/internal/core/ike"
	"yellowlantern/internal/instance"
	"yellowlantern/internal/probe"
)

// What strangers and people write into the journal for as long as the flood lasts: YL_FLOOD=1h go test -run TestFloodsStaySmall -timeout 2h
const shortFlood = 5 * time.Second

// often calls f that many times a second in all, by several at once, until it is over, and gives how often it did.
func often(ctx context.Context, all *sync.WaitGroup, count *atomic.Int64, second int, f func(n int64)) {
	begun := time.Now()
	for range 4 {
		all.Go(func() {
			for ctx.Err() == nil {
				n := count.Add(1)
				if ahead := time.Duration(n)*time.Second/time.Duration(second) - time.Since(begun); ahead > 0 {
					time.Sleep(ahead)
				}
				f(n)
			}
		})
	}
}

func octetsIn(t *testing.T, folder string) (sum int64) {
	require.NoError(t, filepath.WalkDir(folder, func(_ string, e fs.DirEntry, err error) error {
		if err == nil && !e.IsDir() {
			if info, err := e.Info(); err == nil { // it may be gone meanwhile
				sum += info.Size()
			}
		}
		return nil
	}))
	return sum
}

// A thousand half-open logins a second from anywhere, logins that are broken off late, wrong codes of a person who is connected and reports
// that somebody made up: of all of it the journal holds a few lines a minute, and people log in meanwhile.
func TestFloodsStaySmall(t *testing.T) {
	lasts := shortFlood
	if s := os.Getenv("YL_FLOOD"); s != "" {
		lasts = must(time.ParseDuration(s))
	}
	data := t.TempDir()
	d := island(t, func(o *instance.Options) { o.Data = data })
	x := newTerminal(t, d)
	askFor(t, d, x, "")
	enrol(t, d, x, "rory.researcher")
	hanna, _ := hire(t, d, x, "hanna.helpdesk", "help-desk")
	o := order(t, d, "rory.researcher")
	forged := write(t, string(must(json.Marshal(probe.Report{
		At: time.Now(), User: o.User, Class: o.Class, Vantage: "home", Revision: o.Revision, Connected: true, OK: true, Login: "logged in",
		Results: []probe.Result{}, Checks: []probe.Check{}, Dialled: []netip.Addr{}, Causes: []string{},
	}))))
	tn, err := with(t, d, "rory.researcher", nil)
	require.NoError(t, err)
	page := browser(t, d, tn)
	page.Transport.(*http.Transport).DialContext = func(ctx context.Context, _, _ string) (net.Conn, error) {
		return tn.Stack.DialTCP(ctx, netip.MustParseAddrPort("10.99.255.1:443"))
	}
	wrong := url.Values{"code": {"000000"}}

	to := netip.AddrPortFrom(mustAddr("127.0.0.1"), d.Sockets.IKE().Port())
	natt := netip.AddrPortFrom(to.Addr(), d.Sockets.NATT().Port())
	offer := must(ike.PolicyOf(algorithm.OfLevel(algorithm.Strict)))
	ini := must(ike.NewInitiator(ike.Caller{
		Name: o.Identity, User: "nobody", Password: "x", Algorithms: offer, Rand: rand.Reader, Local: netip.MustParseAddrPort("127.0.0.9:500"),
		Remote: to, Now: time.Now,
	}))
	first := ini.Start(time.Now())[0].(ike.Send).Data
	lines := func() int { return strings.Count(x.did("journal", "export"), "\n") }
	before, written := lines(), octetsIn(t, data)
	ctx, stop := context.WithTimeout(t.Context(), lasts)
	defer stop()
	var opened, broken, codes, reports atomic.Int64
	var all sync.WaitGroup
	often(ctx, &all, &opened, 1000, func(n int64) {
		from := netip.AddrFrom4([4]byte{127, byte(2 + n>>16&0x3f), byte(n >> 8), byte(n)})
		c, err := net.ListenUDP("udp4", net.UDPAddrFromAddrPort(netip.AddrPortFrom(from, 0)))
		if err != nil {
			return
		}
		defer c.Close()
		b := append([]byte{}, first...)
		binary.BigEndian.PutUint64(b, uint64(n)) // its SPI
		_, _ = c.WriteToUDPAddrPort(b, to)
	})
	often(ctx, &all, &broken, 20, func(n int64) {
		breakOff(t, netip.AddrFrom4([4]byte{127, 1, byte(n >> 8), byte(n)}), to, natt, o.Identity)
	})
	all.Go(func() {
		for ctx.Err() == nil {
			if r, err := page.PostForm("https://code.tern.example/", wrong); err == nil {
				codes.Add(1)
				_ = r.Body.Close()
			}
		}
	})
	all.Go(func() {
		for ctx.Err() == nil {
			if _, _, err := hanna.run("probe", "hand-in", forged); err == nil {
				reports.Add(1)
			}
			time.Sleep(100 * time.Millisecond)
		}
	})
	logins := 0
	for ctx.Err() == nil {
		tn, err := with(t, d, "wanda.warden", nil)
		require.NoError(t, err, "after %d logins", logins)
		tn.Close()
		logins++
		time.Sleep(time.Second)
	}
	all.Wait()
	after, grown := lines(), octetsIn(t, data)-written
	t.Logf("%s: %d half-open logins, %d broken off, %d wrong codes, %d reports, %d logins of somebody else: %d lines of the journal, %d octets of data",
		lasts, opened.Load(), broken.Load(), codes.Load(), reports.Load(), logins, after-before, grown)
	most := int(lasts.Minutes()+1)*2*(60+40) + 2*logins + int(reports.Load())
	require.Less(t, after-before, most)
	require.Positive(t, min(broken.Load(), codes.Load(), reports.Load()))
}
