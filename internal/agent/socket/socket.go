// Package socket carries an agent over a UNIX socket: the gateway's process serves it, the service dials it. Both look at whose process
// is at the other end before they say anything.
package socket

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"time"

	"connectrpc.com/connect"

	"yellowlantern/internal/agent"
	"yellowlantern/internal/gateway"
	"yellowlantern/internal/guard"
)

const (
	callPath   = "/yellowlantern.gateway/Call"
	recordPath = "/yellowlantern.gateway/Record"
	mostOctets = 256 << 20 // of one message: a large plan with its certificates, or all events that wait
)

// values carries messages as JSON.
type values struct{}

func (values) Name() string                    { return "json" }
func (values) Marshal(v any) ([]byte, error)   { return json.Marshal(v) }
func (values) Unmarshal(b []byte, v any) error { return json.Unmarshal(b, v) }

// recording asks for a session's packets.
type recording struct {
	ID     uint64               `json:"id"`
	Limits gateway.RecordLimits `json:"limits"`
}

// piece is a piece of a recording.
type piece struct {
	Octets []byte `json:"octets"`
}

// Server serves an agent.
type Server struct {
	http *http.Server
	path string
}

// Serve serves an agent at a path, for processes of these users and of root. What another process that was killed left at the path is
// taken away; one that still listens there is an error.
func Serve(path string, users []uint32, a agent.Agent, log *slog.Logger) (*Server, error) {
	if c, err := net.Dial("unix", path); err == nil {
		_ = c.Close()
		return nil, fmt.Errorf("another gateway listens at %s: end it, or choose another --socket", path)
	}
	if info, err := os.Lstat(path); err == nil && info.Mode()&os.ModeSocket != 0 {
		_ = os.Remove(path)
	}
	ln, err := net.Listen("unix", path)
	if err != nil {
		return nil, fmt.Errorf("cannot listen at %s: %w; its folder must exist, and belong to the gateway's user", path, err)
	}
	if err := os.Chmod(path, 0o660); err != nil {
		_ = ln.Close()
		return nil, err
	}
	mux := http.NewServeMux()
	mux.Handle(callPath, connect.NewUnaryHandler(callPath,
		func(ctx context.Context, r *connect.Request[agent.Call]) (*connect.Response[agent.Reply], error) {
			reply := agent.Serve(ctx, a, *r.Msg)
			return connect.NewResponse(&reply), nil
		}, connect.WithCodec(values{}), connect.WithReadMaxBytes(mostOctets)))
	mux.Handle(recordPath, connect.NewServerStreamHandler(recordPath,
		func(ctx context.Context, r *connect.Request[recording], out *connect.ServerStream[piece]) error {
			return a.Record(ctx, r.Msg.ID, r.Msg.Limits, pieces{out})
		}, connect.WithCodec(values{})))
	s := &Server{path: path, http: &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second, Protocols: onlyHTTP2()}}
	guard.Go("agent.socket", func() {
		if err := s.http.Serve(&known{ln, users, log}); !errors.Is(err, http.ErrServerClosed) {
			log.Error("the service's socket", "error", err)
		}
	})
	return s, nil
}

// Close ends it, and what is under way.
func (s *Server) Close() { _ = s.http.Close() }

func onlyHTTP2() *http.Protocols {
	p := new(http.Protocols)
	p.SetUnencryptedHTTP2(true)
	return p
}

type pieces struct {
	out *connect.ServerStream[piece]
}

func (p pieces) Write(b []byte) (int, error) { return len(b), p.out.Send(&piece{b}) }

// known accepts connections of known users' processes alone.
type known struct {
	net.Listener
	users []uint32
	log   *slog.Logger
}

func (k *known) Accept() (net.Conn, error) {
	for {
		c, err := k.Listener.Accept()
		if err != nil {
			return nil, err
		}
		if err := mayBe(c, k.users); err != nil {
			k.log.Warn("refused at the service's socket", "error", err)
			_ = c.Close()
			continue
		}
		return c, nil
	}
}

// Dial is the agent at a path, if a process of one of these users, or of root, listens there. It is dialled when it is called.
func Dial(path string, users []uint32) agent.Agent {
	over := &http.Client{Transport: &http.Transport{
		Protocols: onlyHTTP2(),
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			c, err := (&net.Dialer{}).DialContext(ctx, "unix", path)
			if err != nil {
				return nil, err
			}
			if err := mayBe(c, users); err != nil {
				_ = c.Close()
				return nil, err
			}
			return c, nil
		},
	}}
	const host = "http://gateway"
	asJSON, most := connect.WithCodec(values{}), connect.WithReadMaxBytes(mostOctets)
	call := connect.NewClient[agent.Call, agent.Reply](over, host+callPath, asJSON, most)
	record := connect.NewClient[recording, piece](over, host+recordPath, asJSON)
	return agent.Remote{
		Do: func(ctx context.Context, c agent.Call) (agent.Reply, error) {
			r, err := call.CallUnary(ctx, connect.NewRequest(&c))
			if err != nil {
				return agent.Reply{}, plainly(err, path)
			}
			return *r.Msg, nil
		},
		Stream: func(ctx context.Context, id uint64, limits gateway.RecordLimits, w io.Writer) error {
			in, err := record.CallServerStream(ctx, connect.NewRequest(&recording{id, limits}))
			if err != nil {
				return plainly(err, path)
			}
			defer in.Close()
			for in.Receive() {
				if _, err := w.Write(in.Msg().Octets); err != nil {
					return err
				}
			}
			if err := in.Err(); err != nil && ctx.Err() == nil {
				return plainly(err, path)
			}
			return nil
		},
	}
}

// plainly says what a call's error means.
func plainly(err error, path string) error {
	var coded *connect.Error
	if errors.As(err, &coded) && coded.Code() == connect.CodeUnavailable {
		var op *net.OpError
		if errors.As(err, &op) {
			err = op.Err
		}
		return fmt.Errorf("nothing answers at %s (%w): start the gateway's process, yl gateway", path, err)
	}
	return err
}
