package workbook

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/xuri/excelize/v2"
)

// read returns the cells of an area as reference=text, typed ones with a colon before.
func read(book *Book, sheet, area string) ([]string, error) {
	a, err := book.Find(sheet, area)
	if err != nil {
		return nil, err
	}
	rows, err := book.Rows(a)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var list []string
	for {
		row, cells, err := rows.Next()
		if err == io.EOF {
			return list, nil
		}
		if err != nil {
			return list, err
		}
		for _, c := range cells {
			mark := ""
			if c.Typed {
				mark = ":"
			}
			list = append(list, fmt.Sprintf("%d/%d=%s%s", row, c.Column, mark, c.Text))
		}
	}
}

// TestAgainstWriter reads workbooks that another program wrote, cells of all kinds at random places.
func TestAgainstWriter(t *testing.T) {
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 1))
		f := excelize.NewFile()
		style := func(format string) int {
			id, err := f.NewStyle(&excelize.Style{CustomNumFmt: &format})
			if err != nil {
				t.Fatal(err)
			}
			return id
		}
		day, moment, clock, code := style("dd/mm/yyyy"), style(`[$-407]d. mmm yy hh:mm`), style("hh:mm:ss"), style("00000")
		money := style(`"due" #,##0.00 [$EUR]`)
		f.NewSheet("Tolls & dues")
		var want []string
		row := 0
		for range r.IntN(30) {
			row += 1 + r.IntN(3)
			for col := range 8 {
				at, _ := excelize.CoordinatesToCellName(col+1, row)
				var value any
				text, format := "", 0
				date := time.Date(1900, 3, 1, 0, 0, 0, 0, time.UTC).AddDate(0, 0, r.IntN(100_000))
				switch r.IntN(10) {
				case 0:
					continue
				case 1:
					n := r.IntN(1_000_000_000)
					value, text = n, ":"+strconv.Itoa(n)
				case 2:
					cents := r.IntN(100_000_000)
					x := float64(cents) / 100
					value, text, format = x, ":"+strconv.FormatFloat(x, 'f', -1, 64), money
				case 3:
					value, text, format = date, ":"+date.Format(time.DateOnly), day
				case 4:
					date = date.Add(time.Duration(1+r.IntN(86_399)) * time.Second)
					value, text, format = date, ":"+date.Format(time.DateTime), moment
				case 5:
					seconds := r.IntN(86_400)
					value, format = float64(seconds)/86400, clock
					text = ":" + time.Unix(int64(seconds), 0).UTC().Format(time.TimeOnly)
				case 6:
					n := 1 + r.IntN(99_999)
					value, text, format = n, fmt.Sprintf("%05d", n), code
				case 7:
					value, text = true, ":true"
				case 8:
					value, text = "0012", "0012"
				case 9:
					value = []string{"two\nlines", "a, b; c", `"q", & <x>`, " around ", "Zoë ✓", "2026"}[r.IntN(6)]
					text = value.(string)
				}
				if err := f.SetCellValue("Tolls & dues", at, value); err != nil {
					t.Fatal(err)
				}
				if format > 0 {
					f.SetCellStyle("Tolls & dues", at, at, format)
				}
				want = append(want, fmt.Sprintf("%d/%d=%s", row, col, text))
			}
		}
		var b bytes.Buffer
		if err := f.Write(&b); err != nil {
			t.Fatal(err)
		}
		book, err := Open(bytes.NewReader(b.Bytes()), int64(b.Len()))
		if err != nil {
			t.Fatal(seed, err)
		}
		got, err := read(book, "Tolls & dues", "")
		if err != nil || !slices.Equal(got, want) {
			t.Fatalf("seed %d: %v\n%q\n%q", seed, err, got, want)
		}
	}
}

// parts are the parts of a small workbook, with a sheet of some rows.
func parts(rows string) map[string]string {
	return map[string]string{
		"xl/workbook.xml": `<workbook xmlns:r="r"><sheets><sheet name="Tolls" r:id="a"/><sheet name="It's" state="hidden" r:id="b"/></sheets>` +
			`<definedNames><definedName name="Owed">'It''s'!$B$2:$C$3</definedName><definedName name="Rate">0.5</definedName></definedNames></workbook>`,
		"xl/_rels/workbook.xml.rels": `<Relationships><Relationship Id="a" Type="x/worksheet" Target="worksheets/one.xml"/>` +
			`<Relationship Id="b" Type="x/worksheet" Target="/xl/two.xml"/><Relationship Id="c" Type="x/sharedStrings" Target="texts.xml"/>` +
			`<Relationship Id="d" Type="x/styles" Target="styles.xml"/></Relationships>`,
		"xl/texts.xml": `<sst><si><t>plain</t></si><si><r><t>rich </t></r><r><rPr/><t xml:space="preserve"> text</t></r><rPh sb="0" eb="1"><t>no</t></rPh></si>` +
			`<si><t>a_x0009_b_x00zz_</t></si></sst>`,
		"xl/styles.xml": `<styleSheet><numFmts><numFmt numFmtId="164" formatCode="yyyy-mm"/><numFmt numFmtId="165" formatCode="0.00&quot; days&quot;"/></numFmts>` +
			`<cellStyleXfs><xf numFmtId="14"/></cellStyleXfs><cellXfs><xf numFmtId="0"/><xf numFmtId="14"/><xf numFmtId="46"/><xf numFmtId="164"/><xf numFmtId="165"/></cellXfs></styleSheet>`,
		"xl/worksheets/one.xml":            `<worksheet><sheetData>` + rows + `</sheetData></worksheet>`,
		"xl/worksheets/_rels/one.xml.rels": `<Relationships><Relationship Id="t" Type="x/table" Target="../table.xml"/></Relationships>`,
		"xl/table.xml":                     `<table displayName="Dues" ref="A1:B3" totalsRowCount="1"/>`,
		"xl/two.xml": `<worksheet><sheetData><row r="2"><c r="A2"><v>1</v></c><c r="B2"><v>2</v></c></row><row r="3"><c r="C3"><v>3</v></c><c><v>4</v></c></row>` +
			`<row r="9"><c r="B9"><v>5</v></c></row></sheetData></worksheet>`,
	}
}

func archived(t testing.TB, parts map[string]string) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for name, text := range parts {
		w, err := z.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		io.WriteString(w, text)
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// TestCells reads cells as they stand in a workbook.
func TestCells(t *testing.T) {
	for _, test := range []struct{ rows, sheet, area, want string }{
		{`<row><c t="s"><v>0</v></c><c t="s"><v>1</v></c><c t="s"><v>2</v></c></row>`, "Tolls", "", "1/0=plain 1/1=rich  text 1/2=a\tb_x00zz_"},
		{`<row r="2"><c r="C2" t="str"><f>A1</f><v></v></c><c t="inlineStr"><is><t>x</t></is></c><c t="e"><v>#N/A</v></c></row>`, "1", "", "2/3=x 2/4=#N/A"},
		{`<row><c><f>SUM(A2:A9)</f></c><c><f t="shared" si="0"/></c></row>`, "Tolls", "", "1/0==SUM(A2:A9) 1/1==a shared formula"},
		{`<row><c><v>0.30000000000000004</v></c><c><v>12345678901234.561</v></c><c><v>0.7999999999999999</v></c><c><v>123456789012345678</v></c></row>`,
			"Tolls", "", "1/0=:0.3 1/1=:12345678901234.56 1/2=:0.8 1/3=:123456789012345678"},
		{`<row><c><v>1.5E-7</v></c><c><v>-2.5e3</v></c><c><v>-0</v></c><c><v>1E+20</v></c><c s="4"><v>7.25</v></c></row>`,
			"Tolls", "", "1/0=:0.00000015 1/1=:-2500 1/2=:0 1/3=:100000000000000000000 1/4=:7.25"},
		{`<row><c s="1"><v>59</v></c><c s="1"><v>60</v></c><c s="1"><v>61</v></c><c s="1"><v>61.5</v></c><c s="1"><v>-3</v></c><c s="3"><v>45000.999999999</v></c></row>`,
			"Tolls", "", "1/0=:1900-02-28 1/1=:60 1/2=:1900-03-01 1/3=:1900-03-01 12:00:00 1/4=:-3 1/5=:2023-03-16"},
		{`<row><c s="2"><v>0.5</v></c><c s="2"><v>1.25</v></c><c t="d"><v>2026-03-01T04:05:06Z</v></c><c t="d"><v>2026-03-01T00:00:00</v></c><c t="b"><v>0</v></c></row>`,
			"Tolls", "", "1/0=:12:00:00 1/1=:1.25 1/2=:2026-03-01 04:05:06 1/3=:2026-03-01 1/4=:false"},
		{"", "It's", "", "2/0=:1 2/1=:2 3/2=:3 3/3=:4 9/1=:5"},
		{"", "", "owed", "2/0=:2 3/1=:3"},
		{"", "2", "B:C", "2/0=:2 3/1=:3 9/0=:5"},
		{"", "2", "3:3", "3/2=:3 3/3=:4"},
		{`<row><c><v>1</v></c></row><row><c><v>2</v></c><c/><c><v>3</v></c></row><row><c><v>4</v></c></row>`, "", "Dues", "1/0=:1 2/0=:2"},
	} {
		text := archived(t, parts(test.rows))
		book, err := Open(bytes.NewReader(text), int64(len(text)))
		if err != nil {
			t.Fatal(err)
		}
		got, err := read(book, test.sheet, test.area)
		if err != nil || strings.Join(got, " ") != test.want {
			t.Errorf("%s %s %s: %v\n%s\n%s", test.rows, test.sheet, test.area, err, strings.Join(got, " "), test.want)
		}
	}
}

// TestDamaged reads workbooks that are not as they should be: each is refused, and nothing of it is passed over.
func TestDamaged(t *testing.T) {
	for _, test := range []struct{ part, text, sheet, area, want string }{
		{"xl/worksheets/one.xml", `<worksheet><sheetData><row><c><v>1</v></c></row><row><c><v>2`, "1", "", "one.xml: XML syntax error on line 1: unexpected EOF"},
		{"xl/worksheets/one.xml", `<worksheet><sheetData><row><c><v>1</v></c></row><row></c></row>`, "1", "", "element <row> closed by </c>"},
		{"xl/worksheets/one.xml", `<worksheet><row r="4"/><row r="4"/></worksheet>`, "1", "", "row 4 behind row 4"},
		{"xl/worksheets/one.xml", `<worksheet><row r="2000000"/></worksheet>`, "1", "", "row 2000000, and a sheet has 1048576"},
		{"xl/worksheets/one.xml", `<worksheet><row><c r="B1"/><c r="A1"/></row></worksheet>`, "1", "", "the cell A1 in row 1 is not where it says"},
		{"xl/worksheets/one.xml", `<worksheet><row><c t="s"><v>3</v></c></row></worksheet>`, "1", "", "the shared text 3, which is not there"},
		{"xl/worksheets/one.xml", `<worksheet><row><c><v>NaN</v></c></row></worksheet>`, "1", "", "a cell in row 1 has the number NaN"},
		{"xl/worksheets/one.xml", `<!DOCTYPE x [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;">]><worksheet><row><c t="str"><v>&b;</v></c></row></worksheet>`, "1", "", "invalid character entity &b;"},
		{"xl/worksheets/one.xml", `<worksheet><row><c t="str"><v>` + strings.Repeat("x", 40<<20) + `</v></c></row></worksheet>`, "1", "", "a text or a tag has more than 16 MiB"},
		{"xl/worksheets/one.xml", `<worksheet>` + strings.Repeat("<x>", 1_000_000), "1", "", "stand one within the other"},
		{"xl/texts.xml", `<sst><si>` + strings.Repeat("<r>", 1_000_000), "1", "", "stand one within the other"},
		{"xl/texts.xml", "", "1", "", "it has no part xl/texts.xml"},
		{"xl/workbook.xml", `<workbook><sheets/></workbook>`, "1", "", "the workbook has no sheets"},
		{"", "", "", "", "the workbook has 2 sheets: which one? (sheet: Tolls, It's)"},
		{"", "", "Dues", "", "the workbook has no sheet Dues; it has Tolls, It's"},
		{"", "", "", "Rate", "no sheet 0.5"},
		{"", "", "1", "Owings", "no table and no range called Owings"},
		{"", "", "1", "C3:B2", "no table and no range called C3:B2"},
	} {
		p := parts("")
		if test.text == "" {
			delete(p, test.part)
		} else {
			p[test.part] = test.text
		}
		text := archived(t, p)
		book, err := Open(bytes.NewReader(text), int64(len(text)))
		if err == nil {
			_, err = read(book, test.sheet, test.area)
		}
		if err == nil || !strings.Contains(err.Error(), test.want) {
			t.Errorf("%s %.80s: %v\n%s", test.part, test.text, err, test.want)
		}
	}
	for text, want := range map[string]string{
		"\xd0\xcf\x11\xe0\xa1\xb1": "save it as .xlsx without a password",
		"PK\x03\x04":               "this is not a workbook",
		"":                         "this is not a workbook",
	} {
		if _, err := Open(strings.NewReader(text), int64(len(text))); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
	text := archived(t, map[string]string{"a.csv": "x"})
	if _, err := Open(bytes.NewReader(text), int64(len(text))); err == nil || !strings.Contains(err.Error(), "a zip archive, and not a workbook") {
		t.Error(err)
	}
}

// FuzzOpen reads what may be no workbook at all.
func FuzzOpen(f *testing.F) {
	f.Add(`<row r="2"><c r="B2" s="1"><v>45000.5</v></c></row>`, `<si><t>x</t></si>`)
	f.Fuzz(func(t *testing.T, rows, texts string) {
		p := parts(rows)
		p["xl/texts.xml"] = "<sst>" + texts + "</sst>"
		text := archived(t, p)
		if book, err := Open(bytes.NewReader(text), int64(len(text))); err == nil {
			read(book, "1", "")
		}
	})
}
