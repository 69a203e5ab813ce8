package socket

import (
	"bytes"
	"context"
	"io"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/agent"
	"yellowlantern/internal/gateway"
)

// some is an agent that says little.
type some struct{ agent.Agent }

func (some) Ask(_ context.Context, q agent.Question) (agent.Answer, error) {
	return agent.Answer{Pools: []gateway.Pool{{Name: "staff"}}}, nil
}

func (some) Events(ctx context.Context, _ agent.Mark) (agent.Events, error) {
	<-ctx.Done()
	return agent.Events{Of: "log"}, nil
}

func (some) Record(_ context.Context, _ uint64, _ gateway.RecordLimits, w io.Writer) error {
	_, err := w.Write(bytes.Repeat([]byte("packet "), 10000))
	return err
}

// Calls, waiting ones and recordings go over the socket; one that another process left is taken over, one that is used is not; whoever
// listens there and is not who it should be is not spoken to; another version is told apart from no answer.
func TestSocket(t *testing.T) {
	path, log := filepath.Join(t.TempDir(), "s"), slog.New(slog.DiscardHandler)
	there := Dial(path, nil)
	_, err := there.Ask(t.Context(), agent.Question{Pools: true})
	require.ErrorIs(t, err, gateway.ErrNotReached)
	require.ErrorContains(t, err, "start the gateway's process")

	dead, err := net.ListenUnix("unix", &net.UnixAddr{Name: path, Net: "unix"})
	require.NoError(t, err)
	dead.SetUnlinkOnClose(false)
	require.NoError(t, dead.Close())
	s, err := Serve(path, nil, some{}, log)
	require.NoError(t, err)
	_, err = Serve(path, nil, some{}, log)
	require.ErrorContains(t, err, "another gateway listens")
	info, err := os.Stat(path)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o660), info.Mode().Perm())
	owner, err := Owner(path)
	require.NoError(t, err)
	require.EqualValues(t, os.Geteuid(), owner)

	got, err := there.Ask(t.Context(), agent.Question{Pools: true})
	require.NoError(t, err)
	require.Equal(t, "staff", got.Pools[0].Name)
	ctx, stop := context.WithTimeout(t.Context(), 100*time.Millisecond)
	events, err := there.Events(ctx, agent.Mark{})
	stop()
	require.NoError(t, err, "there is nothing, in time")
	require.Equal(t, "log", events.Of)
	var out bytes.Buffer
	require.NoError(t, there.Record(t.Context(), 1, gateway.RecordLimits{}, &out))
	require.Equal(t, 70000, out.Len())

	waiting := make(chan error, 1)
	go func() {
		_, err := there.Events(t.Context(), agent.Mark{})
		waiting <- err
	}()
	time.Sleep(50 * time.Millisecond)
	s.Close()
	require.ErrorIs(t, <-waiting, gateway.ErrNotReached, "at once, not after a minute")

	reply := agent.Serve(t.Context(), some{}, agent.Call{Wire: agent.Wire + 1, Ask: &agent.Question{Pools: true}})
	require.Empty(t, reply.Answer.Pools, "another version is not answered")
	other := agent.Remote{Do: func(context.Context, agent.Call) (agent.Reply, error) { return reply, nil }}
	_, err = other.Ask(t.Context(), agent.Question{})
	require.ErrorIs(t, err, agent.ErrOtherWire)
	require.ErrorIs(t, err, gateway.ErrNotReached, "what it carries goes on")
}
