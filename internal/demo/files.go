package demo

import (
	"bufio"
	"compress/gzip"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/xuri/excelize/v2"
	_ "modernc.org/sqlite" // the file that an application keeps
)

// Files are the Saltmarsh Apiaries as files: what an application keeps in a SQLite file, the market stalls in a
// workbook that somebody keeps, and a folder with the readings of the scales as rows of texts, packed.
type Files struct{ Books, Stalls, Readings string }

// FillFiles writes them into a folder, with so many readings.
func FillFiles(ctx context.Context, dir string, readings int) (Files, error) {
	f := Files{Books: filepath.Join(dir, "apiaries.db"), Stalls: filepath.Join(dir, "market stalls.xlsx"),
		Readings: filepath.Join(dir, "scale_readings")}
	if err := fillBooks(ctx, f.Books, readings/10+1); err != nil {
		return f, err
	}
	if err := fillStalls(f.Stalls, readings/50+1); err != nil {
		return f, err
	}
	if err := os.Mkdir(f.Readings, 0o700); err != nil {
		return f, err
	}
	for week := range weeks {
		path := filepath.Join(f.Readings, fmt.Sprintf("week-%d.csv.gz", 18+week))
		if err := fillReadings(path, readings*week/weeks, readings*(week+1)/weeks); err != nil {
			return f, err
		}
	}
	return f, nil
}

// weeks is how many files of readings there are.
const weeks = 5

// fillStalls makes the workbook, as people keep one: a line above the table, days as numbers in a format.
func fillStalls(path string, takings int) (err error) {
	f := excelize.NewFile()
	defer func() { err = errors.Join(err, f.Close()) }()
	code := "yyyy-mm-dd"
	days, err := f.NewStyle(&excelize.Style{CustomNumFmt: &code})
	if err != nil {
		return err
	}
	if err := f.SetSheetName("Sheet1", "Stalls"); err != nil {
		return err
	}
	day := time.Date(2026, 4, 4, 0, 0, 0, 0, time.UTC)
	for i, row := range [][]any{
		{"Saltmarsh Apiaries: market stalls"}, nil, {"Stall", "Place", "Licence", "Opened", "Fee", "Roofed"},
		{1, "Quay", "0071", day, 42.5, true}, {2, "Old Market", "0108", day.AddDate(0, 0, 7), 38, false},
		{3, "Station", "0112", day.AddDate(0, 1, 0), 38, true}, {4, "Lighthouse", nil, nil, 12.25, false},
	} {
		if err := f.SetSheetRow("Stalls", fmt.Sprintf("A%d", i+1), &row); err != nil {
			return err
		}
	}
	if err := f.SetCellStyle("Stalls", "D4", "D7", days); err != nil {
		return err
	}
	if _, err := f.NewSheet("Takings"); err != nil {
		return err
	}
	w, err := f.NewStreamWriter("Takings")
	if err != nil {
		return err
	}
	if err := w.SetRow("A1", []any{"Stall", "Day", "Jars", "Taken", "Note"}); err != nil {
		return err
	}
	for i := range takings {
		note := any(nil)
		if i%11 == 0 {
			note = "rain, 9 °C"
		}
		if err := w.SetRow(fmt.Sprintf("A%d", i+2), []any{1 + i%4,
			excelize.Cell{StyleID: days, Value: day.AddDate(0, 0, i/4)}, i % 40, float64(i%4000) / 10, note}); err != nil {
			return err
		}
	}
	return errors.Join(w.Flush(), f.SaveAs(path))
}

// fillBooks makes the SQLite file, as an application would: types are what it felt like.
func fillBooks(ctx context.Context, path string, sales int) (err error) {
	db, err := sql.Open("sqlite", path)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	db.SetMaxOpenConns(1)
	for _, q := range []string{
		"PRAGMA journal_mode = WAL",
		`CREATE TABLE keepers (id INTEGER PRIMARY KEY, name TEXT NOT NULL, since DATE, active BOOLEAN)`,
		`CREATE TABLE apiaries (code TEXT PRIMARY KEY, place VARCHAR(60) NOT NULL, keeper INTEGER REFERENCES keepers, area REAL)`,
		`CREATE TABLE sales (id INTEGER PRIMARY KEY AUTOINCREMENT, apiary TEXT NOT NULL REFERENCES apiaries, sold DATETIME NOT NULL,
  jars INTEGER NOT NULL, price DECIMAL(8, 2) NOT NULL, label BLOB, note)`,
		"CREATE INDEX sales_by_apiary ON sales (apiary, sold)",
		`INSERT INTO keepers VALUES (1, 'Ida Sandell', '2011-04-02', 1), (2, 'Marek Óski', '2015-06-30', 1),
  (3, 'Øyvind Lunde', NULL, 0), (4, '小林', '2020-02-29', 1)`,
		`WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 120)
INSERT INTO apiaries SELECT printf('A-%03d', i), 'Saltmarsh ' || i, 1 + i % 4, i * 1.25 FROM n`,
		fmt.Sprintf(`WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < %d)
INSERT INTO sales (apiary, sold, jars, price, label, note)
SELECT printf('A-%%03d', 1 + i %% 120), datetime('2026-01-05 08:00:00', '+' || i || ' minutes'), 1 + i %% 12, (i %% 900) / 4.0,
  CASE WHEN i %% 40 = 0 THEN randomblob(32) END, CASE WHEN i %% 7 = 0 THEN 'on the quay, 5 °C' END FROM n`, sales),
	} {
		if _, err := db.ExecContext(ctx, q); err != nil {
			return err
		}
	}
	return nil
}

// fillReadings writes the readings from one on to another, without it.
func fillReadings(path string, from, to int) (err error) {
	file, err := os.Create(path)
	if err != nil {
		return err
	}
	z := gzip.NewWriter(file)
	out := bufio.NewWriter(z)
	defer func() { err = errors.Join(err, out.Flush(), z.Close(), file.Close()) }()
	if _, err := out.WriteString("hive;taken;kg;outside;scale\n"); err != nil {
		return err
	}
	for i := from; i < to; i++ {
		kg := ""
		if i%500 != 0 {
			kg = fmt.Sprintf("%d.%02d", 20+i%45, i%100)
		}
		if _, err := fmt.Fprintf(out, "%d;2026-05-%02dT%02d:%02d:00;%s;%d.%d;%05d\n", 1+i%400, 1+i/1440%31, i/60%24, i%60, kg,
			i%30, i%10, i%977); err != nil {
			return err
		}
	}
	return nil
}
