package eap

import (
	"io"

	"yellowlantern/internal/core/login"
)

// Converse begins a login by EAP-MSCHAPv2. name is what the server calls itself; judge judges the person's answer, and may take long.
func Converse(rand io.Reader, name string, judge func(Check) Verdict) login.Conversation {
	return &conversation{NewServer(rand, name), judge}
}

type conversation struct {
	server *Server
	judge  func(Check) Verdict
}

func (c *conversation) Next(message []byte) login.Step {
	if message == nil {
		return login.Step{Send: c.server.Begin()}
	}
	step := c.server.Respond(message)
	if step.Check != nil {
		step = c.server.Judged(c.judge(*step.Check))
	}
	return login.Step{
		Send: step.Send, Claimed: c.server.Identity, Over: step.Done,
		Outcome: login.Outcome{OK: step.OK, User: step.User, Known: step.Known || step.OK, Key: step.MSK, Why: step.Refusal},
	}
}
