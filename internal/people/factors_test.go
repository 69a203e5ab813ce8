package people

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/core/login"
	"yellowlantern/internal/core/onetime"
	"yellowlantern/internal/core/reason"
)

// A code counts once however many give it at the same moment, wherever they call from; wrong ones of many people are nobody's burden.
func TestCodesCountOnce(t *testing.T) {
	p, ctx := open(t), context.Background()
	secret := onetime.Of(onetime.ByTime, []byte("12345678901234567890"))
	names := []string{"rory", "vera", "wanda"}
	for _, name := range names {
		require.NoError(t, p.Add(ctx, User{Name: name, Groups: []string{"a"}}, "eight terns on the jetty"))
		codes, err := p.AddFactor(ctx, name, "", secret, nil, "")
		require.NoError(t, err)
		require.Len(t, codes, recoveryCodes)
	}
	for i := range 40 {
		require.Equal(t, reason.NoFactor, p.Code(ctx, login.Code{User: fmt.Sprint("nobody", i), Code: "000000"}).Why.Code)
	}
	for _, name := range names[1:] {
		require.Equal(t, reason.WrongCode, p.Code(ctx, login.Code{User: name, Code: "000000"}).Why.Code)
		require.Equal(t, reason.CodeWaits, p.Code(ctx, login.Code{User: name, Code: "000000"}).Why.Code)
	}
	var right atomic.Int32
	var all sync.WaitGroup
	code := secret.Code(onetime.At(time.Now()))
	for i := range 20 {
		all.Go(func() {
			if i%2 == 0 {
				if p.Code(ctx, login.Code{User: "rory", Code: code, Keys: []string{"laptop"}}).OK {
					right.Add(1)
				}
				return
			}
			if o := p.Password(ctx, "rory", "eight terns on the jetty"+code, login.Call{}); o.OK {
				require.True(t, o.Coded)
				right.Add(1)
			}
		})
	}
	all.Wait()
	require.EqualValues(t, 1, right.Load())
	p.Codes.Lift("rory", oneSource("rory"), nil)
	at := p.Coded(ctx, login.Coded{User: "rory", Keys: []string{"laptop", "another"}})
	require.True(t, at.IsZero(), "all of its keys must have been there")
	for range mostFactors - 1 {
		_, err := p.AddFactor(ctx, "rory", "", secret, nil, "")
		require.NoError(t, err)
	}
	_, err := p.AddFactor(ctx, "rory", "", secret, nil, "")
	require.ErrorIs(t, err, ErrFactors)
	n, err := p.ForgetFactors(ctx, "rory")
	require.NoError(t, err)
	require.Equal(t, mostFactors, n)
}
