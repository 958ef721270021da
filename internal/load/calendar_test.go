package load_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"ironmonger/internal/column"
	"ironmonger/internal/load"
	"ironmonger/internal/startest"
	"ironmonger/internal/warehouse"
)

// onBoth runs a test on both warehouses; warehouse is the section of the model.
func onBoth(t *testing.T, f func(t *testing.T, warehouse string)) {
	t.Run("sqlite", func(t *testing.T) { f(t, "warehouse: {sqlite: star.db}\n") })
	t.Run("postgres", func(t *testing.T) {
		connection, schema := startest.Postgres(t)
		f(t, "warehouse: {postgres: \""+connection+"\", schema: "+schema+"}\n")
	})
}

const calendarModel = `sources:
  gazette: {read: gazette.csv, columns: {day: date, what: text, half: boolean}}
  feed: {read: feed.ics, events: {categories: [public]}}
  days:
    calendar:
      from: 1969-12-01
      to: 1971-03-31
      attributes: [basic, retail, working_days, compare, labels]
      fiscal_year: {starts: april, named_by: end}
      retail_year: {ends_on: saturday, month: january, rule: nearest, named_by: start, pattern: 4-5-4}
      languages: [de, cs]
      regions:
        north:
          holidays:
            - {name: Easter Monday, on: easter + 1}
            - {from: gazette, date: day, name: what, half: half}
        south:
          weekend: EG
          holidays:
            - {region: north}
            - {from: feed, date: date, name: name}
    derive:
      is_peak: month in (11, 12)
  months:
    from: dimension date
    group: {by: [year_month, month_name_cs], aggregates: {days: count, work: max(north_working_day_of_month)}}
  sales: {read: sales.csv, columns: {no: integer, at: timestamp, amount: "decimal(9,2)"}}
  prices: {read: prices.csv, columns: {code: text, price: integer, since: date}}
dimensions:
  date: {from: days, natural_key: date}
  month: {from: months, natural_key: year_month}
  counted: {calendar: {from: 1970-01-01, to: 1970-12-31, key: {days_since: 1899-12-30}}}
  numbered: {calendar: {from: 1970-01-01, to: 1970-12-31, key: numbered, attributes: [day, is_weekend]}, surrogate_key: {start: 7, step: 3}}
  price: {from: prices, natural_key: code, type_2: price, effective: since}
facts:
  sale:
    from: sales
    grain: no
    keys:
      date: {by: at}
      counted: {by: at, unmatched: unknown}
      numbered: {by: at, unmatched: unknown}
    measures: amount
`

// TestCalendar loads calendars with holidays of all kinds under keys of all forms: rows change where a holiday does,
// and nothing else; damage is told.
func TestCalendar(t *testing.T) {
	onBoth(t, func(t *testing.T, warehouse string) {
		t.Setenv("IRONMONGER_SETTLED", "1")
		dir := t.TempDir()
		loads := func() (changed, made int64) {
			t.Helper()
			run, err := startest.Load(t, dir, load.Options{})
			if err != nil {
				t.Fatal(err)
			}
			for _, s := range run.Steps {
				if s.Message != "" {
					t.Error(s.Message)
				}
				if s.Name == "dimension date" {
					changed, made = s.Figures.Changed, s.Figures.New
				}
			}
			return changed, made
		}
		dates := func(table, where string) (list []string) {
			for _, r := range startest.Star(t, dir)[table] {
				if name, value, _ := strings.Cut(where, "="); r[name] == value {
					list = append(list, r["date"])
				}
			}
			slices.Sort(list)
			return list
		}
		startest.Write(t, dir, "ironmonger.yaml", warehouse+calendarModel)
		startest.Write(t, dir, "gazette.csv", "day,what,half\n1970-07-04,Founders,\n1970-12-24,Eve,true\n,nothing,\n")
		startest.Write(t, dir, "feed.ics", "BEGIN:VCALENDAR\nBEGIN:VEVENT\nDTSTART;VALUE=DATE:19691002\nRRULE:FREQ=YEARLY\nCATEGORIES:PUBLIC\nSUMMARY:Harvest\nEND:VEVENT\n"+
			"BEGIN:VEVENT\nDTSTART;VALUE=DATE:19700505\nSUMMARY:Not public\nEND:VEVENT\nEND:VCALENDAR\n")
		startest.Write(t, dir, "sales.csv", "no,at,amount\n1,1970-01-01 00:00:00,1.00\n2,1970-12-31 23:59:59,2.00\n3,1971-01-01 00:00:00,3.00\n4,1971-04-01 00:00:00,4.00\n")
		startest.Write(t, dir, "prices.csv", "code,price,since\nA,1,1970-01-01\n")
		if changed, made := loads(); made != 486 || changed != 0 {
			t.Fatalf("%d days are made", made)
		}
		if n := waiting(t, dir, "gazette"); n != 1 {
			t.Errorf("%d rows of the list wait", n)
		}
		for where, want := range map[string]string{
			"north_is_holiday=true":  "1970-03-30 1970-07-04",
			"south_is_holiday=true":  "1970-03-30 1970-07-04 1970-10-02",
			"north_is_half_day=true": "1970-12-24", "month_name_cs=červenec": "1970-07",
		} {
			got := dates("dim_date", where)
			if strings.HasPrefix(where, "month") {
				got = []string{got[0][:7]}
			}
			if strings.Join(got, " ") != want {
				t.Errorf("%s: %v", where, got)
			}
		}
		for _, r := range startest.Star(t, dir)["fact_sale"] {
			want := map[string]string{"1": "19700101 25569 7", "2": "19701231 25933 1099", "3": "19710101 -1 -1"}[r["no"]]
			if got := r["date_key"] + " " + r["counted_key"] + " " + r["numbered_key"]; got != want {
				t.Errorf("sale %s: %s, want %s", r["no"], got, want)
			}
		}
		before := startest.Dump(t, dir)
		if changed, made := loads(); changed+made > 0 || startest.Dump(t, dir) != before || !startest.Proved(t, dir) {
			t.Errorf("loaded again: %d changed, %d made", changed, made)
		}
		// half a day more: the count of working days stays
		startest.Write(t, dir, "gazette.csv", "day,what,half\n1970-07-04,Founders,\n1970-12-24,Eve,true\n1970-12-30,Eve,true\n")
		if changed, made := loads(); changed != 1 || made != 0 || !startest.Proved(t, dir) {
			t.Errorf("half a day has changed %d rows, and made %d", changed, made)
		}
		for _, damage := range []struct{ by, broken string }{
			{"UPDATE dim_date SET retail_week = 9 WHERE date_key = 19700704", "sources of dim_date"},
			{"DELETE FROM dim_numbered WHERE numbered_key = 100", "calendar of dim_numbered"},
			{"UPDATE dim_counted SET counted_key = 3 WHERE counted_key = 25600", "calendar of dim_counted"},
		} {
			startest.Run(t, dir, damage.by)
			if broken := startest.Broken(t, dir); !slices.Contains(broken, damage.broken) {
				t.Errorf("%s: %v", damage.by, broken)
			}
		}
		startest.Write(t, dir, "ironmonger.yaml", warehouse+strings.Replace(calendarModel, "to: 1971-03-31", "to: 1971-02-28", 1))
		if run, err := startest.Load(t, dir, load.Options{}); err == nil || !strings.Contains(run.Steps[0].Message+run.Steps[1].Message, "days are not removed") {
			t.Errorf("a calendar has been cut short: %+v", run.Steps[0])
		}
	})
}

// TestGrowing: a calendar has the whole years of the days that facts have, however the facts are cut into loads, and in
// whatever order they come.
func TestGrowing(t *testing.T) {
	manyCases(t, 2, func(t *testing.T, seed uint64) {
		r := rand.New(rand.NewPCG(seed, 9))
		begins := []string{"from: data\n      at_least: 1960-05-01", "from: 1965-03-01"}[r.IntN(2)]
		ends := []string{"to: data\n      at_most: 2031-10-31", "to: 2020-01-31"}[r.IntN(2)]
		if begins[6:7] != "d" && ends[4:5] != "d" {
			ends = "to: data\n      at_most: 2031-10-31"
		}
		years := []string{"", "fiscal_year: {starts: april, named_by: start}\n      ", "retail_year: {ends_on: sunday, month: may, rule: last, named_by: end, pattern: 4-4-5}\n      "}[r.IntN(3)]
		key := []string{"yyyymmdd", "numbered", "{days_since: 1950-01-01}"}[r.IntN(3)]
		model := `sources:
  sales: {read: "s/*", columns: {no: integer, at: timestamp, due: date}}
  days: {calendar: {` + strings.NewReplacer("\n      ", ", ").Replace(begins+"\n      "+ends+"\n      "+years) + `key: ` + key + `, attributes: [basic, working_days]}}
  months: {from: dimension date, group: {by: [year, month], aggregates: {days: count, last: max(date)}}}
dimensions:
  month: {from: months, natural_key: [year, month], type_1: [days, last]}
  date: {from: days, natural_key: date}
facts:
  sale: {from: sales, grain: ` + []string{"no", "[no, at]"}[r.IntN(2)] + `, keys: {at: {dimension: date, by: at}, due: {dimension: date, by: due, unmatched: unknown, missing: not_yet}}}
`
		var rows []string
		for no := range 1 + r.IntN(40) {
			day := func(sure bool) string {
				switch n := r.IntN(12); {
				case n == 0 && !sure:
					return ""
				case n == 1:
					return []string{"1960-04-30", "2031-11-01", "9999-12-31", "1900-01-01", "2033-07-01"}[r.IntN(5)]
				case n < 4:
					return time.Date(1960+r.IntN(72), 5, r.IntN(360), 0, 0, 0, 0, time.UTC).Format(time.DateOnly)
				}
				return time.Date(1990, 1, r.IntN(2000), 0, 0, 0, 0, time.UTC).Format(time.DateOnly)
			}
			rows = append(rows, fmt.Sprintf("%d,%s 12:00:00,%s\n", no, day(true), day(false)))
		}
		var dumps []string
		wide := strings.NewReplacer("at_most: 2031", "at_most: 2035", "at_least: 1960", "at_least: 1955")
		for n := range 4 { // at once; in parts, in another order; with wider limits from the first on; and widened later
			dir := t.TempDir()
			now := model
			if n == 2 {
				now = wide.Replace(model)
			}
			warehouse := "warehouse: {sqlite: star.db}\n"
			if seed%4 == 3 {
				connection, schema := startest.Postgres(t)
				warehouse = "warehouse: {postgres: \"" + connection + "\", schema: " + schema + "}\n"
			}
			startest.Write(t, dir, "ironmonger.yaml", warehouse+now)
			if n == 1 {
				r.Shuffle(len(rows), func(i, j int) { rows[i], rows[j] = rows[j], rows[i] })
			}
			for part, left := 0, rows; len(left) > 0; part++ {
				take := len(left)
				if n%2 == 1 {
					take = 1 + r.IntN(len(left))
				}
				startest.Write(t, dir, fmt.Sprintf("s/%d.csv", part), "no,at,due\n"+strings.Join(left[:take], ""))
				left = left[take:]
				for range 1 + r.IntN(2) { // what is made of the calendar needs no second load
					if _, err := startest.Load(t, dir, load.Options{Workers: 1 + r.IntN(3), Piece: 50}); err != nil {
						t.Fatal(err, "\n", model)
					}
				}
				if !startest.Proved(t, dir) {
					t.Fatalf("the star is broken:\n%s", model)
				}
			}
			without := []string{"load_run", "load_line", "month_key"}
			if key == "numbered" {
				without = append(without, "date_key", "at_date_key", "due_date_key")
			}
			if n == 3 {
				startest.Write(t, dir, "ironmonger.yaml", warehouse+wide.Replace(model))
				if _, err := startest.Load(t, dir, load.Options{}); err != nil || !startest.Proved(t, dir) {
					t.Fatalf("%v: grown further, the star is broken:\n%s", err, model)
				}
			}
			dumps = append(dumps, startest.Dump(t, dir, without...))
			if n < 2 {
				checkGrown(t, dir, model, rows, begins, ends)
			}
		}
		for n := range 2 {
			if dumps[2*n] != dumps[2*n+1] {
				t.Errorf("loaded otherwise (%d), another star:\n%s\n%s", n, startest.Difference(dumps[2*n], dumps[2*n+1]), model)
			}
		}
	})
}

// checkGrown holds the days of a calendar against those of the rows whose keys may have them.
func checkGrown(t *testing.T, dir, model string, rows []string, begins, ends string) {
	t.Helper()
	star := startest.Star(t, dir)
	kept := map[string]bool{}
	for _, f := range star["fact_sale"] {
		kept[f["no"]] = true
	}
	have := map[string]bool{}
	for _, d := range star["dim_date"] {
		have[d["date"]] = true
	}
	delete(have, "")
	least, most := "1960-05-01", "2031-10-31"
	if !strings.Contains(begins, "data") {
		least = "1965-03-01"
	}
	if !strings.Contains(ends, "data") {
		most = "2020-01-31"
	}
	for _, row := range rows {
		f := strings.Split(strings.TrimSpace(row), ",")
		at, due := f[1][:10], f[2]
		if inside := at >= least && at <= most; inside != kept[f[0]] || inside && !have[at] {
			t.Fatalf("%s: kept %v, there %v\n%s", row, kept[f[0]], have[at], model)
		}
		if due >= least && due <= most && kept[f[0]] && !have[due] {
			t.Fatalf("%s: %s is not there\n%s", row, due, model)
		}
	}
	var all []string
	for day := range have {
		if day < least || day > most {
			t.Fatalf("%s is there\n%s", day, model)
		}
		all = append(all, day)
	}
	slices.Sort(all)
	for i := 1; i < len(all); i++ {
		before, _ := time.Parse(time.DateOnly, all[i-1])
		if all[i] != before.AddDate(0, 0, 1).Format(time.DateOnly) {
			t.Fatalf("no day between %s and %s\n%s", all[i-1], all[i], model)
		}
	}
}

// TestRelative holds the view of a calendar that counts from a day against a count from day to day, at the ends of
// years, on leap days, and in years of 53 weeks.
func TestRelative(t *testing.T) {
	onBoth(t, func(t *testing.T, where string) {
		dir := t.TempDir()
		startest.Write(t, dir, "ironmonger.yaml", where+`parameters: {day: date}
sources: {sales: {read: "s/*", columns: {no: integer, at: date}}}
dimensions:
  date:
    calendar:
      from: 2022-01-01
      to: 2026-12-31
      fiscal_year: {starts: april, named_by: start}
      retail_year: {ends_on: saturday, month: january, rule: nearest, named_by: start, pattern: 4-5-4}
      relative: {as_of: "{day}"}
  sold: {calendar: {from: 2022-01-01, to: 2026-12-31, relative: {as_of: fact sale.sold}}}
facts:
  sale: {from: sales, grain: no, keys: {sold: {by: at, unmatched: unknown}}}
`)
		startest.Write(t, dir, "s/1.csv", "no,at\n1,2024-05-01\n2,2031-01-01\n3,\n")
		for _, day := range []string{"2024-02-29", "2024-12-31", "2025-01-01", "2024-02-03", "2024-02-04", "2025-03-31", "2030-01-01"} {
			t.Setenv("IRONMONGER_SET_day", day)
			if _, err := startest.Load(t, dir, load.Options{}); err != nil {
				t.Fatal(err)
			}
			view := &warehouse.Table{Name: "dim_date_relative", Borrowed: true}
			add := func(kind column.Kind, names ...string) {
				for _, name := range names {
					view.Columns = append(view.Columns, warehouse.Column{Field: column.Field{Name: name, Type: column.Type{Kind: kind}}})
				}
			}
			add(column.Date, "date", "reference_date")
			add(column.Integer, "days_from_reference", "weeks_from_reference", "months_from_reference", "quarters_from_reference", "years_from_reference",
				"fiscal_years_from_reference", "retail_years_from_reference")
			add(column.Boolean, "is_future", "is_month_to_date", "is_year_to_date", "is_last_year_to_date", "is_last_fiscal_year_to_date",
				"is_comparable_retail_year_to_date", "is_this_week")
			wh := startest.Open(t, dir)
			rows := startest.Table(t, wh, view)
			wh.Close()
			ref, _ := time.Parse(time.DateOnly, day)
			inside := ref.Year() < 2027
			lastYear := ref.AddDate(-1, 0, 0)
			if lastYear.Day() != ref.Day() {
				lastYear = lastYear.AddDate(0, 0, -lastYear.Day())
			}
			retailStart := map[int]time.Time{}
			for _, s := range []string{"2021-01-31", "2022-01-30", "2023-01-29", "2024-02-04", "2025-02-02", "2026-02-01", "2027-01-31"} {
				at, _ := time.Parse(time.DateOnly, s)
				retailStart[at.Year()] = at
			}
			retail := func(at time.Time) int {
				if at.Before(retailStart[at.Year()]) {
					return at.Year() - 1
				}
				return at.Year()
			}
			fiscal := func(at time.Time) int { return at.AddDate(0, -3, 1-at.Day()).Year() }
			monday := func(at time.Time) time.Time { return at.AddDate(0, 0, -(int(at.Weekday())+6)%7) }
			days := func(a, b time.Time) int { return int(b.Sub(a).Hours()) / 24 }
			for _, r := range rows {
				at, err := time.Parse(time.DateOnly, r["date"])
				want := map[string]any{"reference_date": day}
				if err == nil && inside {
					for name, value := range map[string]any{
						"days_from_reference": days(ref, at), "weeks_from_reference": days(monday(ref), monday(at)) / 7,
						"months_from_reference":       (at.Year()-ref.Year())*12 + int(at.Month()) - int(ref.Month()),
						"quarters_from_reference":     (at.Year()-ref.Year())*4 + (int(at.Month())-1)/3 - (int(ref.Month())-1)/3,
						"years_from_reference":        at.Year() - ref.Year(),
						"fiscal_years_from_reference": fiscal(at) - fiscal(ref), "retail_years_from_reference": retail(at) - retail(ref),
						"is_future": at.After(ref), "is_this_week": monday(at).Equal(monday(ref)),
						"is_month_to_date":            at.Format("2006-01") == day[:7] && !at.After(ref),
						"is_year_to_date":             at.Year() == ref.Year() && !at.After(ref),
						"is_last_year_to_date":        at.Year() == ref.Year()-1 && !at.After(lastYear),
						"is_last_fiscal_year_to_date": fiscal(at) == fiscal(ref)-1 && !at.After(lastYear),
						"is_comparable_retail_year_to_date": !at.Before(retailStart[retail(ref)].AddDate(0, 0, -364)) &&
							!at.After(ref.AddDate(0, 0, -364)),
					} {
						want[name] = value
					}
				}
				for _, c := range view.Columns[1:] {
					if got, ok := r[c.Name]; got != strings.TrimSuffix(fmt.Sprint(want[c.Name]), "<nil>") {
						t.Fatalf("from %s, %s of %s is %q (%v), want %v", day, c.Name, r["date"], got, ok, want[c.Name])
					}
				}
			}
			if len(rows) != 1827 {
				t.Errorf("the view has %d rows", len(rows))
			}
		}
		if of := startest.Star(t, dir)["dim_sold_as_of"]; len(of) != 1 || of[0]["reference_date"] != "2024-05-01" {
			t.Errorf("the last day with data is %v", of)
		}
		before := startest.Dump(t, dir)
		if _, err := startest.Load(t, dir, load.Options{Again: true}); err != nil || startest.Dump(t, dir) != before || !startest.Proved(t, dir) {
			t.Errorf("%v: loading again has changed something", err)
		}
	})
}

// TestWorkingDayLags: lags in working days follow the holidays, also of facts whose files are not read again; and what
// is taken back is as it was.
func TestWorkingDayLags(t *testing.T) {
	onBoth(t, func(t *testing.T, where string) {
		t.Setenv("IRONMONGER_SETTLED", "1")
		dir := t.TempDir()
		startest.Write(t, dir, "ironmonger.yaml", where+`sources:
  gazette: {read: gazette.csv, columns: {date: date}}
  repairs: {read: "r/*", columns: {no: integer, reported: date, done: timestamp}}
dimensions:
  date: {calendar: {from: 2024-12-01, to: 2025-12-31, attributes: [basic, working_days], regions: {north: {holidays: [{from: gazette, date: date}]}, south: {}}}}
facts:
  repair:
    from: repairs
    grain: no
    repeated: complete
    complete: done
    lags: {north: {from: reported, to: done, in: working_days, region: north}, south: {from: reported, to: done, in: working_days, region: south}}
    keys: {reported: {dimension: date, by: reported}, done: {dimension: date, by: done, unmatched: unknown}}
`)
		loads := func(want string) {
			t.Helper()
			run, err := startest.Load(t, dir, load.Options{})
			if err != nil {
				t.Fatal(err, run.Steps)
			}
			var got []string
			for _, f := range startest.Star(t, dir)["fact_repair"] {
				got = append(got, f["no"]+":"+f["north"]+":"+f["south"])
			}
			slices.Sort(got)
			if s := strings.Join(got, " "); s != want || !startest.Proved(t, dir) {
				t.Errorf("%s, want %s", s, want)
			}
		}
		startest.Write(t, dir, "gazette.csv", "date\n2025-01-01\n")
		startest.Write(t, dir, "r/1.csv", "no,reported,done\n1,2024-12-30,2025-01-03 10:00:00\n2,2024-12-30,\n3,2025-01-04,2025-01-05 00:00:00\n4,2025-01-03,2024-12-27 00:00:00\n5,2025-12-30,2026-01-01 00:00:00\n")
		loads("1:3:4 2:: 3:0:0 4:-4:-5 5::")
		startest.Write(t, dir, "r/2.csv", "no,reported,done\n2,2024-12-30,2025-01-02 10:00:00\n")
		loads("1:3:4 2:2:3 3:0:0 4:-4:-5 5::")
		before := startest.Dump(t, dir)
		startest.Write(t, dir, "gazette.csv", "date\n2025-01-01\n2025-01-02\n")
		loads("1:2:4 2:1:3 3:0:0 4:-3:-5 5::")
		undoFrom(t, dir, 3)
		if now := startest.Dump(t, dir); now != before {
			t.Errorf("taken back:\n%s", startest.Difference(before, now))
		}
		loads("1:2:4 2:1:3 3:0:0 4:-3:-5 5::")
		startest.Run(t, dir, "UPDATE fact_repair SET north = 9 WHERE no = 1")
		if broken := startest.Broken(t, dir); !slices.Contains(broken, "milestones of fact_repair") {
			t.Errorf("a wrong lag is not told: %v", broken)
		}
	})
}
