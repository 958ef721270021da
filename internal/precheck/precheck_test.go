package precheck_test

import (
	"os"
	"testing"

	"ironmonger/internal/precheck"
	"ironmonger/internal/startest"
)

// TestUntaken: a sample tells what a load would set aside: what is wrong with a column that it takes, directly, by way
// of another source, a condition, a join or a derived column; and not what is wrong with another one.
func TestUntaken(t *testing.T) {
	for _, c := range []struct {
		visits, facts string
		aside         bool
	}{
		{"", "fact: {from: visits, grain: no, measures: fee}", false},
		{"", "fact: {from: visits, grain: no, degenerate: at}", true},
		{"", "fact: {from: again, grain: no, measures: fee}", false},
		{"", "fact: {from: again, grain: no, degenerate: at}", true},
		{"", "fact: {from: again, grain: no, degenerate: day}", true},
		{"", "fact: {from: again, grain: no, degenerate: day_of}", true},
		{"", "fact: {from: visits, grain: no, keys: {day: {by: at, missing: unknown}}}", true},
		{"    require: {has a time: at is not null}\n", "fact: {from: again, grain: no, measures: fee}", true},
		{"", "fact: {from: again, grain: no, keys: {day: {member: 2025-01-01}}}", false},
	} {
		dir := t.TempDir()
		startest.Write(t, dir, "ironmonger.yaml", `warehouse: {sqlite: star.db}
sources:
  visits:
    read: v.csv
    columns: {no: integer, at: timestamp, fee: "decimal(9,2)"}
`+c.visits+`  days: {from: visits, columns: [no, at]}
  again:
    from: visits
    join: {days: {by: no, bring: {at: day_of}, unmatched: leave_empty}}
    derive: {day: cast(at as date)}
dimensions:
  day: {calendar: {from: 2024-01-01, to: 2026-12-31}}
facts:
  `+c.facts+"\n")
		startest.Write(t, dir, "v.csv", "no,at,fee\n1,2025-13-01 00:00:00,5\n2,2025-01-01 00:00:00,6\n")
		root, err := os.OpenRoot(dir)
		if err != nil {
			t.Fatal(err)
		}
		m := startest.Model(t, dir)
		found, err := precheck.Look(t.Context(), root, m, m.Sources[0])
		root.Close()
		if err != nil || (len(found.Reasons) > 0) != c.aside {
			t.Errorf("%s%s: %v, %+v", c.visits, c.facts, err, found)
		}
	}
}
