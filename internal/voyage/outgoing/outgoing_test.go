package outgoing

import (
	"io"
	"net/http"
	"net/http/httptest"
	"testing"
)

func TestOnlyAYesIsAYes(t *testing.T) {
	var got string
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		got = r.Method + " " + r.Header.Get("Content-Type") + " " + r.Header.Get("X-Of") + " " + string(b)
		switch r.URL.Path {
		case "/no":
			http.Error(w, "no", http.StatusTeapot)
		case "/elsewhere":
			http.Redirect(w, r, "/yes", http.StatusFound)
		}
	}))
	defer srv.Close()
	status, err := Post(t.Context(), srv.URL+"/yes", []byte(`{"a":1}`), map[string]string{"X-Of": "us"})
	if err != nil || status != "200 OK" || got != `POST application/json us {"a":1}` {
		t.Errorf("%q, %v; it got %s", status, err, got)
	}
	for _, path := range []string{"/no", "/elsewhere"} {
		if _, err := Post(t.Context(), srv.URL+path, nil, nil); !Answered(err) {
			t.Errorf("%s: %v", path, err)
		}
	}
	srv.Close()
	for _, url := range []string{srv.URL, "http://%"} {
		if _, err := Post(t.Context(), url, nil, nil); err == nil || Answered(err) {
			t.Errorf("%s: %v", url, err)
		}
	}
}
