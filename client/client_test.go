package client_test

import (
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"dustyferry/client"
	"dustyferry/internal/contract"
)

func serve(t *testing.T, f http.HandlerFunc) *client.Client {
	t.Helper()
	s := httptest.NewServer(f)
	t.Cleanup(s.Close)
	c, err := client.New(s.URL+"/", "dft_x")
	if err != nil {
		t.Fatal(err)
	}
	return c
}

func TestProblemsBecomeErrorsInPlainWords(t *testing.T) {
	for _, c := range []struct {
		name, body, want string
		status           int
	}{
		{"a problem document",
			`{"type":"about:blank","title":"Not found","status":404,"detail":"there is no crossing named x"}`,
			"there is no crossing named x", 404},
		{"something else in between", `<html>bad gateway</html>`, "the service answered 502 Bad Gateway", 502},
		{"an empty answer", ``, "the service answered 500", 500},
	} {
		t.Run(c.name, func(t *testing.T) {
			api := serve(t, func(w http.ResponseWriter, r *http.Request) {
				if r.Header.Get("Authorization") != "Bearer dft_x" {
					t.Error("the token is not sent")
				}
				w.WriteHeader(c.status)
				_, _ = io.WriteString(w, c.body)
			})
			_, err := client.Do[contract.Crossing](api.API.GetCrossingWithResponse(t.Context(), "x"))
			var p *client.Problem
			if !errors.As(err, &p) || p.Status != c.status || !strings.Contains(err.Error(), c.want) {
				t.Errorf("%v", err)
			}
		})
	}
	gone, err := client.New("http://127.0.0.1:1", "x")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := client.Do[contract.Crossing](gone.API.GetCrossingWithResponse(t.Context(), "x")); err == nil ||
		!strings.Contains(err.Error(), "dustyferry serve") {
		t.Errorf("an unreachable service: %v", err)
	}
}

func TestEventsAreReadAsTheyCome(t *testing.T) {
	api := serve(t, func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Last-Event-ID") != "41" {
			t.Errorf("resumes after %q", r.Header.Get("Last-Event-ID"))
		}
		if r.URL.Query().Get("topic") != "/api/workers" {
			t.Errorf("asks for %q", r.URL.RawQuery)
		}
		_, _ = io.WriteString(w, "retry: 1000\n\n: a comment\n\nid: 42\nevent: journal\ndata: {\"a\":\ndata: 1}\n\nevent: "+
			"answer\ndata: []\n\nevent: cut short\ndata: x")
	})
	var got []string
	err := api.Events(t.Context(), "41", []string{"/api/workers"}, func(e client.Event) error {
		got = append(got, e.ID+" "+e.Kind+" "+string(e.Data))
		return nil
	})
	if !errors.Is(err, io.ErrUnexpectedEOF) || strings.Join(got, "|") != `42 journal {"a":1}| answer []` {
		t.Errorf("%q (%v)", got, err)
	}
}
