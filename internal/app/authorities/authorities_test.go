package authorities

import (
	"testing"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/running"
	"yellowlantern/internal/core/reason"
	"yellowlantern/internal/store"
)

// A service that has just started, and does not know yet what runs, vouches for nobody's certificate: their devices log in anew, later.
func TestNobodyIsVouchedForBeforeAPlanRuns(t *testing.T) {
	s := &Service{Running: &running.Service{}}
	require.True(t, s.Gone(t.Context(), store.PersonKey{Authority: "mainland"}))
	require.Equal(t, reason.LoginsLater, s.Judge(t.Context(), "main", nil).Why.Code)
}
