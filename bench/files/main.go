// Command files measures loads of files of rows into PostgreSQL beside psql's own copy of the same rows as
// texts, pair by pair, and how much more memory they take than the service does at rest.
package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"runtime/metrics"
	"strconv"
	"time"

	"github.com/parquet-go/parquet-go"
	"github.com/xuri/excelize/v2"

	"dustyferry/bench/rig"
	"dustyferry/client"
	"dustyferry/internal/contract"
	"dustyferry/internal/localserver"
)

func main() {
	rows := flag.Int("rows", 2_000_000, "rows")
	pairs := flag.Int("pairs", 3, "pairs")
	form := flag.String("form", "csv", "csv, jsonl, parquet or xlsx")
	flag.Parse()
	if err := run(context.Background(), *form, *rows, *pairs); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

type lot struct {
	ID    int64   `parquet:"id" json:"id"`
	Hive  int64   `parquet:"hive" json:"hive"`
	Kg    float64 `parquet:"kg" json:"kg"`
	Taken int32   `parquet:"taken,date" json:"-"`
	Day   string  `parquet:"-" json:"taken"`
	Note  string  `parquet:"note" json:"note"`
}

func row(i int) lot {
	taken := time.Date(2026, 1, 1+i%300, 0, 0, 0, 0, time.UTC)
	return lot{int64(i), int64(i % 1000), float64(i%70000) / 8, int32(taken.Unix() / 86400), taken.Format(time.DateOnly),
		"some honey of the year and of the marsh, lot " + strconv.Itoa(i)}
}

// written writes the file in its form.
func written(path, form string, rows int) (err error) {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	out := bufio.NewWriterSize(f, 1<<20)
	defer func() { err = errors.Join(err, out.Flush(), f.Close()) }()
	switch form {
	case "csv":
		_, _ = out.WriteString("id,hive,kg,taken,note\n")
		for i := range rows {
			r := row(i)
			_, _ = fmt.Fprintf(out, "%d,%d,%v,%s,\"%s\"\n", r.ID, r.Hive, r.Kg, r.Day, r.Note)
		}
	case "jsonl":
		e := json.NewEncoder(out)
		for i := range rows {
			if err := e.Encode(row(i)); err != nil {
				return err
			}
		}
	case "parquet":
		w := parquet.NewGenericWriter[lot](out)
		for i := range rows {
			if _, err := w.Write([]lot{row(i)}); err != nil {
				return err
			}
		}
		return w.Close()
	case "xlsx":
		x := excelize.NewFile()
		w, err := x.NewStreamWriter("Sheet1")
		if err != nil {
			return err
		}
		if err := w.SetRow("A1", []any{"id", "hive", "kg", "taken", "note"}); err != nil {
			return err
		}
		for i := range rows {
			r := row(i)
			if err := w.SetRow("A"+strconv.Itoa(i+2), []any{r.ID, r.Hive, r.Kg, r.Day, r.Note}); err != nil {
				return err
			}
		}
		if err := w.Flush(); err != nil {
			return err
		}
		return x.Write(out)
	default:
		return fmt.Errorf("the form %q is none of csv, jsonl, parquet and xlsx", form)
	}
	return nil
}

func run(ctx context.Context, form string, rows, pairs int) error {
	dir, err := os.MkdirTemp("", "bench-files-")
	if err != nil {
		return err
	}
	defer func() { _ = os.RemoveAll(dir) }()
	path, texts := filepath.Join(dir, "lots."+form), filepath.Join(dir, "lots.csv")
	for p, as := range map[string]string{path: form, texts: "csv"} {
		if err := written(p, as, rows); err != nil {
			return err
		}
	}
	f, pg, end, err := rig.FromFile(ctx, dir, path)
	if err != nil {
		return err
	}
	defer end()
	var ratios, bare, ours, most []float64
	for i := range pairs {
		w, err := copied(ctx, pg, texts)
		if err != nil {
			return err
		}
		o, m, err := loaded(ctx, f)
		if err != nil {
			return err
		}
		each := func(s float64) float64 { return float64(rows) / s }
		ratios, bare, ours, most = append(ratios, w/o), append(bare, each(w)), append(ours, each(o)), append(most, m)
		fmt.Printf("pair %d: psql %.0f rows/s, ours %.0f: %.2f, at most %.0f MB above rest\n", i+1, each(w), each(o), w/o, m)
	}
	out, err := json.Marshal(map[string]any{"form": form, "rows": rows, "psql": rig.Median(bare), "ours": rig.Median(ours),
		"ratio": rig.Median(ratios), "mb": rig.Median(most)})
	fmt.Println(string(out))
	return err
}

// copied is psql's own copy of the same rows into a table with their types.
func copied(ctx context.Context, pg *localserver.Postgres, texts string) (float64, error) {
	return rig.Psql(ctx, pg, "DROP TABLE IF EXISTS lots", "DROP SCHEMA IF EXISTS files CASCADE",
		"CREATE TABLE lots (id bigint, hive bigint, kg numeric, taken date, note text)",
		`\copy lots FROM '`+texts+`' (FORMAT csv, HEADER)`)
}

// loaded is a load from its start until the last row has landed; most is how much more memory it took, MB.
func loaded(ctx context.Context, f rig.Ferry) (took, most float64, _ error) {
	no := false
	if err := f.Add(ctx, contract.NewCrossing{Name: "spring", FollowChanges: &no}); err != nil {
		return 0, 0, err
	}
	runtime.GC()
	debug.FreeOSMemory()
	used := func() float64 {
		s := []metrics.Sample{{Name: "/memory/classes/heap/objects:bytes"}, {Name: "/memory/classes/heap/unused:bytes"}}
		metrics.Read(s)
		return float64(s[0].Value.Uint64()+s[1].Value.Uint64()) / 1e6
	}
	rest := used()
	began := time.Now()
	if err := f.Go(ctx, "spring"); err != nil {
		return 0, 0, err
	}
	if err := f.Await(ctx, "spring", 20*time.Millisecond, func(c contract.Crossing) bool {
		most = max(most, used()-rest)
		return rig.InStep(c)
	}); err != nil {
		return 0, 0, err
	}
	took = time.Since(began).Seconds()
	if err := f.Close(ctx, "spring"); err != nil {
		return 0, 0, err
	}
	name := "spring"
	_, err := client.Do[struct{}](f.API.RemoveCrossingWithResponse(ctx, name,
		&contract.RemoveCrossingParams{Confirm: &name}))
	return took, most, err
}
