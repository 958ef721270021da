package calendar

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/locale"
)

// rows are the values of a calendar by column, as text; null is "".
func rows(t testing.TB, c *Calendar, listed func(*Region) []Holiday) (names []string, table map[string][]string) {
	t.Helper()
	days := c.Days(nil, listed)
	table = map[string][]string{}
	b := column.NewBatch(days.Fields())
	for p, err := range days.Pieces(t.Context()) {
		if err == nil {
			err = p.Fill(b)
		}
		if err != nil {
			t.Fatal(err)
		}
		for k, f := range days.Fields() {
			for i := range b.N {
				table[f.Name] = append(table[f.Name], b.Cols[k].Value(i))
			}
		}
	}
	return column.Names(days.Fields()), table
}

// everything lists all sets.
func everything() (names []string) {
	for _, s := range Sets() {
		names = append(names, s.Name)
	}
	return names
}

func dayIn(year, month, day int) int64 { return civil.Day(year, month, day) }

func noon(at int64) time.Time { return time.Unix(at*86400+43200, 0).UTC() }

func iso(t time.Time) string { return t.Format(time.DateOnly) }

// TestAgainstTime holds every day of 300 years against package time, and what follows from its months and weekdays.
func TestAgainstTime(t *testing.T) {
	for n, fiscal := range []Fiscal{{Start: 4}, {}, {Start: 4, ByEnd: true}, {Start: 12, ByEnd: true}, {Start: 2}} {
		c := &Calendar{From: dayIn(1900, 1, 1), To: dayIn(2199, 12, 31), Fiscal: fiscal, Chosen: everything()}
		if n > 0 {
			c.From, c.To = dayIn(1999, 1, 1), dayIn(2012, 12, 31)
		}
		_, table := rows(t, c, nil)
		start := max(fiscal.Start, 1)
		i := 0
		for at := noon(c.From); !at.After(noon(c.To)); at, i = at.AddDate(0, 0, 1), i+1 {
			y, m, d := at.Date()
			on := func(y int, m time.Month, d int) time.Time { return time.Date(y, m, d, 12, 0, 0, 0, time.UTC) }
			days := func(from, to time.Time) int { return int(to.Unix()-from.Unix()) / 86400 }
			q := (int(m) - 1) / 3
			quarter, nextQuarter := on(y, time.Month(q*3+1), 1), on(y, time.Month(q*3+4), 1)
			isoYear, isoWeek := at.ISOWeek()
			monday := at.AddDate(0, 0, -(int(at.Weekday())+6)%7)
			shifted := on(y, m-time.Month(start-1), 1)
			fiscalYear, begins := shifted.Year(), on(shifted.Year(), time.Month(start), 1)
			if fiscal.ByEnd && start > 1 {
				fiscalYear++
			}
			ends := begins.AddDate(1, 0, -1)
			fq := (int(shifted.Month()) - 1) / 3
			weekOfLastYear := ""
			if monday := isoMonday(isoYear-1, isoWeek); monday.Year() != 1 {
				weekOfLastYear = iso(monday.AddDate(0, 0, (int(at.Weekday())+6)%7))
			}
			clamped := func(y int, m time.Month) string {
				x := on(y, m, d)
				if x.Day() != d {
					x = on(y, m+1, 0)
				}
				return iso(x)
			}
			span := fmt.Sprint(begins.Year())
			if start > 1 {
				span += fmt.Sprintf("/%02d", (begins.Year()+1)%100)
			}
			want := map[string]any{
				"date": iso(at), "day": d, "month": int(m), "quarter": q + 1, "half_year": (int(m) + 5) / 6, "year": y,
				"day_of_week": (int(at.Weekday())+6)%7 + 1, "day_of_year": at.YearDay(), "day_of_quarter": days(quarter, at) + 1,
				"month_of_quarter": (int(m)-1)%3 + 1, "weekday_of_month": (d-1)/7 + 1,
				"is_last_weekday_of_month": at.AddDate(0, 0, 7).Month() != m,
				"days_in_month":            on(y, m+1, 0).Day(), "days_in_quarter": days(quarter, nextQuarter),
				"days_in_year": on(y, 12, 31).YearDay(), "days_left_in_month": on(y, m+1, 0).Day() - d,
				"days_left_in_quarter": days(at, nextQuarter) - 1, "days_left_in_year": on(y, 12, 31).YearDay() - at.YearDay(),
				"is_leap_year": on(y, 2, 29).Month() == 2,
				"month_start":  iso(on(y, m, 1)), "month_end": iso(on(y, m+1, 0)), "quarter_start": iso(quarter),
				"quarter_end": iso(nextQuarter.AddDate(0, 0, -1)), "half_year_start": iso(on(y, (m-1)/6*6+1, 1)),
				"half_year_end": iso(on(y, (m-1)/6*6+7, 0)), "year_start": iso(on(y, 1, 1)), "year_end": iso(on(y, 12, 31)),
				"is_month_start": d == 1, "is_month_end": at.AddDate(0, 0, 1).Day() == 1, "is_quarter_start": at.Equal(quarter),
				"is_quarter_end": at.AddDate(0, 0, 1).Equal(nextQuarter), "is_year_start": at.YearDay() == 1,
				"is_year_end": m == 12 && d == 31, "decade": y / 10 * 10, "century": (y-1)/100 + 1,
				"epoch_day": days(on(1970, 1, 1), at), "julian_day_number": days(on(2000, 1, 1), at) + 2451545,
				"iso_year": isoYear, "iso_week": isoWeek, "iso_week_start": iso(monday), "iso_week_end": iso(monday.AddDate(0, 0, 6)),
				"iso_weeks_in_year": weeksOf(isoYear), "iso_day_of_year": (isoWeek-1)*7 + (int(at.Weekday())+6)%7 + 1,
				"iso_week_month": int(monday.AddDate(0, 0, 3).Month()), "iso_week_quarter": (int(monday.AddDate(0, 0, 3).Month()) + 2) / 3,
				"iso_week_label": fmt.Sprintf("%d-W%02d", isoYear, isoWeek),
				"iso_date_label": fmt.Sprintf("%d-W%02d-%d", isoYear, isoWeek, (int(at.Weekday())+6)%7+1),
				"fiscal_year":    fiscalYear, "fiscal_half": (int(shifted.Month())-1)/6 + 1, "fiscal_quarter": fq + 1,
				"fiscal_month": int(shifted.Month()), "fiscal_day_of_year": days(begins, at) + 1, "fiscal_week": days(begins, at)/7 + 1,
				"fiscal_days_in_year": days(begins, ends) + 1, "fiscal_days_left_in_year": days(at, ends),
				"fiscal_year_start": iso(begins), "fiscal_year_end": iso(ends),
				"fiscal_half_start":    iso(begins.AddDate(0, (int(shifted.Month())-1)/6*6, 0)),
				"fiscal_half_end":      iso(begins.AddDate(0, (int(shifted.Month())-1)/6*6+6, -1)),
				"fiscal_quarter_start": iso(begins.AddDate(0, fq*3, 0)), "fiscal_quarter_end": iso(begins.AddDate(0, fq*3+3, -1)),
				"is_fiscal_quarter_end": at.Equal(begins.AddDate(0, fq*3+3, -1)), "is_fiscal_year_end": at.Equal(ends),
				"fiscal_year_label": fmt.Sprintf("FY%d", fiscalYear), "fiscal_year_span": span,
				"fiscal_quarter_label": fmt.Sprintf("FY%d Q%d", fiscalYear, fq+1),
				"fiscal_month_label":   fmt.Sprintf("FY%d M%02d", fiscalYear, shifted.Month()),
				"same_day_last_year":   clamped(y-1, m), "same_weekday_last_year": iso(at.AddDate(0, 0, -364)),
				"same_nth_weekday_last_year": nth(y-1, m, at.Weekday(), (d-1)/7), "iso_same_week_last_year": weekOfLastYear,
				"same_day_last_month": clamped(y, m-1), "same_day_last_quarter": clamped(y, m-3),
				"previous_month_end": iso(on(y, m, 0)), "previous_quarter_end": iso(quarter.AddDate(0, 0, -1)),
				"previous_year_end": iso(on(y, 1, 0)),
				"iso_date":          iso(at), "year_month": at.Format("2006-01"), "year_quarter": fmt.Sprintf("%d-Q%d", y, q+1),
				"month_name": m.String(), "month_short": m.String()[:3], "weekday_name": at.Weekday().String(),
				"weekday_short": at.Weekday().String()[:3], "month_label": at.Format("January 2006"),
				"month_name_in_date": m.String(), "month_short_in_date": m.String()[:3],
				"weekday_name_in_date": at.Weekday().String(), "weekday_short_in_date": at.Weekday().String()[:3],
				"quarter_name": []string{"1st", "2nd", "3rd", "4th"}[q] + " quarter", "quarter_short": fmt.Sprintf("Q%d", q+1),
				"quarter_label": fmt.Sprintf("Q%d %d", q+1, y), "date_full": at.Format("Monday, January 2, 2006"),
				"date_long": at.Format("January 2, 2006"), "date_medium": at.Format("Jan 2, 2006"), "date_short": at.Format("1/2/06"),
				"sort_order": at.Format("20060102"), "year_month_number": at.Format("200601"), "year_quarter_number": y*10 + q + 1,
				"year_week_number": isoYear*100 + isoWeek, "running_month": y*12 + int(m) - 1, "running_quarter": y*4 + q,
				"running_week":        days(on(1, 1, 1), monday) / 7,
				"fiscal_year_quarter": fiscalYear*10 + fq + 1, "fiscal_year_month": fiscalYear*100 + int(shifted.Month()),
				"running_fiscal_quarter": fiscalYear*4 + fq,
			}
			for name, value := range want {
				if got := table[name][i]; got != fmt.Sprint(value) {
					t.Fatalf("%s, fiscal year %+v: %s is %s, want %v", iso(at), fiscal, name, got, value)
				}
			}
			if i == 0 {
				for name := range table {
					if _, ok := want[name]; !ok && !strings.Contains(name, "work") && !strings.Contains(name, "holiday") &&
						!strings.Contains(name, "easter") && !slices.Contains([]string{"is_weekend", "is_half_day", "is_bridge_day", "following_in_month"}, name) {
						t.Errorf("nothing checks %s", name)
					}
				}
			}
		}
		if i != len(table["date"]) {
			t.Errorf("there are %d days, want %d", len(table["date"]), i)
		}
	}
}

// isoMonday returns the Monday of a week, or the zero time if the year has no such week.
func isoMonday(year, week int) time.Time {
	for d := time.Date(year, 1, 1, 12, 0, 0, 0, time.UTC).AddDate(0, 0, (week-1)*7-10); ; d = d.AddDate(0, 0, 1) {
		y, w := d.ISOWeek()
		if y == year && w == week && d.Weekday() == time.Monday {
			return d
		}
		if y > year {
			return time.Time{}
		}
	}
}

func weeksOf(isoYear int) int {
	_, week := time.Date(isoYear, 12, 28, 12, 0, 0, 0, time.UTC).ISOWeek()
	return week
}

// nth returns the weekday of a month that n of its kind come before, or nothing.
func nth(year int, month time.Month, weekday time.Weekday, n int) string {
	for d := time.Date(year, month, 1, 12, 0, 0, 0, time.UTC); d.Month() == (month-1)%12+1; d = d.AddDate(0, 0, 1) {
		if d.Weekday() == weekday {
			if n == 0 {
				return iso(d)
			}
			n--
		}
	}
	return ""
}

// TestRetailYears holds the years of 53 weeks against those that are published, and against ISO 8601 and
// epidemiological weeks, which are the same thing.
func TestRetailYears(t *testing.T) {
	for _, x := range []struct {
		month, weekday int
		nearest, start bool
		long           string
	}{
		{1, 6, true, true, "2000 2006 2012 2017 2023 2028 2034 2040 2045"},
		{1, 6, false, true, "2003 2008 2014 2020 2025 2031 2036 2042 2048"},
		{8, 6, false, false, "2002 2008 2013 2019 2024 2030 2036 2041 2047"},
		{8, 6, true, false, "2000 2005 2011 2016 2022 2028 2033 2039 2044 2050"},
		{9, 6, false, false, "2000 2006 2012 2017 2023 2028 2034 2040 2045"},
		{6, 6, false, false, "2001 2007 2012 2018 2024 2029 2035 2040 2046"},
		{12, 6, true, false, "2003 2008 2014 2020 2025 2031 2036 2042 2048"},
		{12, 6, true, true, "2003 2008 2014 2020 2025 2031 2036 2042 2048"},
		{12, 6, false, false, "2000 2005 2011 2016 2022 2028 2033 2039 2044 2050"},
		{12, 7, true, false, "2004 2009 2015 2020 2026 2032 2037 2043 2048"},
	} {
		r := &Retail{Weekday: x.weekday, Month: x.month, Nearest: x.nearest, ByStart: x.start, Pattern: [3]int{4, 5, 4}, Extra: 12}
		c := &Calendar{From: dayIn(1999, 1, 1), To: dayIn(2052, 12, 31), Retail: r, Chosen: []string{"retail", "iso_year", "iso_week"}}
		_, table := rows(t, c, nil)
		long := map[string]bool{}
		for i, year := range table["retail_year"] {
			if table["retail_is_week_53"][i] == "true" && year >= "2000" && year <= "2050" {
				long[year] = true
			}
			if x.weekday == 7 && (year != table["iso_year"][i] || table["retail_week"][i] != table["iso_week"][i]) {
				t.Fatalf("%s is not a day of the ISO week", table["date"][i])
			}
		}
		for _, year := range strings.Fields(x.long) {
			if !long[year] {
				t.Errorf("%+v: %s has no week 53", x, year)
			}
			delete(long, year)
		}
		if len(long) > 0 {
			t.Errorf("%+v: %v have a week 53", x, long)
		}
	}
}

// TestRetail holds years of weeks against a count day by day: the years end as declared, and weeks follow each other.
func TestRetail(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for n := range 12 {
		x := &Retail{
			Weekday: 1 + r.IntN(7), Month: 1 + n%12, Nearest: r.IntN(2) == 0, ByStart: r.IntN(2) == 0,
			Pattern: [][3]int{{4, 4, 5}, {4, 5, 4}, {5, 4, 4}}[r.IntN(3)], Extra: r.IntN(13),
		}
		c := &Calendar{From: dayIn(1995, 6, 1), To: dayIn(2045, 12, 31), Retail: x, Chosen: []string{"retail", "sort"}}
		_, table := rows(t, c, nil)
		isEnd := func(at time.Time) (anchor time.Time, ok bool) {
			if int(at.Weekday()+6)%7+1 != x.Weekday {
				return at, false
			}
			for back := range 7 {
				for _, day := range []time.Time{at.AddDate(0, 0, back), at.AddDate(0, 0, -back)} {
					last := int(day.Month()) == x.Month && day.AddDate(0, 0, 1).Month() != day.Month()
					if last && (x.Nearest && back <= 3 || !x.Nearest && !day.Before(at)) {
						return day, true
					}
				}
			}
			return at, false
		}
		i := 0 // the first day after the end of a year
		for _, ok := isEnd(noon(c.From + int64(i) - 1)); !ok; _, ok = isEnd(noon(c.From + int64(i) - 1)) {
			i++
		}
		type year struct{ first, weeks, number int }
		var years []year
		for at := i; at < len(table["date"]); at++ {
			if anchor, ok := isEnd(noon(c.From + int64(at))); ok {
				y := year{i, (at + 1 - i) / 7, anchor.Year()}
				if (at+1-i)%7 != 0 {
					t.Fatal("a year of broken weeks")
				}
				if x.ByStart {
					y.number = anchor.AddDate(-1, 0, 1).Year()
				}
				years, i = append(years, y), at+1
			}
		}
		for k, y := range years[1:] {
			week := 0
			show := func(at int, name string, want any) {
				t.Helper()
				if got := table[name][at]; got != fmt.Sprint(want) {
					t.Fatalf("%+v: %s of %s is %q, want %v", x, name, table["date"][at], got, want)
				}
			}
			for period := 1; period <= 12; period++ {
				weeks := x.Pattern[(period-1)%3]
				if y.weeks == 53 && period == x.Extra {
					weeks++
				}
				for w := range weeks * 7 {
					at := y.first + week*7 + w
					show(at, "retail_period", period)
					show(at, "retail_quarter", (period+2)/3)
					show(at, "retail_half", (period+5)/6)
					show(at, "retail_week_of_period", w/7+1)
					show(at, "retail_weeks_in_period", weeks)
					show(at, "retail_period_start", table["date"][y.first+week*7])
					show(at, "retail_year_period", y.number*100+period)
					show(at, "running_retail_quarter", y.number*4+(period+2)/3-1)
					show(at, "retail_period_label", fmt.Sprintf("%d-P%02d", y.number, period))
				}
				week += weeks
			}
			for at := y.first; at < y.first+y.weeks*7; at++ {
				w := (at-y.first)/7 + 1
				show(at, "retail_year", y.number)
				show(at, "retail_week", w)
				show(at, "retail_weeks_in_year", y.weeks)
				show(at, "retail_year_start", table["date"][y.first])
				show(at, "retail_week_end", iso(noon(c.From+int64(y.first+w*7-1))))
				show(at, "retail_week_label", fmt.Sprintf("%d-W%02d", y.number, w))
				show(at, "retail_comparable_date", iso(noon(c.From+int64(at)-364)))
				if before := years[k]; w <= before.weeks {
					show(at, "retail_same_week_last_year", table["date"][before.first+at-y.first])
				} else {
					show(at, "retail_same_week_last_year", "")
				}
				switch {
				case y.weeks == 52:
					show(at, "retail_restated_week", w)
				case w == 1:
					show(at, "retail_restated_year", "")
				default:
					show(at, "retail_restated_week", w-1)
				}
				if w == 53 && x.Extra == 0 {
					show(at, "retail_period", "")
					show(at, "retail_year_period", y.number*100+99)
					show(at, "retail_quarter_label", "")
				}
			}
		}
	}
}

// TestWeek holds weeks of any first weekday against a count day by day.
func TestWeek(t *testing.T) {
	for first := 1; first <= 7; first++ {
		for least := 1; least <= 7; least++ {
			c := &Calendar{From: dayIn(1990, 1, 1), To: dayIn(2030, 12, 31), Week: Week{first, least}, Chosen: []string{"week", "iso", "week_year_week"}}
			_, table := rows(t, c, nil)
			for i := range table["date"] {
				at := noon(c.From + int64(i))
				start := at
				for int(start.Weekday()+6)%7+1 != first {
					start = start.AddDate(0, 0, -1)
				}
				year := start.Year() // the week is of the year after if enough of its days are in that
				if in := start.AddDate(0, 0, 6); in.Year() > year && in.YearDay() >= least {
					year++
				}
				if got := table["week_year"][i]; got != fmt.Sprint(year) {
					t.Fatalf("%d, %d: week_year of %s is %s, want %d", first, least, iso(at), got, year)
				}
				row, ofYear := 1, 1
				for d := time.Date(at.Year(), at.Month(), 2, 12, 0, 0, 0, time.UTC); !d.After(at); d = d.AddDate(0, 0, 1) {
					if int(d.Weekday()+6)%7+1 == first {
						row++
					}
				}
				if i > 0 {
					fmt.Sscan(table["week_of_calendar_year"][i-1], &ofYear)
					if at.YearDay() == 1 {
						ofYear = 1
					} else if start.Equal(at) {
						ofYear++
					}
				}
				week := 1
				if i > 6 && table["week_year"][i-7] == table["week_year"][i] {
					fmt.Sscan(table["week_of_year"][i-7], &week)
					week++
				}
				for name, want := range map[string]any{
					"week_start": iso(start), "week_day": int(at.Sub(start).Hours()/24+0.5) + 1, "week_of_month": row, "week_of_calendar_year": ofYear,
					"week_label": fmt.Sprintf("%d-W%02d", year, week),
				} {
					if got := table[name][i]; i > 370 && got != fmt.Sprint(want) {
						t.Fatalf("%d, %d: %s of %s is %s, want %v", first, least, name, iso(at), got, want)
					}
				}
				if first == 1 && least == 4 && (table["week_of_year"][i] != table["iso_week"][i] || table["weeks_in_week_year"][i] != table["iso_weeks_in_year"][i]) {
					t.Fatalf("%s: not the ISO week", iso(at))
				}
			}
		}
	}
}

func when(t testing.TB, s string) When {
	t.Helper()
	w, err := ParseWhen(s)
	if err != nil {
		t.Fatal(err)
	}
	return w
}

// TestHolidays holds rules as laws have them against the lists that governments have published.
func TestHolidays(t *testing.T) {
	both := map[int]Substitute{6: Next, 7: Next}
	nearest := map[int]Substitute{6: Previous, 7: Next}
	rule := func(name, on string, by map[int]Substitute) Rule {
		return Rule{Name: name, On: when(t, on), Substitutes: by}
	}
	juneteenth := rule("Juneteenth", "19 june", nearest)
	juneteenth.Since = 2021
	for _, x := range []struct {
		region *Region
		days   string // Monday to Friday
	}{
		{ // England and Wales: Banking and Financial Dealings Act 1971, and royal proclamations
			&Region{Weekend: []int{6, 7}, Holidays: []Rule{
				rule("New Year", "1 january", both), rule("Good Friday", "easter - 2", nil), rule("Easter Monday", "easter + 1", nil),
				rule("Early May", "first monday of may", nil), rule("Spring", "last monday of may", nil),
				rule("Summer", "last monday of august", nil), rule("Christmas", "25 december", both), rule("Boxing Day", "26 december", both),
			}},
			"2021-01-01 2021-04-02 2021-04-05 2021-05-03 2021-05-31 2021-08-30 2021-12-27 2021-12-28 " +
				"2024-01-01 2024-03-29 2024-04-01 2024-05-06 2024-05-27 2024-08-26 2024-12-25 2024-12-26 " +
				"2025-01-01 2025-04-18 2025-04-21 2025-05-05 2025-05-26 2025-08-25 2025-12-25 2025-12-26 " +
				"2026-01-01 2026-04-03 2026-04-06 2026-05-04 2026-05-25 2026-08-31 2026-12-25 2026-12-28",
		},
		{ // the United States: 5 U.S.C. 6103
			&Region{Weekend: []int{6, 7}, Holidays: []Rule{
				rule("New Year", "1 january", nearest), rule("King", "third monday of january", nil), rule("Washington", "third monday of february", nil),
				rule("Memorial Day", "last monday of may", nil), juneteenth, rule("Independence Day", "4 july", nearest),
				rule("Labor Day", "first monday of september", nil), rule("Columbus Day", "second monday of october", nil),
				rule("Veterans Day", "11 november", nearest), rule("Thanksgiving", "fourth thursday of november", nil), rule("Christmas", "25 december", nearest),
			}},
			"2020-01-01 2020-01-20 2020-02-17 2020-05-25 2020-07-03 2020-09-07 2020-10-12 2020-11-11 2020-11-26 2020-12-25 " +
				"2021-01-01 2021-01-18 2021-02-15 2021-05-31 2021-06-18 2021-07-05 2021-09-06 2021-10-11 2021-11-11 2021-11-25 2021-12-24 2021-12-31 " +
				"2022-01-17 2022-02-21 2022-05-30 2022-06-20 2022-07-04 2022-09-05 2022-10-10 2022-11-11 2022-11-24 2022-12-26 " +
				"2023-01-02 2023-01-16 2023-02-20 2023-05-29 2023-06-19 2023-07-04 2023-09-04 2023-10-09 2023-11-10 2023-11-23 2023-12-25",
		},
		{ // Saxony: Gesetz über Sonn- und Feiertage im Freistaat Sachsen, § 1, and the Unification Treaty, article 2
			&Region{Weekend: []int{6, 7}, Holidays: []Rule{
				rule("Neujahr", "1 january", nil), rule("Karfreitag", "easter - 2", nil), rule("Ostermontag", "easter + 1", nil),
				rule("Tag der Arbeit", "1 may", nil), rule("Himmelfahrt", "easter + 39", nil), rule("Pfingstmontag", "easter + 50", nil),
				rule("Tag der Deutschen Einheit", "3 october", nil), rule("Reformationstag", "31 october", nil),
				rule("Buß- und Bettag", "wednesday before 23 november", nil),
				rule("1. Weihnachtstag", "25 december", nil), rule("2. Weihnachtstag", "26 december", nil),
			}},
			"2022-04-15 2022-04-18 2022-05-26 2022-06-06 2022-10-03 2022-10-31 2022-11-16 2022-12-26 " +
				"2023-04-07 2023-04-10 2023-05-01 2023-05-18 2023-05-29 2023-10-03 2023-10-31 2023-11-22 2023-12-25 2023-12-26 " +
				"2024-01-01 2024-03-29 2024-04-01 2024-05-01 2024-05-09 2024-05-20 2024-10-03 2024-10-31 2024-11-20 2024-12-25 2024-12-26 " +
				"2025-01-01 2025-04-18 2025-04-21 2025-05-01 2025-05-29 2025-06-09 2025-10-03 2025-10-31 2025-11-19 2025-12-25 2025-12-26",
		},
	} {
		years := map[string]bool{}
		for _, day := range strings.Fields(x.days) {
			years[day[:4]] = true
		}
		c := &Calendar{From: dayIn(2019, 1, 1), To: dayIn(2027, 12, 31), Regions: []*Region{x.region}, Chosen: []string{"working_days"}}
		_, table := rows(t, c, nil)
		var found []string
		for i, day := range table["date"] {
			if years[day[:4]] && table["is_holiday"][i] == "true" && table["is_weekend"][i] == "false" {
				found = append(found, day)
			}
		}
		if got := strings.Join(found, " "); got != x.days {
			t.Errorf("%s: got\n%s, want\n%s", x.region.Holidays[2].Name, got, x.days)
		}
	}
}

// TestEaster holds both feasts against the tables of full moons by which the churches define them.
func TestEaster(t *testing.T) {
	for year := 1900; year < 2200; year++ {
		// the Gregorian paschal full moons by golden number: the table of the Book of Common Prayer, for 1900 to 2199
		moons := strings.Fields("4-14 4-3 3-23 4-11 3-31 4-18 4-8 3-28 4-16 4-5 3-25 4-13 4-2 3-22 4-10 3-30 4-17 4-7 3-27")
		var m, d int
		fmt.Sscanf(moons[year%19], "%d-%d", &m, &d)
		full := time.Date(year, time.Month(m), d, 12, 0, 0, 0, time.UTC)
		if got := noon(Easter(year)); !got.Equal(full.AddDate(0, 0, 7-int(full.Weekday()))) {
			t.Fatalf("Easter %d is %s", year, iso(got))
		}
		// the Julian ones, 13 or 14 days later in the Gregorian calendar
		moons = strings.Fields("4-5 3-25 4-13 4-2 3-22 4-10 3-30 4-18 4-7 3-27 4-15 4-4 3-24 4-12 4-1 3-21 4-9 3-29 4-17")
		fmt.Sscanf(moons[year%19], "%d-%d", &m, &d)
		shift := 13
		if year >= 2100 {
			shift = 14
		}
		full = time.Date(year, time.Month(m), d+shift, 12, 0, 0, 0, time.UTC)
		if got := noon(OrthodoxEaster(year)); !got.Equal(full.AddDate(0, 0, 7-int(full.Weekday()))) {
			t.Fatalf("orthodox Easter %d is %s", year, iso(got))
		}
	}
	for year, want := range map[int]string{1961: "1961-04-02 1961-04-09", 2008: "2008-03-23 2008-04-27", 2024: "2024-03-31 2024-05-05", 2025: "2025-04-20 2025-04-20", 2038: "2038-04-25 2038-04-25"} {
		if got := iso(noon(Easter(year))) + " " + iso(noon(OrthodoxEaster(year))); got != want {
			t.Errorf("got %s, want %s", got, want)
		}
	}
}

// TestWorkingDays holds working days against a count day by day, for random weekends, rules and lists.
func TestWorkingDays(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for range 20 {
		x := &Region{Name: "north"}
		for day := 1; day <= 7; day++ {
			if r.IntN(4) == 0 {
				x.Weekend = append(x.Weekend, day)
			}
		}
		c := &Calendar{From: dayIn(2019, 1, 1) + int64(r.IntN(400)), Regions: []*Region{x}, Chosen: []string{"working_days"}}
		c.To = c.From + int64(r.IntN(1500))
		off, half, names := map[string]bool{}, map[string]bool{}, map[string][]string{}
		var listed []Holiday
		for n := range r.IntN(120) {
			h := Holiday{Day: c.From - 300 + int64(r.IntN(2100)), Name: fmt.Sprint("H", n%40), Half: r.IntN(4) == 0}
			listed = append(listed, h)
			day := iso(noon(h.Day))
			off[day], half[day] = off[day] || !h.Half, half[day] || h.Half
			if !slices.Contains(names[day], h.Name) {
				names[day] = append(names[day], h.Name)
			}
		}
		_, table := rows(t, c, func(*Region) []Holiday { return listed })
		works := func(at time.Time) bool {
			return !off[iso(at)] && !slices.Contains(x.Weekend, int(at.Weekday()+6)%7+1)
		}
		between := func(from, to time.Time) (n int) { // to is included
			for ; !from.After(to); from = from.AddDate(0, 0, 1) {
				if works(from) {
					n++
				}
			}
			return n
		}
		step := func(at time.Time, by int) string {
			for n := 0; n < 350; n++ {
				if at = at.AddDate(0, 0, by); works(at) {
					return iso(at)
				}
			}
			return ""
		}
		for i := range table["date"] {
			at := noon(c.From + int64(i))
			y, m, _ := at.Date()
			first, last := time.Date(y, m, 1, 12, 0, 0, 0, time.UTC), time.Date(y, m+1, 0, 12, 0, 0, 0, time.UTC)
			slices.Sort(names[iso(at)])
			on := works(at)
			following := iso(at)
			if !on {
				following = step(at, 1)
			}
			inMonth := following
			if following == "" || following[:7] != iso(at)[:7] {
				inMonth = step(at, -1)
			}
			before, after := at.AddDate(0, 0, -1), at.AddDate(0, 0, 1)
			for name, want := range map[string]any{
				"is_weekend": slices.Contains(x.Weekend, int(at.Weekday()+6)%7+1), "is_holiday": off[iso(at)],
				"holiday_name": strings.Join(names[iso(at)], ", "), "is_working_day": on, "is_half_day": on && half[iso(at)],
				"working_day_of_month": between(first, at), "working_days_in_month": between(first, last),
				"working_days_left_in_month": between(after, last), "working_day_of_year": between(time.Date(y, 1, 1, 12, 0, 0, 0, time.UTC), at),
				"working_days_in_year":   between(time.Date(y, 1, 1, 12, 0, 0, 0, time.UTC), time.Date(y, 12, 31, 12, 0, 0, 0, time.UTC)),
				"working_day_of_quarter": between(time.Date(y, (m-1)/3*3+1, 1, 12, 0, 0, 0, time.UTC), at),
				"working_day_number":     between(noon(c.From), at), "next_working_day": step(at, 1), "previous_working_day": step(at, -1),
				"following_working_day": following, "following_in_month": inMonth,
				"is_first_working_day_of_month": on && between(first, at) == 1, "is_last_working_day_of_month": on && between(at, last) == 1,
				"is_bridge_day":         on && !works(before) && !works(after) && (off[iso(before)] || off[iso(after)]),
				"is_day_before_holiday": off[iso(after)], "is_day_after_holiday": off[iso(before)],
			} {
				if got := table["north_"+name][i]; got != fmt.Sprint(want) {
					t.Fatalf("weekend %v: %s of %s is %s, want %v", x.Weekend, name, iso(at), got, want)
				}
			}
		}
	}
}

// TestWhen reads days of the year in all forms, and refuses others.
func TestWhen(t *testing.T) {
	for s, want := range map[string]string{
		"25 december": "2025-12-25", "29 february": "", "first monday of september": "2025-09-01", "fifth friday of may": "2025-05-30",
		"fifth monday of may": "", "last friday of may": "2025-05-30", "easter": "2025-04-20", "easter - 2": "2025-04-18",
		"orthodox easter + 50": "2025-06-09", "saturday from 1 november": "2025-11-01", "saturday after 1 november": "2025-11-08",
		"saturday until 1 november": "2025-11-01", "saturday before 1 november": "2025-10-25", "wednesday before 23 november": "2025-11-19",
	} {
		at, ok := when(t, s).In(2025)
		if got := iso(noon(at)); ok != (want != "") || ok && got != want {
			t.Errorf("%s: %s, %v", s, got, ok)
		}
	}
	for _, s := range []string{
		"", "december", "31 june", "0 may", "december 25", "sixth monday of may", "first monday in may", "monday 1 may", "easter 2", "easter + x",
		"orthodox", "first of may", "monday near 1 may", "easter - -2", "25 December",
	} {
		if w, err := ParseWhen(s); err == nil {
			t.Errorf("%q is %+v", s, w)
		}
	}
}

func full(t testing.TB, languages ...string) *Calendar {
	c := &Calendar{
		From: dayIn(1900, 1, 1), To: dayIn(2199, 12, 31), Fiscal: Fiscal{Start: 4}, Week: Week{7, 1},
		Retail:  &Retail{Weekday: 6, Month: 1, Nearest: true, ByStart: true, Pattern: [3]int{4, 5, 4}, Extra: 12},
		Regions: []*Region{{Weekend: []int{6, 7}, Holidays: []Rule{{Name: "Easter Monday", On: when(t, "easter + 1")}, {Name: "Year", On: when(t, "1 january")}}}},
		Chosen:  everything(),
	}
	for _, tag := range languages {
		l, err := locale.Find(tag)
		if err != nil {
			t.Fatal(err)
		}
		c.Languages = append(c.Languages, l)
	}
	return c
}

// BenchmarkDays makes 300 years with all sets in five languages.
func BenchmarkDays(b *testing.B) {
	c := full(b, "en", "de", "pl", "ar", "ja")
	batch := column.NewBatch(c.Fields())
	b.ReportMetric(float64(len(c.Fields())), "columns")
	for b.Loop() {
		for p, err := range c.Days(nil, nil).Pieces(b.Context()) {
			if err == nil {
				err = p.Fill(batch)
			}
			if err != nil {
				b.Fatal(err)
			}
		}
	}
}
