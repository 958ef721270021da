package source

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/xuri/excelize/v2"

	"ironmonger/internal/column"
	"ironmonger/internal/parse"
	"ironmonger/internal/star"
)

// value is a value as text, and as a cell of a workbook has it.
type value struct {
	text string
	cell any
}

// randomTable returns rows of a text, a decimal, a date and an integer.
func randomTable(r *rand.Rand) [][]value {
	words := []string{"", "x", "two words", `"q"`, "a,b;c", "Zoë", "<&>", "it's", "0012", "null", "été 42"}
	var rows [][]value
	for range 1 + r.IntN(40) {
		word := words[r.IntN(len(words))]
		cents := r.IntN(1_000_000) - 500_000
		amount := strings.TrimPrefix(fmt.Sprintf("%.2f", float64(cents)/100), "+")
		day := time.Date(1950, 1, 1, 0, 0, 0, 0, time.UTC).AddDate(0, 0, r.IntN(50_000))
		n := r.IntN(1000)
		row := []value{{word, word}, {amount, float64(cents) / 100}, {day.Format("02.01.2006"), day}, {fmt.Sprint(n), n}}
		if word == "" {
			row[0].cell = nil
		}
		if r.IntN(4) == 0 {
			k := r.IntN(3)
			row[k] = value{}
		}
		rows = append(rows, row)
	}
	return rows
}

var tableNames = []string{"name", "amount", "day", "count"}

// tableOf is a source of such rows.
func tableOf(format, pattern string) *star.Source {
	s := &star.Source{Name: star.Name{Text: "test"}, Files: star.Files{Format: format, CSV: star.PlainCSV, Read: []star.Name{{Text: pattern}}}}
	layout, err := parse.NewLayout("dd.MM.yyyy", column.Date, parse.Words{})
	if err != nil {
		panic(err)
	}
	s.CSV.Style.Date = parse.Layouts{layout}
	types := []column.Type{{Kind: column.Text}, {Kind: column.Decimal, Precision: 9, Scale: 2}, {Kind: column.Date}, {Kind: column.Integer}}
	for k, name := range tableNames {
		s.Columns = append(s.Columns, star.Column{Name: star.Name{Text: name}, Type: types[k]})
	}
	return s
}

// values reads a source, a line for each row.
func values(t testing.TB, dir string, s *star.Source, piece int) ([]string, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer root.Close()
	in, err := (&Inputs{Model: &star.Model{}, Root: root, Piece: piece}).Open(context.Background(), s, nil, func(string) bool { return true })
	if err != nil {
		return nil, err
	}
	var list []string
	b := column.NewBatch(in.Fields())
	for p, err := range in.Pieces(context.Background()) {
		if err == nil {
			err = p.Fill(b)
		}
		if err != nil {
			return list, err
		}
		for i := range b.N {
			var row []string
			for k := range b.Cols {
				text := string(b.Cols[k].AppendValue(nil, i))
				if b.Cols[k].Null[i] {
					text = "-"
				}
				row = append(row, text)
			}
			if b.Bad(i) {
				row = []string{"aside " + b.Faults[0].Reason}
			}
			list = append(list, strings.Join(row, "|"))
		}
	}
	return list, nil
}

// writeTable writes rows in a format.
func writeTable(t testing.TB, r *rand.Rand, dir, format string, rows [][]value) *star.Source {
	var b bytes.Buffer
	s := tableOf(format, "x."+format)
	switch format {
	case star.InCSV:
		w := csv.NewWriter(&b)
		w.Write(tableNames)
		for _, row := range rows {
			w.Write([]string{row[0].text, row[1].text, row[2].text, row[3].text})
		}
		w.Flush()
	case star.Workbook:
		f := excelize.NewFile()
		above := r.IntN(4)
		for k, name := range tableNames {
			at, _ := excelize.CoordinatesToCellName(k+2, above+1)
			f.SetCellValue("Sheet1", at, name)
		}
		day, _ := f.NewStyle(&excelize.Style{NumFmt: 14})
		for n, row := range rows {
			for k, v := range row {
				at, _ := excelize.CoordinatesToCellName(k+2, above+n+2)
				if v.cell != nil && r.IntN(3) > 0 {
					if f.SetCellValue("Sheet1", at, v.cell); k == 2 {
						f.SetCellStyle("Sheet1", at, at, day)
					}
				} else if v.text != "" { // as a text
					f.SetCellValue("Sheet1", at, v.text)
				}
			}
		}
		for k := range above {
			f.SetCellValue("Sheet1", fmt.Sprint("A", k+1), "Dues of the harbour")
		}
		if s.Range.Text = "B:E"; above > 0 {
			s.CSV.Header.Begins = tableNames[:2]
		}
		if err := f.Write(&b); err != nil {
			t.Fatal(err)
		}
	case star.XML:
		s.Record.Text = "export.rows.row"
		s.Columns[0].Header, s.Columns[1].Header = "text()", "due.amount"
		s.Columns[2].Header, s.Columns[3].Header = "due.@day", "@count"
		b.WriteString("<?xml version=\"1.0\"?>\n<x:export xmlns:x=\"u\"><row>not here</row><x:rows>")
		for _, row := range rows {
			escaped := make([]string, 4)
			for k := range row {
				var e bytes.Buffer
				xml.EscapeText(&e, []byte(row[k].text))
				escaped[k] = e.String()
			}
			fmt.Fprintf(&b, "<row count=%q><!-- %d -->%s<due day=%q>\n<amount>%s</amount></due>\n</row>\n", escaped[3], 1, escaped[0], escaped[2], escaped[1])
		}
		b.WriteString("</x:rows><rows/></x:export>")
	case star.JSONLines:
		for _, row := range rows {
			for k, v := range row {
				value := "null"
				if quoted, _ := json.Marshal(v.text); v.text != "" {
					if value = string(quoted); k == 1 || k == 3 {
						value = v.text
					}
				}
				fmt.Fprintf(&b, "%c%q: %s", "{,,,"[k], tableNames[k], value)
			}
			b.WriteString("}\n")
		}
	case star.Fixed:
		at, widths := 1, []int{12, 10, 10, 5}
		for k, w := range widths {
			s.Columns[k].Chars = star.Span{From: at, To: at + w - 1}
			at += w
		}
		s.CSV.Headless = true
		for _, row := range rows {
			line := fmt.Sprintf("%-12s%10s%10s%5s", row[0].text, row[1].text, row[2].text, row[3].text)
			fmt.Fprintf(&b, "%s\r\n", strings.TrimRight(line, " "))
		}
	}
	name := filepath.Join(dir, "x."+format)
	text := b.Bytes()
	if r.IntN(2) == 0 { // in an archive
		var z bytes.Buffer
		a := zip.NewWriter(&z)
		for _, inner := range []string{"of/y." + format, "of/x." + format, "x.txt"} {
			w, _ := a.Create(inner)
			if strings.HasPrefix(inner, "of/x") {
				w.Write(text)
			} else {
				io.WriteString(w, "something else")
			}
		}
		a.Close()
		name, text = filepath.Join(dir, "all.ZIP"), z.Bytes()
		s.Read[0].Text = "*.ZIP/of/x*." + format
	}
	if err := os.WriteFile(name, text, 0o666); err != nil {
		t.Fatal(err)
	}
	return s
}

// TestFormats writes the same rows in several formats: all are read as the same values.
func TestFormats(t *testing.T) {
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 5))
		rows := randomTable(r)
		var want []string
		for _, row := range rows {
			var texts []string
			for k, v := range row {
				text := v.text
				if k == 2 && text != "" {
					text = text[6:] + text[2:6] + text[:2]
					text = strings.ReplaceAll(text, ".", "-")
				}
				if text == "" {
					text = "-"
				}
				texts = append(texts, text)
			}
			want = append(want, strings.Join(texts, "|"))
		}
		for _, format := range []string{star.InCSV, star.JSONLines, star.Workbook, star.XML, star.Fixed} {
			dir := t.TempDir()
			s := writeTable(t, r, dir, format, rows)
			got, err := values(t, dir, s, 200+r.IntN(2000))
			if err != nil || !slices.Equal(got, want) {
				t.Fatalf("seed %d, %s: %v\n%q\n%q", seed, format, err, got, want)
			}
		}
	}
}
