package rowfile

import (
	"archive/zip"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"strconv"
	"strings"

	"dustyferry/internal/core/filekind"
	"dustyferry/internal/core/sheet"
	"dustyferry/internal/core/textrows"
	"dustyferry/internal/domain"
	"dustyferry/internal/engine"
)

// Workbook is the driver of workbooks: each sheet with something in it is a table. Sheets are read as they
// stream from the archive, by ourselves: the libraries for them give texts alone while they stream, and tell
// neither a number from a text, nor an error or a formula that was never calculated from what is loaded.
func Workbook() Driver {
	return Driver{form: form{name: "workbook", rows: "sheets of a workbook", kind: filekind.Workbook,
		tables: func(path string) ([]string, error) {
			w, err := openWorkbook(path)
			if err != nil {
				return nil, err
			}
			defer w.close()
			return w.tables()
		},
		understand: func(path, table string) (layout, error) {
			w, err := openWorkbook(path)
			if err != nil {
				return nil, err
			}
			defer w.close()
			return w.layout(table)
		}}}
}

// workbook is an open one.
type workbook struct {
	file   *os.File
	state  string // which file, and as of when
	files  map[string]*zip.File
	sheets []sheetPart
	in1904 bool
	texts  string // the part with shared texts
	styles string // and that with formats
}

// sheetPart is a sheet, and the part of the archive in which it is.
type sheetPart struct {
	name, part string
	hidden     bool
}

// largestPart is how large a part of a workbook may be that is held in memory, and longestText a text.
const (
	largestPart = 16 << 20
	longestText = 16 << 20
)

func openWorkbook(name string) (_ *workbook, err error) {
	kind, err := engine.KindOfFile(name)
	if err != nil {
		return nil, err
	}
	if kind.Name != filekind.Workbook || kind.Detail != "" || kind.Packed != "" {
		return nil, domain.Invalid("%s is a %s: %s", name, kind, kind.Advice)
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, domain.Unavailable(err, "the file %s cannot be read: %s", name, errors.Unwrap(err))
	}
	w := &workbook{file: f, files: map[string]*zip.File{}}
	defer func() {
		if err != nil {
			w.close()
		}
	}()
	s, err := f.Stat()
	if err != nil {
		return nil, domain.Unavailable(err, "the file %s cannot be read: %s", name, err)
	}
	z, err := zip.NewReader(f, s.Size())
	if err != nil {
		return nil, domain.Invalid("%s is damaged, or was cut off: %s", name, err)
	}
	w.state = fmt.Sprint(name, s.Size(), s.ModTime().UnixNano())
	for _, f := range z.File {
		w.files[strings.TrimPrefix(f.Name, "/")] = f
	}
	const main = "xl/workbook.xml"
	var book struct {
		Pr struct {
			Date1904 string `xml:"date1904,attr"`
		} `xml:"workbookPr"`
		Sheets []struct {
			Name  string     `xml:"name,attr"`
			State string     `xml:"state,attr"`
			Attrs []xml.Attr `xml:",any,attr"`
		} `xml:"sheets>sheet"`
	}
	if err := w.decode(main, &book); err != nil {
		return nil, err
	}
	var links struct {
		List []struct {
			ID     string `xml:"Id,attr"`
			Type   string `xml:"Type,attr"`
			Target string `xml:"Target,attr"`
		} `xml:"Relationship"`
	}
	if err := w.decode("xl/_rels/workbook.xml.rels", &links); err != nil {
		return nil, err
	}
	parts, kinds := map[string]string{}, map[string]string{}
	for _, l := range links.List {
		part := strings.TrimPrefix(l.Target, "/")
		if !strings.HasPrefix(l.Target, "/") {
			part = path.Join("xl", l.Target)
		}
		kind := path.Base(l.Type)
		parts[l.ID], kinds[l.ID] = part, kind
		switch kind {
		case "sharedStrings":
			w.texts = part
		case "styles":
			w.styles = part
		}
	}
	w.in1904 = book.Pr.Date1904 == "1" || book.Pr.Date1904 == "true"
	for _, s := range book.Sheets {
		for _, a := range s.Attrs {
			if a.Name.Local == "id" && kinds[a.Value] == "worksheet" { // others are charts
				w.sheets = append(w.sheets, sheetPart{s.Name, parts[a.Value], s.State != "" && s.State != "visible"})
			}
		}
	}
	return w, nil
}

func (w *workbook) close() { _ = w.file.Close() }

// part opens a part of the archive.
func (w *workbook) part(name string) (io.ReadCloser, error) {
	f := w.files[name]
	if f == nil {
		return nil, domain.Invalid("the workbook lacks its part %s; save it anew with the program that made it", name)
	}
	r, err := f.Open()
	if err != nil {
		return nil, domain.Invalid("the workbook's part %s cannot be unpacked: %s", name, err)
	}
	return r, nil
}

// decode reads a small part whole.
func (w *workbook) decode(name string, into any) error {
	r, err := w.part(name)
	if err != nil {
		return err
	}
	defer func() { _ = r.Close() }()
	if w.files[name].UncompressedSize64 > largestPart {
		return domain.Invalid("the workbook's part %s is larger than %d MiB", name, largestPart>>20)
	}
	if err := xml.NewDecoder(io.LimitReader(r, largestPart)).Decode(into); err != nil {
		return domain.Invalid("the workbook's part %s cannot be read: %s", name, err)
	}
	return nil
}

// tables are the sheets with something in them.
func (w *workbook) tables() ([]string, error) {
	var out []string
	for _, s := range w.sheets {
		r, err := w.rows(s)
		if err != nil {
			return nil, err
		}
		_, err = r.next()
		r.close()
		if errors.Is(err, io.EOF) {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("sheet %s: %w", s.name, err)
		}
		out = append(out, s.name)
	}
	if len(out) == 0 {
		return nil, domain.Invalid("no sheet of the workbook has something in it")
	}
	return out, nil
}

func (w *workbook) sheet(table string) (sheetPart, error) {
	for _, s := range w.sheets {
		if s.name == table {
			return s, nil
		}
	}
	return sheetPart{}, domain.Conflict("the workbook has no sheet %s any more", table)
}

// layout finds the table in a sheet.
func (w *workbook) layout(table string) (layout, error) {
	s, err := w.sheet(table)
	if err != nil {
		return nil, err
	}
	r, err := w.rows(s)
	if err != nil {
		return nil, err
	}
	defer r.close()
	var first []sheet.Row
	for len(first) < sheet.Tried {
		row, err := r.next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("sheet %s: %w", table, err)
		}
		first = append(first, sheet.Row{Number: row.Number, Cells: append([]sheet.Cell{}, row.Cells...)})
	}
	shape, err := sheet.ShapeOf(first)
	if err != nil {
		return nil, fmt.Errorf("sheet %s: %w", table, err)
	}
	return sheetLayout{Shape: shape, sheet: s}, nil
}

// sheetLayout is the layout of a sheet.
type sheetLayout struct {
	sheet.Shape
	sheet sheetPart
}

func (l sheetLayout) columns() []string { return l.Columns }

func (l sheetLayout) String() string {
	out := "a sheet, " + l.Shape.String()
	if l.sheet.hidden {
		out += "; it is hidden"
	}
	return out
}

func (l sheetLayout) open(name string) (records, func(), error) {
	w, err := openWorkbook(name)
	if err != nil {
		return nil, nil, err
	}
	s, err := w.sheet(l.sheet.name)
	var r *sheetRows
	if err == nil {
		r, err = w.rows(s)
	}
	if err != nil {
		w.close()
		return nil, nil, err
	}
	out := &sheetRecords{sheetLayout: l, rows: r, values: make([]textrows.Value, len(l.Columns))}
	return out, func() { r.close(); w.close() }, nil
}

type sheetRecords struct {
	sheetLayout
	rows   *sheetRows
	values []textrows.Value
}

func (r *sheetRecords) next() (values []textrows.Value, refused, err error) {
	for {
		row, err := r.rows.next()
		if err != nil {
			return nil, nil, err
		}
		if row.Number > r.Begin || row.Number == r.Begin && !r.Header {
			return r.values, r.Values(row, r.values), nil
		}
	}
}

// formats are what the workbook's styles make of numbers.
func (w *workbook) formats() ([]sheet.Timely, error) {
	if w.styles == "" {
		return nil, nil
	}
	var styles struct {
		Own []struct {
			ID   int    `xml:"numFmtId,attr"`
			Code string `xml:"formatCode,attr"`
		} `xml:"numFmts>numFmt"`
		Of []struct {
			Format int `xml:"numFmtId,attr"`
		} `xml:"cellXfs>xf"`
	}
	if err := w.decode(w.styles, &styles); err != nil {
		return nil, err
	}
	own := map[int]string{}
	for _, f := range styles.Own {
		own[f.ID] = f.Code
	}
	out := make([]sheet.Timely, len(styles.Of))
	for i, x := range styles.Of {
		out[i] = sheet.FormatOf(x.Format, own[x.Format])
	}
	return out, nil
}

// sheetRows reads the rows of a sheet with something in them.
type sheetRows struct {
	in      io.ReadCloser
	xml     *xml.Decoder
	shared  textsAt
	formats []sheet.Timely
	in1904  bool
	row     sheet.Row
	number  int
	text    []byte
}

func (w *workbook) rows(s sheetPart) (*sheetRows, error) {
	formats, err := w.formats()
	if err != nil {
		return nil, err
	}
	shared, err := w.sharedTexts()
	if err != nil {
		return nil, err
	}
	in, err := w.part(s.part)
	if err != nil {
		return nil, err
	}
	return &sheetRows{in: in, xml: xml.NewDecoder(in), shared: textsAt{sharedTexts: shared}, formats: formats,
		in1904: w.in1904}, nil
}

func (r *sheetRows) close() { _ = r.in.Close() }

// next returns the next row, which is good until the next, io.EOF at the end.
func (r *sheetRows) next() (*sheet.Row, error) {
	inRow := false
	for {
		t, err := r.xml.RawToken()
		if errors.Is(err, io.EOF) {
			return nil, errors.New("the sheet ends in its middle")
		}
		if err != nil {
			return nil, err
		}
		switch e := t.(type) {
		case xml.StartElement:
			switch {
			case e.Name.Local == "row":
				inRow = true
				r.number++
				if n, err := strconv.Atoi(attr(e, "r")); err == nil && n >= r.number {
					r.number = n
				}
				r.row.Number, r.row.Cells = r.number, r.row.Cells[:0]
			case e.Name.Local == "c" && inRow:
				if err := r.cell(e); err != nil {
					return nil, err
				}
			}
		case xml.EndElement:
			switch e.Name.Local {
			case "row":
				if inRow = false; len(r.row.Cells) > 0 {
					return &r.row, nil
				}
			case "sheetData", "worksheet":
				return nil, io.EOF
			}
		}
	}
}

func attr(e xml.StartElement, name string) string {
	for _, a := range e.Attr {
		if a.Name.Local == name {
			return a.Value
		}
	}
	return ""
}

// cell takes a cell with something in it.
func (r *sheetRows) cell(e xml.StartElement) error {
	column := sheet.Column(attr(e, "r"))
	if column < 0 {
		column = 0
		if n := len(r.row.Cells); n > 0 {
			column = r.row.Cells[n-1].Column + 1
		}
	}
	r.text = r.text[:0]
	has, formula := false, false
	var within []string
	for {
		t, err := r.xml.RawToken()
		if err != nil {
			return fmt.Errorf("row %d: %w", r.number, err)
		}
		switch x := t.(type) {
		case xml.StartElement:
			within = append(within, x.Name.Local)
			formula = formula || x.Name.Local == "f"
			has = has || x.Name.Local == "v" || x.Name.Local == "is"
		case xml.CharData:
			if n := len(within); n > 0 && (within[n-1] == "v" || within[n-1] == "t" && within[0] == "is" &&
				!(n > 1 && within[n-2] == "rPh")) { // how a text is spoken is none of it
				if r.text = append(r.text, x...); len(r.text) > longestText {
					return fmt.Errorf("row %d: a text is longer than %d MiB", r.number, longestText>>20)
				}
			}
		case xml.EndElement:
			if len(within) > 0 {
				within = within[:len(within)-1]
				continue
			}
			return r.take(column, attr(e, "t"), attr(e, "s"), has, formula)
		}
	}
}

// take adds a cell of a type and a style.
func (r *sheetRows) take(column int, typ, style string, has, formula bool) error {
	c := sheet.Cell{Column: column}
	raw := string(r.text)
	switch {
	case !has && formula:
		c.Why = "it has a formula whose value is not in the file; open the workbook with a program that calculates it, and " +
			"save it"
	case !has:
		return nil
	case typ == "s":
		n, err := strconv.Atoi(raw)
		text := ""
		if err == nil {
			text, err = r.shared.get(n)
		}
		if err != nil {
			return fmt.Errorf("row %d: the text %s is not among the workbook's (%w)", r.number, raw, err)
		}
		c.Value = textOf(sheet.Text(text))
	case typ == "str" || typ == "inlineStr":
		c.Value = textOf(sheet.Text(raw))
	case typ == "b":
		c.Value = textrows.Value{Text: map[bool]string{true: "true", false: "false"}[raw == "1" || raw == "true"],
			As: textrows.Truth}
	case typ == "e":
		c.Value.Text, c.Why = raw, "it holds the error "+raw
	case typ == "d":
		c.Value = textrows.Value{Text: strings.Replace(raw, "T", " ", 1), As: textrows.Quoted}
	case raw == "":
		return nil
	default:
		c.Value = textrows.Value{Text: sheet.Plain(raw), As: textrows.Number}
		if n, err := strconv.Atoi(style); err == nil && n >= 0 && n < len(r.formats) && r.formats[n] != sheet.Number {
			text, err := sheet.Time(raw, r.formats[n], r.in1904)
			if c.Value = (textrows.Value{Text: text, As: textrows.Quoted}); err != nil {
				c.Why = err.Error()
			}
		}
	}
	r.row.Cells = append(r.row.Cells, c)
	return nil
}

// textOf is a text as a value; an empty one says nothing.
func textOf(s string) textrows.Value {
	if s == "" {
		return textrows.Value{}
	}
	return textrows.Value{Text: s, As: textrows.Quoted}
}
