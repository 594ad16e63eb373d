// Package client calls a Dusty Ferry service from Go programs, through its public HTTP
// interface only; the command line, the demo and the tests all go through it.
//
// [New] makes a client for an address and an access token. Its field API has one method for
// each call of the OpenAPI document (internal/contract/openapi.yaml), which returns the raw
// answer; [Do] turns that into a value of one of the types here, or into a [Problem]. Sizes
// are bytes, and durations seconds, where a field's name does not say otherwise.
package client

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"

	"dustyferry/internal/contract"
)

// Client is a signed-in caller.
type Client struct {
	API  *contract.ClientWithResponses
	base string
	http *http.Client
	tok  string
}

// New returns a client for a service's address and an access token.
func New(address, token string) (*Client, error) {
	address = strings.TrimRight(address, "/")
	c := &Client{base: address, http: &http.Client{}, tok: token}
	api, err := contract.NewClientWithResponses(address, contract.WithHTTPClient(c.http),
		contract.WithRequestEditorFn(c.sign))
	c.API = api
	return c, err
}

func (c *Client) sign(_ context.Context, r *http.Request) error {
	if c.tok != "" {
		r.Header.Set("Authorization", "Bearer "+c.tok)
	}
	return nil
}

// Problem is an answer that was no success.
type Problem struct {
	Status int
	Title  string
	Detail string
}

func (p *Problem) Error() string { return p.Detail }

// response is what every generated answer has.
type response interface {
	StatusCode() int
}

// Do takes an answer's body as T, or its problem as an error:
//
//	c, err := client.Do[contract.Crossing](api.GetCrossingWithResponse(ctx, name))
func Do[T any, R response](r R, err error) (T, error) {
	var out T
	if err != nil {
		return out, unreachable(err)
	}
	body := bodyOf(r)
	if r.StatusCode() >= 300 {
		return out, problemOf(r.StatusCode(), body)
	}
	switch to := any(&out).(type) {
	case *string:
		*to = string(body)
		return out, nil
	case *struct{}:
		return out, nil
	}
	if err := json.Unmarshal(body, &out); err != nil {
		return out, fmt.Errorf("the service's answer cannot be read: %w", err)
	}
	return out, nil
}

func unreachable(err error) error {
	if errors.Is(err, context.Canceled) {
		return err
	}
	var text = err.Error()
	if i := strings.LastIndex(text, ": "); i > 0 {
		text = text[i+2:]
	}
	return fmt.Errorf("the service cannot be reached (%s); start it with 'dustyferry serve', or give its address "+
		"with --service", text)
}

func problemOf(status int, body []byte) error {
	var p contract.Problem
	if json.Unmarshal(body, &p) != nil || p.Detail == "" {
		return &Problem{Status: status, Title: http.StatusText(status), Detail: fmt.Sprintf("the service answered %d %s",
			status, http.StatusText(status))}
	}
	return &Problem{Status: status, Title: p.Title, Detail: p.Detail}
}

// Event is one server-sent event.
type Event struct {
	ID   string
	Kind string
	Data []byte
}

// Events opens the event stream after an id (empty: from now) with the topics,
// paths of calls whose answers it repeats, and calls f for each event until the
// context ends, f returns an error or the stream breaks.
func (c *Client) Events(ctx context.Context, after string, topics []string, f func(Event) error) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, c.base+"/api/events?"+url.Values{"topic": topics}.Encode(),
		nil)
	if err != nil {
		return err
	}
	_ = c.sign(ctx, req)
	if after != "" {
		req.Header.Set("Last-Event-ID", after)
	}
	res, err := c.http.Do(req)
	if err != nil {
		return unreachable(err)
	}
	defer func() { _ = res.Body.Close() }()
	if res.StatusCode != http.StatusOK {
		b, _ := io.ReadAll(io.LimitReader(res.Body, 1<<20))
		return problemOf(res.StatusCode, b)
	}
	return readEvents(res.Body, f)
}
