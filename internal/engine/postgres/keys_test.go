package postgres

import (
	"context"
	"slices"
	"testing"
	"time"

	"dustyferry/internal/core/keyorder"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// The chunk we compute for a key must be the one the server's own order gives.
func TestOurOrderIsTheServers(t *testing.T) {
	for _, typ := range []string{"integer", "bigint", "uuid", "date", "timestamptz", "timestamp", "bytea",
		`text COLLATE "C"`, "boolean"} {
		t.Run(typ, func(t *testing.T) {
			gen := map[string]string{
				"integer": "(random() * 4000000000 - 2000000000)::bigint::integer", "bigint": "((random() - 0.5) * 1e18)::bigint",
				"uuid":        "gen_random_uuid()",
				"date":        "CASE WHEN g % 50 = 0 THEN 'infinity'::date ELSE date '1900-01-01' + (random() * 90000)::int END",
				"timestamptz": "CASE WHEN g % 50 = 0 THEN '-infinity'::timestamptz ELSE to_timestamp(random() * 4e9) END",
				"timestamp":   "timestamp '2026-01-01' + (random() * 1e9)::int * interval '1 microsecond'",
				"bytea":       "decode(substr(md5(random()::text), 1, 2 * (1 + g % 9)), 'hex')", "boolean": "g % 2 = 0",
				`text COLLATE "C"`: "chr(33 + (random() * 900)::int) || CASE WHEN g % 3 = 0 THEN '' ELSE chr(33 + g % 90) END",
			}[typ]
			d := fresh(t, "CREATE TABLE public.k (k "+typ+" PRIMARY KEY)")
			p := planned(t, d, "public.k")
			start, err := d.PrepareCapture(t.Context(), "ordered", []domain.TablePlan{*p})
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { _ = d.DropCapture(context.WithoutCancel(t.Context()), "ordered", nil) })
			run(t, d, "INSERT INTO public.k SELECT DISTINCT "+gen+" FROM generate_series(1, 600) g ON CONFLICT DO NOTHING")
			all, err := d.Sample(t.Context(), p, 100_000)
			if err != nil || len(all) == 0 {
				t.Fatalf("%d keys (%v)", len(all), err)
			}
			var bounds []domain.KeyValue
			for i := len(all) / 7; i < len(all); i += max(len(all)/7, 1) {
				bounds = append(bounds, all[i])
			}
			theirs, err := d.Locate(t.Context(), p, bounds, all)
			if err != nil {
				t.Fatal(err)
			}
			o, ours := keyorder.New(p.Columns)
			if !ours {
				t.Fatal("this order should be ours to decide")
			}
			for i, k := range all {
				if at, ok := o.Locate(bounds, k); !ok || at != theirs[i] {
					t.Fatalf("%v: chunk %d (known %t), the server says %d", k, at, ok, theirs[i])
				}
			}
			// The log may write a value otherwise than a query does.
			logged := inserted(t, d, "ordered", start, p)
			if theirs, err = d.Locate(t.Context(), p, bounds, logged); err != nil || len(logged) != len(all) {
				t.Fatalf("%d keys in the log, %d in the table (%v)", len(logged), len(all), err)
			}
			for i, k := range logged {
				if at, ok := o.Locate(bounds, k); !ok || at != theirs[i] {
					t.Fatalf("%v in the log: chunk %d (known %t), the server says %d", k, at, ok, theirs[i])
				}
			}
		})
	}
}

// inserted are the keys of the rows that the log has from a place on, as it writes them.
func inserted(t *testing.T, d *database, name string, from domain.Position, p *domain.TablePlan) []domain.KeyValue {
	t.Helper()
	end, err := d.Heartbeat(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	c, err := d.OpenCapture(t.Context(), name, from, []engine.CaptureTable{{ID: 1, Plan: p}}, "")
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	var out []domain.KeyValue
	for limit := time.After(20 * time.Second); ; {
		select {
		case e, open := <-c.Events():
			if !open {
				t.Fatal(c.Err())
			}
			c.Took(&e)
			if e.Kind == domain.EventChange && e.Change.Kind == domain.Insert {
				var k domain.KeyValue
				for _, i := range p.KeyIndexes(p.CopiedColumns()) {
					k = append(k, string(e.Change.New[i].Data))
				}
				out = append(out, k)
			}
			if e.Kind == domain.EventCommit && !e.Tx.Commit.Before(end) || e.Kind == domain.EventProgress &&
				!e.Position.Before(end) {
				return out
			}
		case <-limit:
			t.Fatalf("the log has not come to %d in 20 seconds", end)
		}
	}
}

// TestKeysOfOtherRowsAreThoseOfTheLog: keys that are looked up on the target stand in a batch
// beside keys of the log, and must be the same text where they are the same key.
func TestKeysOfOtherRowsAreThoseOfTheLog(t *testing.T) {
	d := fresh(t, `CREATE TABLE public.k (a boolean, b bpchar, c inet, d date, e bytea, f numeric, parent int,
  PRIMARY KEY (a, b, c, d, e, f))`)
	p := planned(t, d, "public.k")
	start, err := d.PrepareCapture(t.Context(), "others", []domain.TablePlan{*p})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = d.DropCapture(context.WithoutCancel(t.Context()), "others", nil) })
	run(t, d, `INSERT INTO public.k VALUES (true, 'x ', '10.0.0.1', '2026-05-01', '\x00ff', 1.50, 7)`)
	logged := inserted(t, d, "others", start, p)
	a, err := d.OpenApplier(t.Context(), "c", "", 1)
	if err != nil {
		t.Fatal(err)
	}
	defer a.Close()
	if err := a.Begin(t.Context()); err != nil {
		t.Fatal(err)
	}
	found, err := a.Find(t.Context(), p, []domain.Column{*columnOf(p, "parent")},
		[]domain.Value{{Kind: domain.Present, Data: []byte("7")}})
	if err != nil || len(found) != 1 || len(logged) != 1 || !slices.Equal(found[0], logged[0]) {
		t.Errorf("found %q, the log has %q (%v)", found, logged, err)
	}
}

func TestSampleIsSortedAsTheServerSorts(t *testing.T) {
	d := fresh(t, `CREATE TABLE public.k (a text COLLATE "en-x-icu", b integer, PRIMARY KEY (a, b))`,
		`INSERT INTO public.k SELECT (ARRAY['a', 'B', 'ä', '_', 'Z', '10', '9'])[1 + g % 7], g
  FROM generate_series(1, 60000) g`, `ANALYZE`)
	p := planned(t, d, "public.k")
	got, err := d.Sample(t.Context(), p, 500)
	if err != nil || len(got) < 2000 || len(got) > 30_000 {
		t.Fatalf("%d keys of 60000 (%v)", len(got), err)
	}
	at, err := d.Locate(t.Context(), p, got, got)
	if err != nil {
		t.Fatal(err)
	}
	if !slices.IsSorted(at) {
		t.Error("the sample is not in the server's own order")
	}
}
