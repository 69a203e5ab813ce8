package revocation

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"time"
)

const (
	fetchTime = 5 * time.Second // within what a login waits for
	mostList  = 64 << 20        // octets; lists of large authorities have some millions
	mostMoves = 3               // from one address to another
)

// fetcher is by what lists are fetched: what they say is signed, so TLS adds nothing but that others do not see who is looked for.
var fetcher = &http.Client{
	Timeout: fetchTime,
	CheckRedirect: func(r *http.Request, via []*http.Request) error {
		if len(via) > mostMoves || !web(r.URL.String()) {
			return errors.New("it leads elsewhere too often, or to what is not fetched here")
		}
		return nil
	},
}

func get(ctx context.Context, address string) ([]byte, error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, err
	}
	return do(r)
}

func post(ctx context.Context, address, kind string, body []byte) ([]byte, error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, address, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	r.Header.Set("Content-Type", kind)
	return do(r)
}

func do(r *http.Request) ([]byte, error) {
	answer, err := fetcher.Do(r)
	if err != nil {
		return nil, errors.Unwrap(err) // without the address, which stands beside it
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("the server answers %s", answer.Status)
	}
	b, err := io.ReadAll(io.LimitReader(answer.Body, mostList+1))
	if err == nil && len(b) > mostList {
		err = fmt.Errorf("there are more than %d octets", mostList)
	}
	return b, err
}
