package test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/parquet-go/parquet-go"
	"github.com/xuri/excelize/v2"
)

// TestParquetAndWorkbooks: what their own programs wrote is on either target as plain SQL says, and equal to it.
func TestParquetAndWorkbooks(t *testing.T) {
	for _, engine := range []string{"postgres", "mariadb"} {
		t.Run(engine, func(t *testing.T) {
			f := start(t)
			dir := f.files()
			target, schema := f.sideOf(engine, "new"), "files"
			if engine == "mariadb" {
				schema = target.schema
			}
			parquetLots(t, filepath.Join(dir, "lots"))
			stallsBook(t, filepath.Join(dir, "stalls.xlsx"))
			for name, path := range map[string]string{"lots": "lots", "stalls": "stalls.xlsx"} {
				f.must("database", "add", name, "--file", filepath.Join(dir, path))
				f.must("crossing", "create", name, "--source", name, "--target", "new", "--follow-changes=false")
				f.must("crossing", "start", name, "--wait")
				if out := f.must("reconcile", name).out; !strings.Contains(out, "clean") {
					t.Errorf("%s: %s", name, out)
				}
			}
			for _, c := range [][2]string{
				{"SELECT concat(count(*), ' ', sum(id), ' ', sum(price)) FROM %s.lots", "1000 499500 4995.00"},
				{"SELECT concat(wide, ' ', price, ' ', packed) FROM %s.lots WHERE id = 7",
					"18446744073709551608 0.07 2026-05-08"},
				{"SELECT concat(CASE WHEN name IS NULL THEN '' ELSE name END, marks) FROM %s.lots WHERE id = 6",
					`["jar 6","\"6\""]`},
				{`SELECT concat(count(*), ' ', sum("Fee")) FROM %s."Stalls"`, "60 93"},
				{`SELECT concat("Licence", ' ', "Opened") FROM %s."Stalls" WHERE "Stall" = 31`, "0031 2026-05-02"},
			} {
				q := fmt.Sprintf(c[0], schema)
				if engine == "mariadb" {
					q = strings.ReplaceAll(q, `"`, "`")
				}
				got := target.texts(q)
				if len(got) == 1 && strings.Contains(q, "Fee") { // MariaDB's has digits behind the point
					got[0] = strings.TrimSuffix(strings.TrimRight(got[0], "0"), ".")
				}
				if len(got) != 1 || got[0] != c[1] {
					t.Errorf("%s: %q, not %q", q, got, c[1])
				}
			}
		})
	}
}

// parquetLots writes two files of 500 rows each.
func parquetLots(t *testing.T, dir string) {
	t.Helper()
	type lot struct {
		ID     int32    `parquet:"id"`
		Wide   uint64   `parquet:"wide"`
		Name   *string  `parquet:"name,optional"`
		Price  int64    `parquet:"price,decimal(2:12)"`
		Packed int32    `parquet:"packed,date"`
		Marks  []string `parquet:"marks,list"`
	}
	if err := os.Mkdir(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	for part := range 2 {
		var rows []lot
		for i := part * 500; i < (part+1)*500; i++ {
			l := lot{ID: int32(i), Wide: ^uint64(i), Price: int64(i), Packed: 20574 + int32(i%300),
				Marks: []string{fmt.Sprintf("jar %d", i), fmt.Sprintf("%q", fmt.Sprint(i))}}
			if i%3 != 0 {
				name := fmt.Sprintf("Læsø %d", i)
				l.Name = &name
			}
			rows = append(rows, l)
		}
		if err := parquet.WriteFile(filepath.Join(dir, fmt.Sprintf("%d.parquet", part)), rows); err != nil {
			t.Fatal(err)
		}
	}
}

// stallsBook writes a workbook with a sheet of 60 stalls.
func stallsBook(t *testing.T, path string) {
	t.Helper()
	f := excelize.NewFile()
	if err := f.SetSheetName("Sheet1", "Stalls"); err != nil {
		t.Fatal(err)
	}
	code := "dd.mm.yyyy"
	days, err := f.NewStyle(&excelize.Style{CustomNumFmt: &code})
	if err != nil {
		t.Fatal(err)
	}
	rows := [][]any{{"Stall", "Licence", "Opened", "Fee"}}
	for i := 1; i <= 60; i++ {
		rows = append(rows, []any{i, fmt.Sprintf("%04d", i), time.Date(2026, 4, 1+i, 0, 0, 0, 0, time.UTC),
			0.05*float64(i) + 0.025})
	}
	for i := range rows {
		if err := f.SetSheetRow("Stalls", fmt.Sprintf("A%d", i+1), &rows[i]); err != nil {
			t.Fatal(err)
		}
	}
	if err := f.SetCellStyle("Stalls", "C2", "C61", days); err != nil {
		t.Fatal(err)
	}
	if err := f.SaveAs(path); err != nil {
		t.Fatal(err)
	}
}
