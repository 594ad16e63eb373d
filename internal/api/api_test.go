package api

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/gin-gonic/gin"

	"dustyferry/internal/contract"
	"dustyferry/internal/core/lifecycle"
	"dustyferry/internal/domain"
	"dustyferry/internal/records"
	"dustyferry/internal/voyage/journal"
)

// TestTheContractSpeaksTheCodesWords holds the OpenAPI document's enumerations
// against the words the code uses.
func TestTheContractSpeaksTheCodesWords(t *testing.T) {
	doc, err := openapi3.NewLoader().LoadFromData(contract.Document)
	if err != nil {
		t.Fatal(err)
	}
	if err := doc.Validate(t.Context()); err != nil {
		t.Errorf("the document is not valid OpenAPI: %v", err)
	}
	words := func(schema string, path ...string) []string {
		s := doc.Components.Schemas[schema].Value
		for _, p := range path {
			s = s.Properties[p].Value
		}
		var out []string
		for _, v := range s.Enum {
			out = append(out, v.(string))
		}
		return out
	}
	for _, c := range []struct {
		name string
		got  []string
		want []string
	}{
		{"phases", words("Phase"), []string{string(domain.PhaseDraft), string(domain.PhaseSurveyed),
			string(domain.PhasePrepared), string(domain.PhaseLoading), string(domain.PhaseCatchingUp),
			string(domain.PhaseInStep), string(domain.PhaseCuttingOver), string(domain.PhaseCutOver),
			string(domain.PhaseClosed)}},
		{"conditions", words("Condition"), []string{string(domain.ConditionRunning), string(domain.ConditionHeld),
			string(domain.ConditionPaused), string(domain.ConditionFailed)}},
		{"kinds", words("NewCrossing", "kind"), []string{string(domain.KindLoad), string(domain.KindLoadCapture),
			string(domain.KindCapture)}},
		{"verdicts", words("Verdict"), []string{string(domain.Blocker), string(domain.Notice), string(domain.OK)}},
		{"chunk states", words("Chunk", "state"), []string{string(domain.ChunkPending), string(domain.ChunkReading),
			string(domain.ChunkLanded), string(domain.ChunkHeld)}},
		{"table states", words("Table", "state"), []string{string(domain.TablePlanned), string(domain.TableLoading),
			string(domain.TableLanded), string(domain.TableHeld)}},
		{"findings", words("Finding", "kind"), []string{string(domain.MissingOnTarget), string(domain.ExtraOnTarget),
			string(domain.Differing)}},
		{"step states", words("CutoverStep", "state"), []string{string(domain.StepWaiting), string(domain.StepRunning),
			string(domain.StepDone), string(domain.StepFailed), string(domain.StepSkipped), string(domain.StepUndone)}},
		{"events", words("Event"), journal.Events},
	} {
		if !reflect.DeepEqual(c.got, c.want) {
			t.Errorf("%s: the contract has %v, the code %v", c.name, c.got, c.want)
		}
	}
	// Every call but two answers problems, and none that changes something is open.
	for path, item := range doc.Paths.Map() {
		for method, op := range item.Operations() {
			if op.Responses.Default() == nil && path != "/api/version" {
				t.Errorf("%s %s does not say how it refuses", method, path)
			}
			if method != http.MethodGet && path != "/api/session" && needs(method, path) == "viewer" {
				t.Errorf("%s %s changes something and a viewer may call it", method, path)
			}
		}
	}
}

func TestRolesByCall(t *testing.T) {
	for call, want := range map[string]string{
		"GET /api/crossings": "viewer", "POST /api/crossings": "operator", "POST /api/crossings/:name/cutovers": "operator",
		"DELETE /api/crossings/:name": "operator",
		"POST /api/databases":         "admin", "DELETE /api/databases/:name": "admin",
		"POST /api/databases/:name/check": "operator",
		"GET /api/databases":              "viewer",
		"GET /api/tokens":                 "admin", "POST /api/tokens": "admin", "DELETE /api/session": "viewer",
		"POST /api/manifests": "operator", "PUT /api/defaults": "admin", "GET /api/defaults": "viewer",
		"POST /api/crossings/:name/reconciliations/:id/recheck": "operator",
	} {
		method, path, _ := strings.Cut(call, " ")
		if got := needs(method, path); got != want {
			t.Errorf("%s needs %s, want %s", call, got, want)
		}
	}
}

func TestSettingsGoThereAndBack(t *testing.T) {
	s := domain.DefaultSettings()
	s.Lanes, s.SpeedLimit, s.PauseBudget, s.StopMethod = 9, 123, 1500*time.Millisecond, domain.StopReadOnly
	s.HandoverURL, s.ExistingRows, s.InStepDwell = "http://x", "empty", 250*time.Millisecond
	s.HoldPoints = []domain.StepName{domain.StepStopWrites}
	out := settingsOut(s)
	lanes := 3
	for name, c := range map[string]struct {
		base domain.Settings
		in   *contract.Settings
		want func(*domain.Settings)
	}{
		"all of them":              {domain.DefaultSettings(), &out, func(x *domain.Settings) { *x = s }},
		"what was not given stays": {s, &contract.Settings{Lanes: &lanes}, func(x *domain.Settings) { x.Lanes = 3 }},
		"nothing given":            {s, nil, func(*domain.Settings) {}},
		"an explicit 0, and an empty list": {s, &contract.Settings{InStepDwellSeconds: new(float64), HandoverUrl: new(string),
			HoldPoints: &[]contract.SettingsHoldPoints{}},
			func(x *domain.Settings) { x.InStepDwell, x.HandoverURL, x.HoldPoints = 0, "", nil }},
	} {
		want := c.base
		c.want(&want)
		if got, err := settingsIn(c.base, c.in); err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%s: %+v, want %+v (%v)", name, got, want, err)
		}
	}
}

func TestCertificatesCanBeRead(t *testing.T) {
	raw := `{"crossing":"spring","kind":"load+capture","phase":"cut over","closed_by":"ann",
"source":{"name":"old","engine":"postgres","host":"h","port":5432,"database":"d","user":"u"},"target":{"name":"new","engine":"postgres","host":"h2","port":5432,"database":"d","user":"u"},
"started_at":"2026-11-23T08:00:00Z","reconciliation":{"state":"clean","depth":"hashes","findings":0,"source_rows":1234567,"target_rows":1234567,"tables":2},
"cutover":{"decided_by":"ann","at":"2026-11-23T09:00:00Z","write_pause_seconds":0.25,"steps":[{"step":"drain","state":"done","seconds":0.1,"note":"all"}]},
"tables":[{"table":"s.t","rows_loaded":10,"source_rows":12,"target_rows":12,"findings":0,"compared_at":"2026-11-23T08:30:00Z","inserts":1,"updates":2,"deletes":3,"source_hash":"ab","target_hash":"ab"},{"table":"s.u","rows_loaded":1,"compared_at":"2026-11-23T08:30:00Z","source_hash":"ab","target_hash":"cd"},{"table":"s.v","rows_loaded":1}]}`
	var cert domain.Certificate
	if err := json.NewDecoder(bytes.NewReader([]byte(raw))).Decode(&cert); err != nil {
		t.Fatal(err)
	}
	text := certificateText(&cert)
	for _, want := range []string{"CERTIFICATE OF THE CROSSING spring", "old (postgres at h:5432/d as u)",
		"clean (hashes), 0 findings", "1\u2009234\u2009567 on the source", "0.250 s", "decided by", "ab / cd",
		"not compared since it was loaded"} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is missing in\n%s", want, text)
		}
	}
	if empty := certificateText(&domain.Certificate{Crossing: "x"}); !strings.Contains(empty,
		"No reconciliation was made") {
		t.Errorf("a crossing that was never compared must say so:\n%s", empty)
	}
}

// The lifecycle's refusals are what people read most when they are in a hurry.
func TestEveryRefusalSaysWhatToDo(t *testing.T) {
	for _, act := range []lifecycle.Act{lifecycle.Survey, lifecycle.Start, lifecycle.Pause, lifecycle.Resume,
		lifecycle.Restart, lifecycle.Reconcile, lifecycle.Repair, lifecycle.Cutover, lifecycle.Close, lifecycle.Remove,
		lifecycle.Change} {
		for _, p := range []domain.Phase{domain.PhaseDraft, domain.PhaseLoading, domain.PhaseCuttingOver, domain.PhaseCutOver,
			domain.PhaseClosed} {
			err := lifecycle.Allow(act, "spring", domain.KindLoadCapture, p, domain.ConditionRunning)
			if err == nil {
				continue
			}
			if !domain.IsKind(err, domain.ProblemConflict) || !strings.Contains(strings.ReplaceAll(err.Error(), "is a draft",
				"is draft"), " while it is "+string(p)+": ") || !strings.Contains(err.Error(), ": ") {
				t.Errorf("%s in %s: %v", act, p, err)
			}
		}
	}
	if err := lifecycle.Allow("sing", "spring", domain.KindLoad, domain.PhaseDraft, domain.ConditionRunning); err == nil {
		t.Error("an unknown act was allowed")
	}
}

// TestRefusalsNameNoValues to who may not see rows: a server's words may hold them, and a
// refusal may repeat what holds a crossing.
func TestRefusalsNameNoValues(t *testing.T) {
	said := `crossing spring cannot be repaired while it is held: resume it first. It is held because: new said: duplicate key, Key (email)=(ann@marsh.example) already exists.`
	for _, c := range []struct {
		caller records.Token
		sees   bool
	}{{records.Token{Role: "operator"}, false}, {records.Token{Role: "operator", SeeRows: true}, true}} {
		w := httptest.NewRecorder()
		g, _ := gin.CreateTestContext(w)
		g.Request = httptest.NewRequest(http.MethodPost, "/api/crossings/spring/repair", nil)
		g.Request = g.Request.WithContext(context.WithValue(t.Context(), whoKey{}, &c.caller))
		(&Server{}).fail(g, domain.Conflict("%s", said))
		if got := w.Body.String(); w.Code != http.StatusConflict || strings.Contains(got, "ann@") != c.sees ||
			!strings.Contains(got, "email") {
			t.Errorf("%+v: %d %s", c.caller, w.Code, got)
		}
	}
}

// TestWhatWasNotMeasuredHasNoSample, rather than a 0.
func TestWhatWasNotMeasuredHasNoSample(t *testing.T) {
	age := 40.0
	for name, c := range map[string]struct {
		of   contract.Crossing
		want bool
	}{
		"a crossing that only copies": {contract.Crossing{Progress: contract.Progress{Capture: "none"}}, false},
		"one that nobody follows": {contract.Crossing{FollowChanges: true,
			Progress: contract.Progress{Capture: "waiting", LagAgeSeconds: &age}}, false},
		"one that is followed just now": {contract.Crossing{FollowChanges: true, Progress: contract.Progress{Capture: "w",
			LagSeconds: 2}}, true},
	} {
		for _, m := range Metrics {
			if _, known := m.of(&c.of); m.Name == "dustyferry_lag_seconds" && known != c.want {
				t.Errorf("%s: the lag has a sample: %t", name, known)
			}
		}
	}
}
