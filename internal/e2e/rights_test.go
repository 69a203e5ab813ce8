package e2e

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Whatever is open ends with the right by which it was opened: each kind of stream, for each way in which a right ends.
func TestOpenStreamsEndWithTheirRight(t *testing.T) {
	t.Parallel()
	d := island(t, nil)
	connect(t, d, "rory.researcher")
	x := newTerminal(t, d)
	call := func(method, path, token, cookie string, body, into any) int {
		b, err := json.Marshal(body)
		require.NoError(t, err)
		r, err := http.NewRequestWithContext(t.Context(), method, d.URL()+"/api/v1"+path, bytes.NewReader(b))
		require.NoError(t, err)
		r.Header.Set("Content-Type", "application/json")
		if token != "" {
			r.Header.Set("Authorization", "Bearer "+token)
		}
		if cookie != "" {
			r.AddCookie(&http.Cookie{Name: "yl_session", Value: cookie})
		}
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		defer answer.Body.Close()
		if into != nil && answer.StatusCode < 300 {
			require.NoError(t, json.NewDecoder(answer.Body).Decode(into))
		}
		return answer.StatusCode
	}
	stream := func(path, token, cookie string) <-chan struct{} {
		r, err := http.NewRequestWithContext(t.Context(), "GET", d.URL()+"/api/v1"+path, nil)
		require.NoError(t, err)
		if token != "" {
			r.Header.Set("Authorization", "Bearer "+token)
		} else {
			r.AddCookie(&http.Cookie{Name: "yl_session", Value: cookie})
		}
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		require.Equal(t, 200, answer.StatusCode, path)
		over := make(chan struct{})
		begun := make(chan struct{}, 1)
		go func() {
			defer close(over)
			defer answer.Body.Close()
			_, _ = answer.Body.Read(make([]byte, 1))
			begun <- struct{}{}
			_, _ = io.Copy(io.Discard, answer.Body)
		}()
		<-begun
		return over
	}
	signIn := func(name, password string) (cookie string) {
		b, err := json.Marshal(map[string]string{"name": name, "password": password})
		require.NoError(t, err)
		answer, err := http.Post(d.URL()+"/api/v1/sign-in", "application/json", bytes.NewReader(b))
		require.NoError(t, err)
		defer answer.Body.Close()
		require.Equal(t, 200, answer.StatusCode)
		return answer.Cookies()[0].Value
	}
	admin := func(method, path string, body any) {
		require.NoError(t, d.Client.Do(t.Context(), method, path, body, nil))
	}
	type other struct{ name, password, cookie, token string }
	for what, way := range map[string]struct {
		byToken, byCookie bool
		end               func(o other)
	}{
		"removed": {true, true, func(o other) { admin("DELETE", "/administrators/"+o.name, nil) }},
		"another role": {true, true, func(o other) {
			admin("PUT", "/administrators/"+o.name+"/role", map[string]string{"role": "auditor"})
		}},
		"another password is made": {true, true, func(o other) { admin("POST", "/administrators/"+o.name+"/password", map[string]any{}) }},
		"they change their password elsewhere": {true, true, func(o other) {
			second := signIn(o.name, o.password)
			require.Equal(t, 200, call("PUT", "/me/password", "", second,
				map[string]string{"password": o.password, "new": "other words for the same door"}, nil))
		}},
		"signed out everywhere": {false, true, func(o other) { admin("DELETE", "/administrators/"+o.name+"/sessions", nil) }},
		"they sign out":         {false, true, func(o other) { call("POST", "/sign-out", "", o.cookie, nil, nil) }},
		"the token is revoked":  {true, false, func(o other) { call("DELETE", "/tokens/own", o.token, "", nil, nil) }},
		"removed by hand in the records": {true, true, func(o other) {
			require.NoError(t, d.Store.RemoveAdministrator(t.Context(), o.name))
		}},
	} {
		o := other{name: "mara.mate"}
		_, o.password = hire(t, d, x, o.name, "administrator")
		o.cookie = signIn(o.name, o.password)
		var made struct{ Token string }
		require.Less(t, call("POST", "/tokens", "", o.cookie, map[string]string{"name": "watch"}, &made), 300)
		o.token = made.Token
		byCookie := map[string]<-chan struct{}{"watch": stream("/watch", "", o.cookie)}
		byToken := map[string]<-chan struct{}{
			"watch": stream("/watch", o.token, ""), "recording": stream("/sessions/rory.researcher/recording?seconds=60", o.token, ""),
		}
		way.end(o)
		ends := func(over <-chan struct{}) bool {
			select {
			case <-over:
				return true
			case <-time.After(3 * time.Second):
				return false
			}
		}
		for kind, over := range byToken {
			if way.byToken {
				require.True(t, ends(over), "%s: %s by a token goes on", what, kind)
			}
		}
		for kind, over := range byCookie {
			if way.byCookie {
				require.True(t, ends(over), "%s: %s by the console goes on", what, kind)
			}
		}
		_ = d.Client.Do(t.Context(), "DELETE", "/administrators/"+o.name, nil, nil)
	}
}
