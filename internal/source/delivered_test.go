package source

import (
	"testing"

	"ironmonger/internal/civil"
)

func TestDayInName(t *testing.T) {
	for name, want := range map[string]int64{
		"d/tolls-2025-01-31.csv":             civil.Day(2025, 1, 31),
		"d/tolls_20250131.csv.gz":            civil.Day(2025, 1, 31),
		"20240229":                           civil.Day(2024, 2, 29),
		"a/2024-01-01/b.csv":                 0, // of the folder
		"tolls-2025-02-30.csv":               0,
		"tolls-2025-0131.csv":                0,
		"tolls-120250131.csv":                0, // a longer number
		"from_20250101-20250131.csv":         civil.Day(2025, 1, 31),
		"2025-01-01-2025-02-01.jsonl":        civil.Day(2025, 2, 1),
		"tolls.csv":                          0,
		"":                                   0,
		`c:\tolls\2020-01-01\t20250131x.csv`: civil.Day(2025, 1, 31),
	} {
		if got, ok := DayInName(name); got != want && ok || ok != (want != 0) {
			t.Errorf("%s: %d, %v; expected %d", name, got, ok, want)
		}
	}
}
