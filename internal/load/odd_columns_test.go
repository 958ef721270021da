package load_test

import (
	"fmt"
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
