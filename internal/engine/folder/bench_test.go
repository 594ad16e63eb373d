package folder

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"dustyferry/internal/domain"
	"dustyferry/internal/protocol/pgcopy"
)

// BenchmarkLand lands chunks of 100,000 rows of eight columns beside a bare writing of the very bytes that come
// out: packed, hashed and synced, but made of nothing, and listed nowhere.
func BenchmarkLand(b *testing.B) {
	var rows []byte
	const n = 100_000
	for i := range n {
		rows = pgcopy.AppendFields(rows, [][]byte{fmt.Append(nil, i), fmt.Append(nil, i%97), []byte("2026-05-01 10:07:00"),
			fmt.Appendf(nil, "%d.%03d", i%90, i%1000), []byte("t"), fmt.Appendf(nil, "jar %d, heather \"honey\"", i), nil,
			[]byte("a label that is just a label")})
	}
	var cols []domain.Column
	for i, typ := range []string{"bigint", "integer", "timestamp without time zone", "numeric", "boolean", "text", "text",
		"text"} {
		cols = append(cols, domain.Column{Name: fmt.Sprintf("c%d", i), Type: typ, BaseType: typ})
	}
	p := hives("jars")
	p.Columns = cols
	for _, as := range forms {
		b.Run(as, func(b *testing.B) {
			d := Driver{Folders: []string{b.TempDir()}}
			path := filepath.Join(d.Folders[0], "out")
			if _, err := d.Make(b.Context(), path); err != nil {
				b.Fatal(err)
			}
			db := &database{path: path, name: "out"}
			err := db.PrepareTarget(b.Context(), "c", nil, []domain.TablePlan{p}, domain.Settings{FileFormat: as}, nothing)
			if err != nil {
				b.Fatal(err)
			}
			form, packed, err := formOf(as, cols)
			if err != nil {
				b.Fatal(err)
			}
			var ours, bare time.Duration
			for i := 0; b.Loop(); i++ {
				began := time.Now()
				w, _ := db.OpenWriter(b.Context(), "")
				if err := w.Begin(b.Context(), &p, false, nil); err != nil {
					b.Fatal(err)
				}
				for rest := rows; len(rest) > 0; { // as blocks come
					next := rest
					for size := 0; size < 256<<10 && len(next) > 0; size = len(rest) - len(next) {
						if _, next, err = pgcopy.Next(nil, next); err != nil {
							b.Fatal(err)
						}
					}
					if err := w.Write(b.Context(), rest[:len(rest)-len(next)]); err != nil {
						b.Fatal(err)
					}
					rest = next
				}
				if err := w.Land(b.Context(), mark(int64(i), 1, nil)); err != nil {
					b.Fatal(err)
				}
				w.Close()
				ours += time.Since(began)
				b.StopTimer()
				var text bytes.Buffer
				to := form.encoder(&text)
				var fields [][]byte
				for rest := rows; len(rest) > 0; {
					if fields, rest, err = pgcopy.Next(fields[:0], rest); err == nil {
						err = to.add(fields)
					}
					if err == nil && to.full() {
						err = to.flush()
					}
					if err != nil {
						b.Fatal(err)
					}
				}
				if err := to.close(); err != nil {
					b.Fatal(err)
				}
				began = time.Now()
				if err := barely(filepath.Join(d.Folders[0], "bare"), packed, text.Bytes()); err != nil {
					b.Fatal(err)
				}
				bare += time.Since(began)
				b.StartTimer()
			}
			b.ReportMetric(float64(b.N*n)/ours.Seconds(), "rows/s")
			b.ReportMetric(bare.Seconds()/ours.Seconds(), "of-bare")
		})
	}
}

func barely(path, packed string, text []byte) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }()
	out := io.MultiWriter(f, sha256.New())
	end := func() error { return nil }
	switch packed {
	case "gzip":
		z := gzip.NewWriter(out)
		out, end = z, z.Close
	case "zstd":
		z, err := zstd.NewWriter(out, zstd.WithEncoderConcurrency(1))
		if err != nil {
			return err
		}
		out, end = z, z.Close
	}
	for len(text) > 0 {
		n := min(len(text), blockSize)
		if _, err := out.Write(text[:n]); err != nil {
			return err
		}
		text = text[n:]
	}
	if err := end(); err != nil {
		return err
	}
	return f.Sync()
}
