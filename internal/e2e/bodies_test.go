package e2e

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowlantern/internal/app/plans"
	"yellowlantern/internal/core/check"
	"yellowlantern/internal/instance"
)

// Documents that are no plan, or none that anybody has: little comes back, soon, and two of one caller's are read at once.
func TestHostileDocuments(t *testing.T) {
	t.Parallel()
	d := island(t, nil)
	const head = "format: 1\nname: Small\n"
	many := func(list, one string, n int) string {
		b := []byte(head + list + ":\n")
		for i := range n {
			b = fmt.Appendf(b, one, i)
		}
		return string(b)
	}
	call := func(name, text string) (int, []byte) {
		in := map[string]any{"text": text}
		if name == "edit" {
			in["edits"] = []string{}
		}
		b, err := json.Marshal(in)
		require.NoError(t, err)
		r, err := http.NewRequestWithContext(t.Context(), "POST", d.URL()+"/api/v1/"+name, bytes.NewReader(b))
		require.NoError(t, err)
		r.Header.Set("Authorization", "Bearer "+d.Client.Token)
		r.Header.Set("Content-Type", "application/json")
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		defer answer.Body.Close()
		out, err := io.ReadAll(answer.Body)
		require.NoError(t, err)
		return answer.StatusCode, out
	}
	documents := map[string]string{
		"nothing of each": head + "rules:\n" + strings.Repeat("  - {}\n", 50_000),
		"groups of none":  many("groups", "  - {name: g%d}\n", 50_000),
		"services":        many("services", "  - {name: g%d, ports: [tcp/1]}\n", 50_000),
		"a long name":     head + "rules:\n  - {name: \"" + strings.Repeat("x", 3<<20) + "\"}\n",
		"a long field":    head + strings.Repeat("x", 3<<20) + ": 1\n",
		"fields":          many("a", "u%d:\n", 400_000),
		"values":          head + "rules: [" + strings.Repeat("a,", 2_000_000) + "]\n",
		"deep":            head + "rules: " + strings.Repeat("[", 100_000) + strings.Repeat("]", 100_000),
	}
	var wait sync.WaitGroup
	for what, text := range documents { // all at once, by one caller
		wait.Go(func() {
			begun := time.Now()
			status, out := call("check", text)
			for status == http.StatusServiceUnavailable && time.Since(begun) < time.Minute { // as a caller is told to
				time.Sleep(time.Second)
				status, out = call("check", text)
			}
			require.Equal(t, http.StatusOK, status, "%s: %.200s", what, out)
			require.Less(t, len(out), 1<<20, what)
			require.Less(t, time.Since(begun), 2*time.Minute, what)
		})
	}
	wait.Wait()
	for _, what := range []string{"a long name", "a long field", "nothing of each", "fields"} {
		status, out := call("edit", documents[what])
		require.Equal(t, http.StatusUnprocessableEntity, status, what)
		require.Less(t, len(out), 1<<20, what)
	}
	_, out := call("check", documents["groups of none"])
	var checked plans.Checked
	require.NoError(t, json.Unmarshal(out, &checked))
	require.Len(t, checked.Findings, 1000)
	require.Equal(t, check.Stop, checked.Findings[0].Severity, "the gravest")
	require.Equal(t, 49_001, checked.Left+checked.Stops-1, "%d, and all are counted: %d", checked.Left, checked.Warnings+checked.Notes)
}

// Of whoever did not sign in little is read, by few at a time, and not for long; of others as much as their call needs.
func TestBodiesAreBounded(t *testing.T) {
	t.Parallel()
	d := island(t, func(o *instance.Options) {
		o.ListenKits, o.KitsAt = []string{"127.0.0.1:0"}, "https://kits.tern.example:8644"
	})
	x := newTerminal(t, d)
	var made struct{ Token string }
	require.NoError(t, d.Client.Do(t.Context(), "POST", "/tokens", map[string]string{"name": "bodies"}, &made))
	kits := &http.Client{Transport: &http.Transport{
		TLSClientConfig: &tls.Config{InsecureSkipVerify: true, ServerName: "kits.tern.example"},
		DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, network, d.AddressesKits[0].String())
		},
	}}
	post := func(c *http.Client, url, token string, body io.Reader) int {
		r, err := http.NewRequestWithContext(t.Context(), "POST", url, body)
		require.NoError(t, err)
		r.Header.Set("Content-Type", "application/json")
		if token != "" {
			r.Header.Set("Authorization", "Bearer "+token)
		}
		answer, err := c.Do(r)
		if err != nil { // it is closed while more is sent
			return http.StatusRequestEntityTooLarge
		}
		defer answer.Body.Close()
		return answer.StatusCode
	}
	chunked := func(size int) io.Reader {
		return io.MultiReader(strings.NewReader(strings.Repeat("x", size)), strings.NewReader(""))
	}
	api, pages := d.URL()+"/api/v1", "https://kits.tern.example:8644"
	plain := http.DefaultClient
	for what, status := range map[string]int{
		"sign-in, 9 MB":            post(plain, api+"/sign-in", "", bytes.NewReader(make([]byte, 9<<20))),
		"sign-in, 65 KB in chunks": post(plain, api+"/sign-in", "", chunked(66<<10)),
		"sign-in with a token":     post(plain, api+"/sign-in", made.Token, chunked(66<<10)),
		"kit, 65 KB":               post(kits, pages+"/kit/none", "", bytes.NewReader(make([]byte, 66<<10))),
		"kit, 65 KB in chunks":     post(kits, pages+"/kit/none", "", chunked(66<<10)),
		"renewal, 65 KB":           post(kits, pages+"/api/v1/renewals", "", chunked(66<<10)),
		"enrolment, 65 KB":         post(kits, pages+"/enrol?operation=PKIOperation", "", chunked(66<<10)),
		"a person, 100 KB":         post(plain, api+"/users", made.Token, bytes.NewReader([]byte(`{"name": "`+strings.Repeat("x", 100<<10)+`"}`))),
	} {
		require.Equal(t, http.StatusRequestEntityTooLarge, status, what)
	}
	stranger := post(plain, api+"/drafts/mine/change", "no token of ours", bytes.NewReader(make([]byte, 8<<20)))
	require.Equal(t, http.StatusUnauthorized, stranger)
	text := x.did("plan", "show") + "\n#" + strings.Repeat(" large\n#", 400_000)
	require.Greater(t, len(text), 3<<20)
	x.did("plan", "load", write(t, text), "--draft", "large")

	// Slow senders take no more than their source's share, and not for long.
	slow := func(from string) (status chan int) {
		status = make(chan int, 1)
		c, err := (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}}).Dial("tcp", d.AddressesKits[0].String())
		require.NoError(t, err)
		secure := tls.Client(c, &tls.Config{InsecureSkipVerify: true, ServerName: "kits.tern.example"})
		_, err = fmt.Fprintf(secure, "POST /enrol?operation=PKIOperation HTTP/1.1\r\nHost: kits.tern.example\r\nContent-Length: 1000\r\n\r\nx")
		require.NoError(t, err)
		go func() {
			defer c.Close()
			b := make([]byte, 64)
			n, _ := io.ReadAtLeast(secure, b, 12)
			code := 0
			_, _ = fmt.Sscanf(string(b[:n]), "HTTP/1.1 %d", &code)
			status <- code
		}()
		return status
	}
	begun := time.Now()
	var statuses []chan int
	for range 20 {
		statuses = append(statuses, slow("127.0.0.7"))
	}
	time.Sleep(300 * time.Millisecond)
	other := post(kits, pages+"/enrol?operation=PKIOperation", "", strings.NewReader("short"))
	require.Equal(t, http.StatusBadRequest, other, "somebody else is served")
	counted := map[int]int{}
	var wait sync.WaitGroup
	var mu sync.Mutex
	for _, s := range statuses {
		wait.Go(func() {
			code := <-s
			mu.Lock()
			defer mu.Unlock()
			counted[code]++
		})
	}
	wait.Wait()
	require.Equal(t, map[int]int{http.StatusServiceUnavailable: 4, http.StatusRequestTimeout: 16}, counted)
	require.Less(t, time.Since(begun), 20*time.Second)
}
