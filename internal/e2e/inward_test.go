package e2e

import (
	"context"
	"io"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/proofs"
	"yellowlantern/internal/client"
	"yellowlantern/internal/probe"
)

// The office opens a connection to a researcher's device, which no other host may, and nobody may towards a warden's. What the plan no
// longer permits ends at once.
func TestFromInside(t *testing.T) {
	d := island(t, nil)
	rory, wanda := connect(t, d, "rory.researcher"), connect(t, d, "wanda.warden")
	address := func(tn *probe.Tunnel, port uint16) netip.AddrPort { return netip.AddrPortFrom(tn.Address4(), port) }
	for _, tn := range []*probe.Tunnel{rory, wanda} {
		for _, port := range []uint16{5900, 5901} {
			ln, err := tn.Stack.ListenTCP(address(tn, port))
			require.NoError(t, err)
			go func() {
				for {
					c, err := ln.Accept()
					if err != nil {
						return
					}
					go func() { _, _ = io.Copy(c, c) }()
				}
			}()
		}
	}
	open := func(host string, to netip.AddrPort) error {
		ctx, cancel := context.WithTimeout(t.Context(), 700*time.Millisecond)
		defer cancel()
		c, err := d.Lab.Open(ctx, host, to)
		if err == nil {
			_ = c.Close()
		}
		return err
	}
	require.NoError(t, open("office", address(rory, 5900)))
	require.Error(t, open("office", address(rory, 5901)), "another service")
	require.Error(t, open("boathouse", address(rory, 5900)), "another host")
	require.Error(t, open("records", address(rory, 5900)), "another network")
	require.Error(t, open("mirror", address(rory, 5900)), "the internet")
	require.Error(t, open("office", address(wanda, 5900)), "another group")

	for query, says := range map[string]string{
		"from=office&to=nobody": `no active user "nobody"`,
		"from=nobody&to=office": `no active user "nobody"`, "from=nowhere&to=rory.researcher": `"nowhere" is no host`,
	} {
		_, err := client.Get[proofs.JourneyAnswer](t.Context(), d.Client, "/journey?"+query)
		require.ErrorContains(t, err, says, query)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 3*time.Second)
	defer cancel()
	_, err := d.Lab.Ping(ctx, "office", rory.Address4())
	require.NoError(t, err)
	c, err := d.Lab.Open(ctx, "office", address(rory, 5900))
	require.NoError(t, err)
	defer c.Close()
	echo := func(wait time.Duration) error {
		_ = c.SetDeadline(time.Now().Add(wait))
		_, err := c.Write([]byte("hello"))
		if err == nil {
			_, err = io.ReadFull(c, make([]byte, 5))
		}
		return err
	}
	require.NoError(t, echo(2*time.Second))
	recommit(t, d, "{name: help-desk, action: permit,", "{name: help-desk, off: true, action: permit,",
		"{name: the-office-helps-researchers,", "{name: the-office-helps-researchers, off: true,")
	require.Error(t, echo(700*time.Millisecond), "the flow ends with its rule")
}
