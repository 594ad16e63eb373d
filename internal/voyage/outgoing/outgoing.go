// Package outgoing posts JSON documents to addresses that people gave.
package outgoing

import (
	"bytes"
	"context"
	"errors"
	"io"
	"net/http"
	"time"

	"dustyferry/internal/domain"
)

// Limit is how long an address may take to answer.
const Limit = 15 * time.Second

// refused is an answer that says no, as against none.
type refused struct {
	status string
	code   int
}

func (r refused) Error() string { return "it answered " + r.status }

// Answered reports whether a post failed by an answer that says no. An answer that the address is in
// trouble (5xx) says nothing of what came of it: it may be of somebody on the way there.
func Answered(err error) bool {
	var r refused
	return errors.As(err, &r) && r.code < 500
}

// Post sends a JSON document and returns the status that was answered. Anything but 2xx is an
// error, a redirection too.
func Post(ctx context.Context, url string, body []byte, headers map[string]string) (string, error) {
	limit, cancel := context.WithTimeout(ctx, Limit)
	defer cancel()
	req, err := http.NewRequestWithContext(limit, http.MethodPost, url, bytes.NewReader(body))
	if err != nil {
		return "", domain.Invalid("the address %q cannot be called: %s", url, err)
	}
	req.Header.Set("Content-Type", "application/json")
	for name, value := range headers {
		req.Header.Set(name, value)
	}
	client := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	res, err := client.Do(req)
	if err != nil {
		return "", err
	}
	_, _ = io.Copy(io.Discard, io.LimitReader(res.Body, 1<<20))
	_ = res.Body.Close()
	if res.StatusCode/100 != 2 {
		return "", refused{res.Status, res.StatusCode}
	}
	return res.Status, nil
}
