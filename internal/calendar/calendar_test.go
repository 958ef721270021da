package calendar

import (
	"testing"
	"time"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
)

// TestAgainstTime holds decades of days against package time, for every fiscal year.
func TestAgainstTime(t *testing.T) {
	for start := 1; start <= 12; start++ {
		for _, byEnd := range []bool{false, true} {
			c := &Calendar{
				From:        civil.Day(1996, 1, 1),
				To:          civil.Day(2030, 12, 31),
				FiscalStart: start,
				NamedByEnd:  byEnd,
			}
			b := column.NewBatch(c.Fields())
			if err := c.Fill(b); err != nil {
				t.Fatal(err)
			}
			value := func(name string, i int) int64 { return b.Cols[column.Find(fields, name)].Int[i] }
			text := func(name string, i int) string { return b.Cols[column.Find(fields, name)].Text[i] }
			day := time.Date(1996, 1, 1, 0, 0, 0, 0, time.UTC)
			for i := range b.N {
				isoYear, isoWeek := day.ISOWeek()
				y, m, d := day.Date()
				// the fiscal year's months are those of a year that begins so many months later
				shifted := time.Date(y, m-time.Month(start-1), 1, 0, 0, 0, 0, time.UTC)
				fiscal := int64(shifted.Year())
				if byEnd && start > 1 {
					fiscal++
				}
				for name, want := range map[string]int64{
					"day": int64(d), "month": int64(m), "quarter": int64(m+2) / 3, "year": int64(y), "iso_week": int64(isoWeek), "iso_year": int64(isoYear),
					"day_of_week": int64(day.Weekday()+6)%7 + 1, "fiscal_year": fiscal, "fiscal_month": int64(shifted.Month()),
					"fiscal_quarter": int64(shifted.Month()+2) / 3, "sort_order": int64(y*10000 + int(m)*100 + d),
				} {
					if got := value(name, i); got != want {
						t.Fatalf(
							"%s, fiscal year from month %d: %s is %d, want %d",
							day.Format(time.DateOnly),
							start,
							name,
							got,
							want,
						)
					}
				}
				if text("month_name", i) != m.String() || text("weekday_name", i) != day.Weekday().String() ||
					b.Cols[0].Value(i) != day.Format(time.DateOnly) {
					t.Fatalf(
						"%s: %s, %s, %s",
						day,
						b.Cols[0].Value(i),
						text("month_name", i),
						text("weekday_name", i),
					)
				}
				day = day.AddDate(0, 0, 1)
			}
			if want := time.Date(2031, 1, 1, 0, 0, 0, 0, time.UTC); day != want {
				t.Fatalf("the days end before %s, want %s", day, want)
			}
		}
	}
	if Key(civil.Day(2024, 2, 29)) != 20240229 || SpecialOrder(-1) <= 99991231 ||
		SpecialOrder(-2) <= SpecialOrder(-1) {
		t.Error("keys or their order")
	}
}
