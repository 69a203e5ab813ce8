package mailing

import (
	"io"
	"log/slog"
	"net"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/journal"
	"yellowlantern/internal/core/plan"
	"yellowlantern/internal/postbox"
	"yellowlantern/internal/store"
	"yellowlantern/internal/testkit/mailserver"
)

// Mail goes by TLS from the first octet and by STARTTLS, to a server whose certificate is believed, and to no other: one that has no TLS,
// or somebody else's certificate, learns neither what is sent nor the account.
func TestMailGoesByTLSAlone(t *testing.T) {
	st, err := store.Open(t.TempDir())
	require.NoError(t, err)
	defer st.Close()
	log := slog.New(slog.NewTextHandler(io.Discard, nil))
	p := plan.Plan{Name: "Tern Island", MailFrom: "gateway@tern.example"}
	s := &Service{Store: st, Journal: journal.New(st, log, nil), Log: log, Plan: func() *plan.Plan { return &p }}
	boxes := []*postbox.Box{mailserver.Start(t, false), mailserver.Start(t, true)}
	for i, b := range boxes {
		p.MailServer, p.MailCA = b.URL(), b.Authority
		require.NoError(t, s.Send(t.Context(), "rory@tern.example", "a", ".\n..a line of dots\n"+strings.Repeat("long ", 2000)))
		require.Len(t, b.Messages(), 1)
		require.Contains(t, b.Messages()[0], "rory@tern.example")
		require.Regexp(t, `(?m)^Message-ID: <\w+@tern\.example>`, b.Messages()[0])
		p.MailCA = boxes[1-i].Authority
		require.ErrorContains(t, s.Send(t.Context(), "rory@tern.example", "a", "b"), "certificate")
		require.Len(t, b.Messages(), 1)
		require.Contains(t, s.Problem(), "certificate")
	}

	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	said := make(chan string, 1)
	go func() {
		c, err := l.Accept()
		if err != nil {
			return
		}
		defer c.Close()
		_, _ = io.WriteString(c, "220 here\r\n")
		var all strings.Builder
		b := make([]byte, 1024)
		for {
			n, err := c.Read(b)
			all.Write(b[:n])
			if err != nil {
				said <- all.String()
				return
			}
			_, _ = io.WriteString(c, "250 fine\r\n")
		}
	}()
	require.NoError(t, st.SaveShared(t.Context(), store.SharedSecret{Name: "mail", Kind: "password"}, []byte("plover-mosaic-ferry"), false))
	p.MailServer, p.MailAccount, p.MailSecret = "smtp://"+l.Addr().String(), "gateway", "mail"
	require.Error(t, s.Send(t.Context(), "rory@tern.example", "a", "b"))
	heard := <-said
	require.NotContains(t, heard, "AUTH")
	require.NotContains(t, heard, "rory")
}
