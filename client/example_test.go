package client_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"

	"dustyferry/client"
)

// A draft is made, and surveyed; what the service refuses comes as a [client.Problem], whose
// text says what to do.
func Example() {
	service := httptest.NewServer(http.HandlerFunc(answer)) // stands for a real one
	defer service.Close()

	ctx := context.Background()
	c, err := client.New(service.URL, "a token")
	if err != nil {
		fmt.Println(err)
		return
	}
	tables := []string{"saltmarsh.*", "-saltmarsh.tmp*"}
	draft, err := client.Do[client.Crossing](c.API.AddCrossingWithResponse(ctx, client.NewCrossing{
		Name: "spring", Source: "old-barn", Target: "new-barn", Tables: &tables}))
	fmt.Println(draft.Name, draft.Phase, err)

	list, err := client.Do[[]client.Entry](c.API.SurveyCrossingWithResponse(ctx, "spring"))
	for _, e := range list {
		fmt.Println(e.Verdict, e.Subject, e.Measured)
	}
	fmt.Println(err)

	_, err = client.Do[client.Crossing](c.API.GetCrossingWithResponse(ctx, "autumn"))
	fmt.Println(err)
	// Output:
	// spring draft <nil>
	// notice saltmarsh.visitor_notes it has no key
	// <nil>
	// there is no crossing autumn; 'dustyferry crossing list' shows all
}

func answer(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "application/json")
	switch r.Method + " " + r.URL.Path {
	case "POST /api/crossings":
		var asked client.NewCrossing
		_ = json.NewDecoder(r.Body).Decode(&asked)
		w.WriteHeader(http.StatusCreated)
		_ = json.NewEncoder(w).Encode(client.Crossing{Name: asked.Name, Phase: "draft"})
	case "POST /api/crossings/spring/survey":
		_ = json.NewEncoder(w).Encode([]client.Entry{{Verdict: client.Notice, Subject: "saltmarsh.visitor_notes",
			Topic: "no key", Measured: "it has no key"}})
	default:
		w.WriteHeader(http.StatusNotFound)
		_, _ = w.Write([]byte(`{"status": 404, "title": "Not found", "detail": "there is no crossing autumn; 'dustyferry crossing list' shows all"}`))
	}
}
