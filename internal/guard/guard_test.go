package guard

import (
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestPanicsEndTheirTaskAlone(t *testing.T) {
	var g Group
	var ran, kept atomic.Int32
	g.Go("test.go", func() { panic("once") })
	g.Go("test.other", func() { ran.Add(1) })
	g.Keep("test.keep", func() {
		if kept.Add(1) < 4 {
			var none []int
			_ = none[kept.Load()]
		}
	})
	After(time.Millisecond, "test.after", func() { panic("later") })
	Go("test.alone", func() { panic(nil) })
	g.Wait()
	w := httptest.NewRecorder()
	HTTP("test.http", http.HandlerFunc(func(http.ResponseWriter, *http.Request) { panic("in a call") })).ServeHTTP(w, nil)
	require.Equal(t, http.StatusInternalServerError, w.Code)
	require.EqualValues(t, 1, Panics()["test.http"])
	require.EqualValues(t, 1, ran.Load())
	require.EqualValues(t, 4, kept.Load())
	require.Eventually(t, func() bool {
		n := Panics()
		return n["test.go"] == 1 && n["test.keep"] == 3 && n["test.after"] == 1 && n["test.alone"] == 1 && n["test.other"] == 0
	}, 5*time.Second, time.Millisecond, "%v", Panics())
}
