package test

import (
	"bytes"
	"crypto/sha256"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"dustyferry/internal/contract"
)

// harvest makes tables with what is hard to write, in statements that both engines understand.
func harvest(s side, jars int) {
	double := map[bool]string{true: "double precision", false: "double"}[s.schema == "public"]
	s.exec("CREATE TABLE keepers (id integer PRIMARY KEY, name varchar(60) NOT NULL, since date, active boolean)")
	s.exec(fmt.Sprintf("CREATE TABLE jars (id bigint PRIMARY KEY, keeper integer, kg decimal(12,3), warm %s, note text, "+
		"filled timestamp NULL)", double))
	s.exec("CREATE TABLE marks (line varchar(40))") // no key
	s.exec("INSERT INTO keepers VALUES (1, 'Inga, \"the elder\"', '2019-04-01', true), (2, 'Læsø\n☼', NULL, false), " +
		"(3, '', '0999-12-31', NULL)")
	s.exec("INSERT INTO marks VALUES ('twice'), ('twice'), (NULL), (''), ('\"')")
	var rows []string
	flush := func() {
		if len(rows) > 0 {
			s.exec("INSERT INTO jars VALUES " + strings.Join(rows, ", "))
			rows = nil
		}
	}
	for i := 1; i <= jars; i++ {
		rows = append(rows, fmt.Sprintf("(%d, %d, %d.125, %d.5, %s, '2026-05-01 10:%02d:00')", i, 1+i%3, i%90, i%7,
			[]string{"NULL", "''", fmt.Sprintf("'jar %d, heather'", i), "'two\nlines'"}[i%4], i%60))
		if len(rows) == 2000 {
			flush()
		}
	}
	flush()
}

// said is what plain SQL says of those tables, or one of them, by engines alike.
func said(s side, of string) (out []string) {
	for _, q := range []string{"SELECT concat(count(*), ' ', count(since), ' ', min(since)) FROM %s.keepers",
		"SELECT concat(id, name) FROM %s.keepers ORDER BY id",
		"SELECT concat(count(*), ' ', sum(id), ' ', sum(kg), ' ', count(note)) FROM %s.jars",
		"SELECT concat(sum(keeper * id), ' ', count(filled)) FROM %s.jars",
		"SELECT concat(id, ':', coalesce(note, 'nothing'), ':', kg) FROM %s.jars WHERE id < 12 ORDER BY id",
		"SELECT concat(sum(CASE WHEN warm = 1.5 THEN 1 ELSE 0 END), ' ', min(kg), max(kg)) FROM %s.jars",
		"SELECT concat(coalesce(line, 'nothing'), count(*)) FROM %s.marks GROUP BY line ORDER BY 1"} {
		if strings.Contains(q, "FROM %s."+of) {
			out = append(out, s.texts(fmt.Sprintf(q, s.schema))...)
		}
	}
	slices.Sort(out)
	return out
}

// TestTablesBecomeFiles, and files tables again: of either engine, in every form, equal by plain SQL at the end; a
// damaged file is found.
func TestTablesBecomeFiles(t *testing.T) {
	for _, way := range [][3]string{{"postgres", "mariadb", "csv"}, {"mariadb", "postgres", "jsonl.zst"},
		{"postgres", "postgres", "csv.gz"}, {"mariadb", "mariadb", "parquet"}} {
		t.Run(strings.Join(way[:], " "), func(t *testing.T) {
			f := start(t)
			out := filepath.Join(f.files(), "out")
			source := f.sideOf(way[0], "old")
			harvest(source, 6000)
			f.must("database", "add", "export", "--file", out, "--engine", "folder")
			f.must("crossing", "create", "away", "--source", "old", "--target", "export", "--follow-changes=false",
				"--file-format", way[2], "--chunk-size", "64KB")
			if text := f.must("survey", "away").out; !strings.Contains(text, "3 tables will be written as "+way[2]) {
				t.Errorf("%s", text)
			}
			f.must("crossing", "start", "away", "--wait")
			if text := f.must("reconcile", "away").out; !strings.Contains(text, "clean") {
				t.Errorf("%s", text)
			}
			if files := listed(t, out); len(files) < 3 {
				t.Errorf("%d files", len(files))
			}
			// Another service would find out what it is.
			f.must("database", "add", "import", "--file", out)
			if text := f.must("database", "show", "import").out; !strings.Contains(text, "folder") {
				t.Errorf("%s", text)
			}
			target := f.sideOf(way[1], "new")
			f.must("crossing", "create", "home", "--source", "import", "--target", "new", "--follow-changes=false")
			if way[1] == "postgres" {
				target.schema = source.schema
			}
			f.must("crossing", "start", "home", "--wait")
			if text := f.must("reconcile", "home").out; !strings.Contains(text, "clean") {
				t.Errorf("%s", text)
			}
			if a, b := said(source, ""), said(target, ""); !slices.Equal(a, b) {
				t.Errorf("%q, and came back as %q", a, b)
			}
			if way[2] == "parquet" { // for anybody who reads such files
				f.must("database", "add", "jars", "--file", filepath.Join(out, "jars"))
				reader := f.shore("mariadb", "reader")
				f.must("crossing", "create", "jars", "--source", "jars", "--target", "reader", "--follow-changes=false")
				f.must("crossing", "start", "jars", "--wait")
				if a, b := said(source, "jars"), said(reader, "jars"); !slices.Equal(a, b) || len(a) < 10 {
					t.Errorf("%q, and its files were read as %q", a, b)
				}
			}
			if way[2] != "csv" {
				return
			}
			files := listed(t, out)
			text, err := os.ReadFile(files[0])
			if err == nil {
				err = os.WriteFile(files[0], bytes.Replace(text, []byte("heather"), []byte("clover!"), 1), 0o600)
			}
			check(t, err)
			if a := f.cli("reconcile", "away"); a.code != 3 {
				t.Errorf("a changed value was not found: %+v", a)
			}
			check(t, os.Remove(files[1]))
			if a := f.cli("reconcile", "away"); a.code == 0 || !strings.Contains(a.out+a.err, "restart the table") {
				t.Errorf("a file that is gone: %+v", a)
			}
		})
	}
}

// listed are the files that a folder's manifest names, jars first; each is as it is listed.
func listed(t *testing.T, dir string) (out []string) {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(dir, "manifest.jsonl"))
	check(t, err)
	for line := range strings.Lines(string(text)) {
		var f struct {
			File, SHA256 string
		}
		check(t, json.Unmarshal([]byte(line), &f))
		path := filepath.Join(dir, f.File)
		content, err := os.ReadFile(path)
		check(t, err)
		if fmt.Sprintf("%x", sha256.Sum256(content)) != f.SHA256 {
			t.Errorf("%s is not as it is listed", f.File)
		}
		out = append(out, path)
	}
	slices.Sort(out)
	return out
}

// TestFilesOutliveKills: processes of ours are killed while they write, and no row is lost or there twice.
func TestFilesOutliveKills(t *testing.T) {
	f := startFleet(t, 1)
	dir := t.TempDir()
	for i := range f.all {
		f.all[i].args = append(f.all[i].args, "--files", dir)
		f.strike(i)
	}
	f.signIn()
	source := f.sideOf("postgres", "old")
	source.exec("CREATE TABLE jars (id bigint PRIMARY KEY, note text)")
	source.exec("INSERT INTO jars SELECT i, repeat('heather ', 20) FROM generate_series(1, 60000) i")
	out := filepath.Join(dir, "out")
	f.must("database", "add", "export", "--file", out, "--engine", "folder")
	f.must("crossing", "create", "spring", "--source", "old", "--target", "export", "--follow-changes=false",
		"--file-format", "csv", "--chunk-size", "64KB", "--speed-limit", "2MB")
	f.must("crossing", "start", "spring")
	for n := 0; n < 8; n++ {
		time.Sleep(time.Duration(200+rand.IntN(500)) * time.Millisecond)
		f.strike(rand.IntN(len(f.all)))
		if n%3 == 2 {
			f.strike(0)
			f.strike(1)
		}
	}
	f.must("crossing", "set", "spring", "--speed-limit", "0")
	f.awaitPhase(contract.PhaseInStep)
	ids := map[string]bool{}
	for _, path := range listed(t, out) {
		in, err := os.Open(path)
		check(t, err)
		rows, err := csv.NewReader(in).ReadAll()
		_ = in.Close()
		check(t, err)
		for _, r := range rows[1:] {
			if ids[r[0]] {
				t.Fatalf("row %s is there twice", r[0])
			}
			ids[r[0]] = true
		}
	}
	if len(ids) != 60000 {
		t.Errorf("%d rows are in the files", len(ids))
	}
	if text := f.must("reconcile", "spring").out; !strings.Contains(text, "clean") {
		t.Errorf("%s", text)
	}
	there, err := filepath.Glob(filepath.Join(out, "jars", "*"))
	check(t, err)
	if n := len(listed(t, out)); len(there) != n {
		t.Errorf("%d files are there, %d are listed", len(there), n)
	}
}
