package client

import (
	"io"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/require"
)

// What is still being worked out when a call took as long as a call may is asked for again, with the same body; any other refusal is one.
func TestAsksAgain(t *testing.T) {
	asked := 0
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		require.Equal(t, `{"text":"x"}`, string(b))
		if asked++; asked < 3 {
			w.WriteHeader(http.StatusServiceUnavailable)
			_, _ = io.WriteString(w, `{"code": "computing-goes-on", "detail": "ask again"}`)
			return
		}
		if asked == 3 {
			_, _ = io.WriteString(w, `"done"`)
			return
		}
		w.WriteHeader(http.StatusServiceUnavailable)
		_, _ = io.WriteString(w, `{"detail": "too many"}`)
	}))
	defer s.Close()
	c := Client{URL: s.URL, HTTP: s.Client()}
	var out string
	require.NoError(t, c.Do(t.Context(), "POST", "/check", map[string]string{"text": "x"}, &out))
	require.Equal(t, "done", out)
	var no *Error
	require.ErrorAs(t, c.Do(t.Context(), "POST", "/check", map[string]string{"text": "x"}, &out), &no)
	require.Equal(t, 4, asked)
}
