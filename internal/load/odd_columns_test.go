package load_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ironmonger/internal/load"
	"ironmonger/internal/startest"
)

// TestOddColumns loads files whose columns have had other names, have come and gone, and have values that do not fit.
func TestOddColumns(t *testing.T) {
	const model = `warehouse: {sqlite: star.db}
limits: {set_aside: none}
sources:
  sales:
    read: "s/*"
    columns:
      no: {type: integer, header: [No, Number, Nr]}
      shop: {type: text, header: [shop, store], absent: %s}
      pieces: {type: integer, unfit: leave_empty}
      sold: {type: date, unfit: {value: 1900-01-01}}
      amount: "decimal(7,2)"
facts:
  sale: {from: sales, grain: no, degenerate: [shop, sold], measures: [pieces, amount]}
dimensions:
  date: {calendar: {from: 2024-01-01, to: 2025-12-31}}
`
	dir := t.TempDir()
	startest.Write(t, dir, "ironmonger.yaml", fmt.Sprintf(model, "leave_empty"))
	startest.Write(t, dir, "s/1.csv", "Number,store,pieces,sold,amount\n1,A,2,2025-01-02,1.00\n2,B,two,2025-01-02,2.00\n")
	startest.Write(t, dir, "s/2.csv", "amount,Nr,pieces,sold\n3.00,3,1,never\n4.0x,4,1,2025-01-02\n")
	startest.Write(t, dir, "s/3.csv", "No,Number,shop,store,pieces,sold,amount\n5,x,C,x,?,?,5.00\n")
	run, err := startest.Load(t, dir, load.Options{Piece: 10})
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, row := range startest.Star(t, dir)["fact_sale"] {
		got = append(got, strings.Join([]string{row["no"], row["shop"], row["pieces"], row["sold"], row["amount"]}, " "))
	}
	want := "1 A 2 2025-01-02 1.00; 2 B NULL 2025-01-02 2.00; 3 NULL 1 1900-01-01 3.00; 5 C NULL 1900-01-01 5.00"
	if found := strings.NewReplacer("<nil>", "NULL", "  ", " NULL ").Replace(strings.Join(got, "; ")); found != want {
		t.Errorf("%s, want %s", found, want)
	}
	figures := run.Steps[len(run.Steps)-1].Figures
	notes := strings.Join(figures.Notes, "\n")
	for _, want := range []string{
		"pieces: 2 of the values do not fit its type and are taken for nothing; for example two (s/1.csv:3)",
		"sold: 2 of the values do not fit its type and are taken for 1900-01-01; for example never (s/2.csv:2)",
	} {
		if !strings.Contains(notes, want) || figures.SetAside != 1 {
			t.Errorf("%q is not in %s; %d set aside", want, notes, figures.SetAside)
		}
	}
	if !startest.Proved(t, dir) {
		t.Error("the star is broken")
	}
	startest.Write(t, dir, "ironmonger.yaml", fmt.Sprintf(model, "stop"))
	if _, err := startest.Load(t, dir, load.Options{}); err == nil || !strings.Contains(err.Error(), "s/2.csv:1: source sales: the header has no column shop") {
		t.Errorf("a column is missing: %v", err)
	}
}

// TestNoFileYet loads from a folder into which files come, and from which they are taken once they are loaded. It may
// be empty, and a row that was set aside is loaded once its boat comes, although its file is archived.
func TestNoFileYet(t *testing.T) {
	const model = `warehouse: {sqlite: star.db}
limits: {set_aside: none}
sources:
  trips: {read: "in/*.csv", columns: {no: integer, boat: text, tons: integer}%s}
  boats: {read: boats.csv, columns: {boat: text}}
dimensions:
  boat: {from: boats, natural_key: boat}
facts:
  trip: {from: trips, grain: no, keys: {boat: {by: boat, unmatched: set_aside}}, measures: tons}
`
	dir := t.TempDir()
	startest.Write(t, dir, "ironmonger.yaml", fmt.Sprintf(model, ""))
	startest.Write(t, dir, "boats.csv", "boat\nA\n")
	if _, err := startest.Load(t, dir, load.Options{}); err == nil || !strings.Contains(err.Error(), "no file matches in/*.csv") {
		t.Errorf("no file has come: %v", err)
	}
	startest.Write(t, dir, "ironmonger.yaml", fmt.Sprintf(model, ", unreadable: pass_over"))
	facts := func(want int, note string) {
		t.Helper()
		run, err := startest.Load(t, dir, load.Options{})
		if err != nil {
			t.Fatal(err)
		}
		if n := len(startest.Star(t, dir)["fact_trip"]); n != want {
			t.Errorf("%d facts, want %d", n, want)
		}
		if notes := fmt.Sprint(run.Steps[len(run.Steps)-1].Figures.Notes); !strings.Contains(notes, note) {
			t.Errorf("%q is not in %s", note, notes)
		}
		if !startest.Proved(t, dir) {
			t.Error("the star is broken")
		}
	}
	facts(0, "source trips: no file has come")
	startest.Write(t, dir, "in/1.csv", "no,boat,tons\n1,A,5\n2,B,6\n3,C,7\n")
	facts(1, "")
	os.Remove(filepath.Join(dir, "in", "1.csv"))
	facts(1, "source trips: no file has come")
	startest.Write(t, dir, "boats.csv", "boat\nA\nB\n")
	facts(2, "a row that was set aside before was read from the ledger")
	startest.Write(t, dir, "in/2.csv", "no,boat,tons\n4,A,1\n")
	startest.Write(t, dir, "boats.csv", "boat\nA\nB\nC\n")
	facts(4, "a row that was set aside before was read from the ledger")
	os.Remove(filepath.Join(dir, "in", "2.csv"))
	facts(4, "source trips: no file has come")
}

// TestUnreadable loads keys that are made of values which do not fit their type: each points to a special member of its
// own, in each text format, whatever is derived or filtered, and a fact that is corrected later points to its day.
func TestUnreadable(t *testing.T) {
	const model = `warehouse: {sqlite: star.db}
sources:
  read: {%s, columns: {no: integer, sold: {type: date, unfit: unreadable}, amount: "decimal(7,2)"}}
  sales: {from: read, derive: {double_amount: amount * 2}}
facts:
  sale:
    from: sales
    grain: no
    repeated: replace
    keys:
      sold: {dimension: date, by: sold, missing: not_applicable}
    measures: [amount, double_amount]
dimensions:
  date: {calendar: {from: 2025-01-01, to: 2025-12-31}, special_members: {unreadable: Not a date}}
`
	for _, c := range []struct{ read, file, text, later string }{
		{"read: \"*.csv\"", "x.csv", "no,sold,amount\n1,2025-01-02,1.00\n2,soon,2.00\n3,,3.00\n4,2025-02-30,4.00\n", "no,sold,amount\n2,2025-03-01,2.00\n"},
		{"read: \"*.jsonl\"", "x.jsonl", `{"no":1,"sold":"2025-01-02","amount":1}` + "\n" + `{"no":2,"sold":"soon","amount":2}` + "\n" + `{"no":3,"amount":3}` + "\n" + `{"no":4,"sold":7,"amount":4}` + "\n",
			`{"no":2,"sold":"2025-03-01","amount":2}`},
		{"read: \"*.json\", each: rows", "x.json", `[{"rows":[{"no":1,"sold":"2025-01-02","amount":1},{"no":2,"sold":"soon","amount":2},{"no":3,"amount":3},{"no":4,"sold":7,"amount":4}]}]`,
			`[{"rows":[{"no":2,"sold":"2025-03-01","amount":2}]}]`},
	} {
		dir := t.TempDir()
		text := strings.Replace(model, "%s", c.read, 1)
		if strings.Contains(c.read, "each") {
			text = strings.NewReplacer("no: integer", "no: {type: integer, header: rows.no}", "{type: date,", "{type: date, header: rows.sold,",
				`amount: "decimal(7,2)"`, `amount: {type: "decimal(7,2)", header: rows.amount}`).Replace(text)
		}
		startest.Write(t, dir, "ironmonger.yaml", text)
		startest.Write(t, dir, c.file, c.text)
		run, err := startest.Load(t, dir, load.Options{Piece: 20})
		if err != nil {
			t.Fatal(c.file, err)
		}
		keys := func() string {
			var list []string
			for _, row := range startest.Star(t, dir)["fact_sale"] {
				list = append(list, row["no"]+":"+row["sold_date_key"])
			}
			return strings.Join(list, " ")
		}
		if got := keys(); got != "1:20250102 2:-4 3:-3 4:-4" {
			t.Errorf("%s: %s, %v", c.file, got, run.Steps[len(run.Steps)-1].Figures.Notes)
		}
		labels := 0
		for _, row := range startest.Star(t, dir)["dim_date"] {
			if row["date_key"] == "-4" && row["month_name"] == "Not a date" {
				labels++
			}
		}
		if labels != 1 || !startest.Proved(t, dir) {
			t.Errorf("%s: %d members are called so, or the star is broken", c.file, labels)
		}
		startest.Write(t, dir, "y"+c.file, c.later)
		if _, err := startest.Load(t, dir, load.Options{}); err != nil || !strings.Contains(keys(), "2:20250301") || !startest.Proved(t, dir) {
			t.Errorf("%s: %v, %s", c.file, err, keys())
		}
	}
}
