package civil

import (
	"testing"
	"time"
)

func TestDaysAgainstTime(t *testing.T) {
	for day := Day(1, 1, 1); day <= Day(9999, 12, 31); day += 13 {
		want := time.Unix(day*86400, 0).UTC()
		y, m, d := Date(day)
		if y != want.Year() || m != int(want.Month()) || d != want.Day() || Day(y, m, d) != day {
			t.Fatalf("day %d is %d-%d-%d, want %v", day, y, m, d, want)
		}
	}
}
