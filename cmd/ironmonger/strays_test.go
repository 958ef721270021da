package main

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/xuri/excelize/v2"

	"ironmonger/internal/startest"
)

// TestWorkbook goes from a workbook and a zip archive, as people send them, to a proven star with the built program: it
// looks at the sheets, drafts, loads, finds out why keys do not match, puts what is proposed into the model, writes out
// what is left, and loads it corrected.
func TestWorkbook(t *testing.T) {
	dir := t.TempDir()
	book := excelize.NewFile()
	put := func(sheet string, row int, values ...any) {
		book.NewSheet(sheet)
		book.SetSheetRow(sheet, fmt.Sprint("A", row), &values)
	}
	put("Ferries", 1, "Ferries of the lake")
	put("Ferries", 3, "Code", "Name", "Built")
	for n := range 12 {
		put("Ferries", 4+n, fmt.Sprintf("F%02d", n+1), fmt.Sprintf("Swan %d", n+1), time.Date(2001+n, 5, 1, 0, 0, 0, 0, time.UTC))
	}
	put("Notes", 1, "nothing", "of")
	put("Notes", 2, "any", "use")
	book.DeleteSheet("Sheet1")
	var text bytes.Buffer
	if err := book.Write(&text); err != nil {
		t.Fatal(err)
	}
	startest.Write(t, dir, "ferries.xlsx", text.String())
	text.Reset()
	z := zip.NewWriter(&text)
	w, err := z.Create("2026/crossings.csv")
	if err != nil {
		t.Fatal(err)
	}
	fmt.Fprintln(w, "crossing;ferry;left;fare")
	for n := range 60 {
		ferry := fmt.Sprintf("F%02d", n%12+1)
		switch n {
		case 20, 21:
			ferry = strings.ToLower(ferry)
		case 30:
			ferry = "none"
		}
		fmt.Fprintf(w, "%d;%s;%02d.03.2026;%d,50\n", n+1, ferry, n%28+1, n)
	}
	z.Close()
	startest.Write(t, dir, "crossings.zip", text.String())

	if out := must(t, dir, "show", "./ferries.xlsx/Ferries"); !strings.Contains(out, "sheet Ferries, the header on line 3") {
		t.Error(out)
	}
	if out := must(t, dir, "show", "./ferries.xlsx/Ferries", "--columns", "Code,Built", "--where", "Code = 'F02'", "--format", "csv"); !strings.Contains(out, "F02,2002-05-01") {
		t.Error(out)
	}
	if _, errs, status := run(t, dir, "show", "./ferries.xlsx", "--figures"); status != 2 || !strings.Contains(errs, "has 2 sheets") {
		t.Errorf("status %d: %s", status, errs)
	}
	if _, errs, status := run(t, dir, "show", "./ferries.xlsx/Boats"); status != 1 || !strings.Contains(errs, "the workbook has no sheet Boats, or it is empty; it has Ferries, Notes") {
		t.Errorf("status %d: %s", status, errs)
	}
	if out := must(t, dir, "show", "./crossings.zip"); !strings.Contains(out, "crossings.zip/2026/crossings.csv: csv; semicolons") {
		t.Error(out)
	}

	must(t, dir, "draft", ".", "--unmatched", "unknown")
	model, err := os.ReadFile(filepath.Join(dir, "ironmonger.yaml"))
	if err != nil || !strings.Contains(string(model), "sheet: Ferries") || !strings.Contains(string(model), "crossings.zip/2026/crossings.csv") {
		t.Fatal(err, string(model))
	}
	must(t, dir, "check")
	must(t, dir, "load")
	must(t, dir, "prove", "--against-sources")
	var found struct {
		Causes []struct {
			What, Mend, Example, File string
			Keys                      int `json:"natural_keys"`
		}
	}
	if err := json.Unmarshal([]byte(must(t, dir, "strays", "--causes", "--format", "json")), &found); err != nil {
		t.Fatal(err)
	}
	if len(found.Causes) != 2 || found.Causes[0].What != "written differently: upper and lower case" || found.Causes[0].Keys != 2 || found.Causes[1].What != "no member is like it" {
		t.Fatalf("%+v", found)
	}
	mended := strings.Replace(string(model), "    natural_key: code\n", "    natural_key: code\n    "+found.Causes[0].Mend+"\n", 1)
	mended = strings.Replace(mended, "unmatched: unknown", "unmatched: set_aside", 1)
	mended = strings.Replace(mended, "\"crossings.zip/2026/crossings.csv\"\n", "\"crossings.zip/2026/crossings.csv\"\n    corrections: \"mended/crossings*.csv\"\n", 1)
	mended = strings.Replace(mended, "crossings.zip/2026/crossings.csv\n", "crossings.zip/2026/crossings.csv\n    corrections: \"mended/crossings*.csv\"\n", 1)
	startest.Write(t, dir, "ironmonger.yaml", mended)
	if err := os.Remove(filepath.Join(dir, "star.db")); err != nil {
		t.Fatal(err)
	}
	must(t, dir, "load")
	out := must(t, dir, "strays", "--to", filepath.Join(dir, "mended"))
	if !strings.Contains(out, "crossings.csv") {
		t.Fatal(out)
	}
	if _, errs, status := run(t, dir, "strays", "--to", filepath.Join(dir, "mended")); status != 1 || !strings.Contains(errs, "is there already, and is not overwritten") {
		t.Errorf("status %d: %s", status, errs)
	}
	rows, err := os.ReadFile(filepath.Join(dir, "mended/crossings.csv"))
	if err != nil || !strings.Contains(string(rows), "31;none;03.03.2026;30,50;crossings.zip/2026/crossings.csv;32;") {
		t.Fatal(err, string(rows))
	}
	startest.Write(t, dir, "mended/crossings.csv", strings.Replace(string(rows), "31;none;", "31;F05;", 1))
	must(t, dir, "load")
	if out := must(t, dir, "strays"); !strings.Contains(out, "no strays") {
		t.Error(out)
	}
	must(t, dir, "prove", "--against-sources")
	if facts := startest.Star(t, dir)["fact_crossing"]; len(facts) != 60 {
		t.Errorf("%d crossings", len(facts))
	}
	if out := must(t, dir, "load"); !strings.Contains(out, "files unchanged") {
		t.Error(out)
	}
}

// TestRehearseShaped: examples are given as rows, whatever form the files have, and whenever they are complete; a key
// that cannot be read, lists with weights and balances stand as the example says.
func TestRehearseShaped(t *testing.T) {
	dir := t.TempDir()
	startest.Write(t, dir, "ironmonger.yaml", `warehouse: {sqlite: star.db}
sources:
  duty:
    read: "duty-*.xml"
    record: duty.shift
    settle: 5 min
    companion: .done
    corrections: "mended/*.jsonl"
    columns: {shift: integer, keeper: text, day: date, minutes: integer, pay: "decimal(7,2)"}
    weights: {within: shift, by: keeper, shares: minutes, parts: {pay_part: pay}}
  owed: {from: duty, periods: {by: keeper, on: day, every: month, amount: pay_part}}
dimensions:
  keeper: {from: duty, natural_key: keeper, type_1: []}
  date: {calendar: {from: 2025-01-01, to: 2025-12-31}}
facts:
  duty: {from: duty, grain: [shift, keeper], repeated: replace, keys: {keeper: keeper, day: {dimension: date, by: day}}, measures: [weight, pay_part]}
  owed: {from: owed, grain: [keeper, period], repeated: replace, keys: {month: {dimension: date, by: period}}, measures: [opening, closing, movements]}
`)
	startest.Write(t, dir, "ironmonger.examples.yaml", `a shift of two is paid once:
  arrives:
    duty: |
      shift,keeper,day,minutes,pay
      1,Ada,2025-01-03,20,10.00
      1,Bo,2025-01-03,10,10.00
      2,Bo,2025-03-01,60,5.00
  stands:
    duty: |
      shift,keeper,weight,pay_part
      1,Ada,0.666667,6.67
      1,Bo,0.333333,3.33
      2,Bo,1.000000,5.00
    owed: |
      keeper,month,opening,closing,movements
      Ada,2025-01-31,0.00,6.67,1
      Ada,2025-02-28,6.67,6.67,0
      Ada,2025-03-31,6.67,6.67,0
      Bo,2025-01-31,0.00,3.33,1
      Bo,2025-02-28,3.33,3.33,0
      Bo,2025-03-31,3.33,8.33,1
`)
	if out := must(t, dir, "rehearse"); !strings.Contains(out, "agrees") {
		t.Error(out)
	}
}
