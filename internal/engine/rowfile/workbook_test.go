package rowfile

import (
	"archive/zip"
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/xuri/excelize/v2"

	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

func openWorkbookFile(t *testing.T, path string) (*engine.Opened, error) {
	t.Helper()
	return engine.Open(t.Context(), Workbook().Within([]string{filepath.Dir(path)}), engine.Endpoint{Database: path})
}

// cells fills a sheet from a cell on, row by row.
func cells(t *testing.T, f *excelize.File, name string, rows ...[]any) {
	t.Helper()
	if i, err := f.GetSheetIndex(name); err != nil || i < 0 {
		if _, err := f.NewSheet(name); err != nil {
			t.Fatal(err)
		}
	}
	for i, row := range rows {
		if err := f.SetSheetRow(name, fmt.Sprintf("A%d", i+1), &row); err != nil {
			t.Fatal(err)
		}
	}
}

func saved(t *testing.T, f *excelize.File) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "market.xlsx")
	if err := f.SaveAs(path); err != nil {
		t.Fatal(err)
	}
	return path
}

// tablesOf plans all tables.
func tablesOf(t *testing.T, db *engine.Opened) map[string]domain.TablePlan {
	t.Helper()
	cat, err := db.Catalog(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]domain.TablePlan{}
	for i := range cat.Tables {
		p, err := db.Plan(&cat.Tables[i])
		if err != nil {
			t.Fatal(err)
		}
		out[p.Source.Name] = p
	}
	return out
}

// TestSheetsOfAWorkbook that another program's library wrote: numbers, texts that look like numbers, days,
// moments, truths, what has no value, and what may not be loaded.
func TestSheetsOfAWorkbook(t *testing.T) {
	f := excelize.NewFile()
	day := time.Date(2026, 5, 1, 0, 0, 0, 0, time.UTC)
	cells(t, f, "Stalls", []any{"Saltmarsh Apiaries, 2026"}, nil,
		[]any{"id", "code", "name", "opened", "kg", "open", "seen", "from"},
		[]any{1, "007", "Lavender <\"L\">", day, 0.1, true, day.Add(8*time.Hour + 250*time.Millisecond), 0.5},
		[]any{2, "008", "two\nlines", day.AddDate(0, 0, 1), 1.1, false, day, 0.25},
		[]any{3, "009", nil, nil, 12345678901, nil, nil, nil})
	for cell, format := range map[string]string{"D4:D5": "yyyy-mm-dd", "G4:G5": `d mmm yyyy hh:mm:ss.000`, "H4:H5": "hh:mm"} {
		style, err := f.NewStyle(&excelize.Style{CustomNumFmt: &format})
		if err != nil {
			t.Fatal(err)
		}
		from, to, _ := strings.Cut(cell, ":")
		if err := f.SetCellStyle("Stalls", from, to, style); err != nil {
			t.Fatal(err)
		}
	}
	cells(t, f, "Sales", []any{"stall", "price"}, []any{1, 2.5}, []any{2, nil}, []any{3, 4})
	if err := f.SetCellFormula("Sales", "B3", "B2+1"); err != nil { // never calculated
		t.Fatal(err)
	}
	cells(t, f, "Nothing")
	if err := f.SetSheetVisible("Sales", false); err != nil {
		t.Fatal(err)
	}
	if err := f.DeleteSheet("Sheet1"); err != nil {
		t.Fatal(err)
	}
	path := saved(t, f)
	db, err := openWorkbookFile(t, path)
	if err != nil {
		t.Fatal(err)
	}
	plans := tablesOf(t, db)
	if len(plans) != 2 {
		t.Fatalf("%d tables", len(plans))
	}
	p := plans["Stalls"]
	var types []string
	for _, c := range p.Columns {
		types = append(types, c.Name+" "+c.Type)
	}
	if got := strings.Join(types, ", "); got != "id bigint, code text, name text, opened date, kg numeric, open boolean, "+
		"seen timestamp without time zone, from time without time zone" || p.Table.Rows != 3 {
		t.Errorf("%d rows of %s", p.Table.Rows, got)
	}
	rows, refused, err := rowsOf(t, db, &p)
	want := "1|007|Lavender <\"L\">|2026-05-01|0.1|true|2026-05-01 08:00:00.25|12:00:00\n" +
		"2|008|two\nlines|2026-05-02|1.1|false|2026-05-01 00:00:00|06:00:00\n3|009|NULL|NULL|12345678901|NULL|NULL|NULL"
	if got := strings.Join(rows, "\n"); got != want || len(refused) > 0 || err != nil {
		t.Errorf("%s\nwant\n%s\n%q %v", got, want, refused, err)
	}
	sales := plans["Sales"]
	rows, refused, err = rowsOf(t, db, &sales)
	if err != nil || strings.Join(rows, "\n") != "1|2.5\n3|4" || len(refused) != 1 ||
		!strings.HasPrefix(refused[0], "row 3, column B (price): it has a formula whose value is not in the file") {
		t.Errorf("sales: %q, refused %q, %v", rows, refused, err)
	}
	list, err := db.SurveySource(t.Context(), []domain.TablePlan{p, sales}, false)
	if err != nil || list[0].Measured != "a sheet, 8 columns from A3 on; 1 row above is left out" ||
		!strings.Contains(list[1].Measured, "it is hidden") {
		t.Errorf("%+v, %v", list, err)
	}
}

// byHand is a workbook of one sheet, as its parts are written.
func byHand(t *testing.T, parts map[string]string) string {
	t.Helper()
	all := map[string]string{
		"xl/workbook.xml": `<x:workbook xmlns:x="m" xmlns:q="r"><x:workbookPr date1904="true"/><x:sheets>` +
			`<x:sheet name="Lots" sheetId="4" q:id="rId9"/></x:sheets></x:workbook>`,
		"xl/_rels/workbook.xml.rels": `<Relationships><Relationship Id="rId9" Type="http://x/worksheet" ` +
			`Target="/xl/lots.xml"/><Relationship Id="rId1" Type="http://x/sharedStrings" Target="texts.xml"/>` +
			`<Relationship Id="rId2" Type="http://x/styles" Target="styles.xml"/></Relationships>`,
		"xl/styles.xml": `<styleSheet><cellXfs><xf numFmtId="0"/><xf numFmtId="14"/></cellXfs></styleSheet>`,
		"xl/texts.xml": `<sst><si><t>id</t></si><si><r><t>no</t></r><r><t xml:space="preserve">te </t></r>` +
			`<rPh><t>spoken</t></rPh></si></sst>`,
		"xl/lots.xml": `<worksheet><cols/><sheetData><row r="2"><c t="s"><v>0</v></c><c t="s"><v>1</v></c>` +
			`<c t="inlineStr"><is><t>day</t></is></c></row><row/><row><c r="A9"><v>1.0</v></c>` +
			`<c r="B9" t="str"><f>"x"</f><v>a_x000D_b</v></c><c r="C9" s="1"><v>1</v></c></row>%s</sheetData></worksheet>`,
	}
	for name, text := range parts {
		all[name] = text
	}
	all["xl/lots.xml"] = strings.Replace(all["xl/lots.xml"], "%s", parts["more"], 1)
	delete(all, "more")
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for name, text := range all {
		w, err := z.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		_, _ = w.Write([]byte(text))
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(t.TempDir(), "lots.xlsx")
	if err := os.WriteFile(path, out.Bytes(), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

// TestWorkbooksAsOthersWriteThem: other prefixes and paths, cells without names, texts in pieces, the calendar
// that begins in 1904, errors in cells; and parts that are missing, cut off or wrong.
func TestWorkbooksAsOthersWriteThem(t *testing.T) {
	path := byHand(t, map[string]string{"more": `<row r="10"><c r="A10" t="e"><v>#DIV/0!</v></c></row>` +
		`<row r="11"><c r="A11"><f>1+1</f></c></row><row r="12"><c r="C12" s="1"><v>-1</v></c></row>` +
		`<row r="13"><c r="H13"><v>1</v></c></row>`})
	db, err := openWorkbookFile(t, path)
	if err != nil {
		t.Fatal(err)
	}
	p := tablesOf(t, db)["Lots"]
	rows, refused, err := rowsOf(t, db, &p)
	if err != nil || strings.Join(rows, "\n") != "1|a\rb|1904-01-02|NULL|NULL|NULL|NULL|NULL\n"+
		"NULL|NULL|NULL|NULL|NULL|NULL|NULL|1" {
		t.Errorf("%q, %v", rows, err)
	}
	want := []string{"row 10, column A (id): it holds the error #DIV/0!",
		"row 11, column A (id): it has a formula whose value is not in the file",
		"row 12, column C (day): the number -1 is no day"}
	for i, w := range want {
		if i >= len(refused) || !strings.HasPrefix(refused[i], w) {
			t.Errorf("refused: %q, want %q", refused, want)
			break
		}
	}
	for what, c := range map[string]struct {
		parts map[string]string
		says  string
	}{
		"a part is missing": {map[string]string{"xl/_rels/workbook.xml.rels": `<R><Relationship Id="rId9" Type="worksheet" ` +
			`Target="gone.xml"/></R>`}, "lacks its part xl/gone.xml"},
		"it is cut off": {map[string]string{"xl/lots.xml": `<worksheet><sheetData><row><c><v>1</v></c></row>`},
			"ends in its middle"},
		"its text is not": {map[string]string{"more": `<row><c t="s"><v>2</v></c></row>`},
			"the text 2 is not among the workbook's"},
		"nothing is in it": {map[string]string{"xl/lots.xml": `<worksheet><sheetData/></worksheet>`},
			"no sheet of the workbook has something in it"},
		"it has no sheet":    {map[string]string{"xl/workbook.xml": `<w/>`}, "no sheet of the workbook has something in it"},
		"texts are cut off":  {map[string]string{"xl/texts.xml": `<sst><si><t>a`}, "texts cannot be read"},
		"its book is broken": {map[string]string{"xl/workbook.xml": `<w`}, "xl/workbook.xml cannot be read"},
	} {
		_, err := func() (*engine.Opened, error) {
			db, err := openWorkbookFile(t, byHand(t, c.parts))
			if err != nil {
				return nil, err
			}
			_, err = db.Catalog(t.Context())
			return db, err
		}()
		if err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", what, err)
		}
	}
}

// TestManyTexts: they are read from beside, each where it is.
func TestManyTexts(t *testing.T) {
	f := excelize.NewFile()
	w, err := f.NewStreamWriter("Sheet1")
	if err != nil {
		t.Fatal(err)
	}
	for i := range 300 {
		name := fmt.Sprintf("name %d %s", i, strings.Repeat("x", i))
		if err := w.SetRow(fmt.Sprintf("A%d", i+1), []any{name, i}); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Flush(); err != nil {
		t.Fatal(err)
	}
	if _, err := f.NewSheet("More"); err != nil {
		t.Fatal(err)
	}
	for i := range 200 { // those that it writes one by one are shared
		n := i * 7 % 200
		if err := f.SetSheetRow("More", fmt.Sprintf("A%d", i+1), &[]any{fmt.Sprintf("text %d", n), n}); err != nil {
			t.Fatal(err)
		}
	}
	db, err := openWorkbookFile(t, saved(t, f))
	if err != nil {
		t.Fatal(err)
	}
	for name, p := range tablesOf(t, db) {
		rows, refused, err := rowsOf(t, db, &p)
		if err != nil || len(refused) > 0 || len(rows) < 200 {
			t.Errorf("%s: %d rows, %q, %v", name, len(rows), refused, err)
		}
		for _, r := range rows {
			text, n, _ := strings.Cut(r, "|")
			if fields := strings.Fields(text); len(fields) < 2 || fields[1] != n {
				t.Errorf("%s: %s beside %s", name, text, n)
			}
		}
	}
}
