package source

import (
	"context"
	"errors"
	"net"
)

// Plainly leaves out what a network error says twice.
func Plainly(err error) error {
	var op *net.OpError
	var no net.Error
	switch {
	case errors.As(err, &no) && no.Timeout(), errors.Is(err, context.DeadlineExceeded):
		return errors.New("it does not answer in time")
	case errors.As(err, &op):
		return op.Err
	}
	return err
}
