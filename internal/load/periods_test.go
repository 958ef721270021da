package load_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"ironmonger/internal/load"
	"ironmonger/internal/startest"
)

const periodsModel = `%s
limits: {set_aside: none}
parameters: {closing_day: {type: date, default: 2025-12-31}}
sources:
  moves: {read: "m/*.csv", columns: {no: integer, account: text, day: date, amount: "decimal(9,2)", entered: date, opens: boolean}, derive: {closed: entered - 10}}
  months:
    from: %s
    periods: {by: account, on: day, every: %s, amount: amount%s}
dimensions:
  date: {calendar: {from: 2024-01-01, to: 2026-12-31}}
facts:
  move: {from: moves, grain: no, degenerate: [account, day, closed, opens], measures: amount}
  balance:
    from: months
    grain: [account, period]
    repeated: replace
    keys: {period: {dimension: date, by: period}}
    measures: [opening, added, taken, closing, movements]
    must_hold: {the balance: closing = opening + added - taken}
`

// balances lists the rows of a periodic snapshot.
func balances(t *testing.T, dir string) []string {
	var list []string
	for _, row := range startest.Star(t, dir)["fact_balance"] {
		day := row["period_date_key"]
		values := []string{row["account"], day[:4] + "-" + day[4:6] + "-" + day[6:], row["opening"], row["added"], row["taken"], row["closing"], row["movements"]}
		if _, ok := row["late_added"]; ok {
			values = append(values, row["late_added"], row["late_taken"])
		}
		list = append(list, strings.Join(values, " "))
	}
	slices.Sort(list)
	return list
}

// TestBalances are worked examples of a periodic snapshot from transactions: a period without movement, one whose
// balance is zero, and a transaction that comes late and restates the periods from its own on.
func TestBalances(t *testing.T) {
	first := "no,account,day,amount,entered,opens\n1,H1,2025-01-10,100.00,,\n2,H1,2025-01-20,-30.00,,\n3,H1,2025-03-05,-70.00,,\n4,H2,2025-02-01,40.00,,\n"
	all := []string{
		"H1 2025-01-31 0.00 100.00 30.00 70.00 2", "H1 2025-02-28 70.00 0.00 0.00 70.00 0", "H1 2025-03-31 70.00 0.00 70.00 0.00 1",
		"H1 2025-04-30 0.00 0.00 0.00 0.00 0", "H2 2025-02-28 0.00 40.00 0.00 40.00 1", "H2 2025-03-31 40.00 0.00 0.00 40.00 0",
		"H2 2025-04-30 40.00 0.00 0.00 40.00 0",
	}
	for without, want := range map[string][]string{
		"":                                   all,
		", without_movement: while_not_zero": slices.Concat(all[:3], all[4:]),
		", without_movement: leave_out":      {all[0], all[2], all[4]},
	} {
		dir := t.TempDir()
		startest.Write(t, dir, "ironmonger.yaml", fmt.Sprintf(periodsModel, "warehouse: {sqlite: star.db}", "fact move", "month", without+`, through: "date '2025-04-10'"`))
		startest.Write(t, dir, "m/1.csv", first)
		if _, err := startest.Load(t, dir, load.Options{}); err != nil {
			t.Fatal(err)
		}
		if got := balances(t, dir); !slices.Equal(got, want) {
			t.Errorf("%s:\n%s", without, startest.Difference(strings.Join(got, "\n"), strings.Join(want, "\n")))
		}
		if without != "" {
			continue
		}
		startest.Write(t, dir, "m/2.csv", "no,account,day,amount,entered,opens\n5,H1,2025-02-14,-20.00,,\n")
		run, err := startest.Load(t, dir, load.Options{})
		if err != nil {
			t.Fatal(err)
		}
		want = slices.Clone(all)
		want[1], want[2], want[3] = "H1 2025-02-28 70.00 0.00 20.00 50.00 1", "H1 2025-03-31 50.00 0.00 70.00 -20.00 1", "H1 2025-04-30 -20.00 0.00 0.00 -20.00 0"
		figures := run.Steps[len(run.Steps)-1].Figures
		if got := balances(t, dir); !slices.Equal(got, want) || figures.Changed != 3 || figures.Inserted != 0 || figures.Same != 4 {
			t.Errorf("%+v\n%s", figures, startest.Difference(strings.Join(got, "\n"), strings.Join(want, "\n")))
		}
		if !startest.Proved(t, dir) {
			t.Error("the star is broken")
		}
	}
}

// TestPeriods holds balances of random transactions, that come in any order and in several loads, against a restatement
// from all of them after each load: for every kind of period, from the source and from the fact, in both warehouses.
func TestPeriods(t *testing.T) {
	manyCases(t, 12, func(t *testing.T, seed uint64) {
		r := rand.New(rand.NewPCG(seed, 61))
		place := "warehouse: {sqlite: star.db}"
		if seed%3 == 2 {
			connection, schema := startest.Postgres(t)
			place = fmt.Sprintf("warehouse: {postgres: %q, schema: %s}", connection, schema)
		}
		every := pick(r, "month", "week", "quarter", "year", "day")
		without := pick(r, "keep", "while_not_zero", "leave_out")
		dir := t.TempDir()
		model := fmt.Sprintf(periodsModel, place, pick(r, "moves", "fact move"), every, ", without_movement: "+without)
		if without == "while_not_zero" { // a period that had a balance once may have none now: its row is gone
			model = strings.Replace(model, "repeated: replace", "repeated: replace\n    delivers: all\n    gone: remove\n    limits: {gone: none}", 1)
		}
		books, opens := r.IntN(2) == 0, r.IntN(2) == 0
		if books {
			model = strings.Replace(model, "amount: amount,", "amount: amount, closed: closed,", 1)
			model = strings.Replace(model, "closing, movements]", "closing, movements, late_added, late_taken]", 1)
		}
		if opens {
			model = strings.Replace(model, "amount: amount,", "amount: amount, opens: opens,", 1)
		}
		startest.Write(t, dir, "ironmonger.yaml", model)
		type move struct {
			account string
			day     time.Time
			cents   int64
			entered time.Time
			opens   bool
		}
		closed := func(m move) time.Time { return m.entered.AddDate(0, 0, -10) }
		late := func(m move) bool { return books && !m.entered.IsZero() && !endOf(every, m.day).After(closed(m)) }
		in := func(m move) time.Time { // the period that it moves in
			if late(m) {
				return endOf(every, closed(m).AddDate(0, 0, 1))
			}
			return endOf(every, m.day)
		}
		var moves []move
		for file := range 3 {
			text := "no,account,day,amount,entered,opens\n"
			if opens && file == 1 {
				moves = append(moves, move{"A", time.Date(2024, 5, 1+r.IntN(31), 0, 0, 0, 0, time.UTC), r.Int64N(300) - 100, time.Time{}, true})
				text += fmt.Sprintf("%d,A,%s,%s,,true\n", len(moves), moves[len(moves)-1].day.Format(time.DateOnly), money(moves[len(moves)-1].cents))
			}
			for range 1 + r.IntN(25) {
				m := move{pick(r, "A", "B", "C"), time.Date(2024, time.Month(6+r.IntN(14)), 1+r.IntN(28), 0, 0, 0, 0, time.UTC), r.Int64N(400) - 200, time.Time{}, false}
				entered := ""
				if r.IntN(3) > 0 {
					m.entered = m.day.AddDate(0, 0, r.IntN(120))
					entered = m.entered.Format(time.DateOnly)
				}
				if r.IntN(6) == 0 {
					m.cents = 0
				}
				moves = append(moves, m)
				text += fmt.Sprintf("%d,%s,%s,%s,%s,%s\n", len(moves), m.account, m.day.Format(time.DateOnly), money(m.cents), entered, pick(r, "", "false"))
			}
			startest.Write(t, dir, fmt.Sprintf("m/%d.csv", r.IntN(1000)*10+file), text)
			if _, err := startest.Load(t, dir, load.Options{Piece: 1 + r.IntN(300), Workers: 1 + r.IntN(3)}); err != nil {
				t.Fatal(err)
			}
			last := time.Time{}
			for _, m := range moves {
				e := in(m)
				if m.opens {
					e = endOf(every, m.day.AddDate(0, 0, 1))
				}
				if e.After(last) {
					last = e
				}
			}
			var want []string
			for _, account := range []string{"A", "B", "C"} {
				begun, balance := false, int64(0)
				for day := time.Date(2024, 1, 1, 0, 0, 0, 0, time.UTC); !day.After(last); day = day.AddDate(0, 0, 1) {
					if !endOf(every, day).Equal(day) {
						continue
					}
					added, taken, lateAdded, lateTaken, n := int64(0), int64(0), int64(0), int64(0), 0
					for _, m := range moves {
						switch {
						case m.account != account:
						case m.opens:
							if endOf(every, m.day.AddDate(0, 0, 1)).Equal(day) {
								begun, balance = true, m.cents
							}
						case in(m).Equal(day):
							n++
							added += max(0, m.cents)
							taken -= min(0, m.cents)
							if late(m) {
								lateAdded += max(0, m.cents)
								lateTaken -= min(0, m.cents)
							}
						}
					}
					if begun = begun || n > 0; !begun {
						continue
					}
					opening := balance
					balance += added - taken
					if n > 0 || without == "keep" || without == "while_not_zero" && opening != 0 {
						row := fmt.Sprintf("%s %s %s %s %s %s %d", account, day.Format(time.DateOnly), money(opening), money(added), money(taken), money(balance), n)
						if books {
							row += fmt.Sprintf(" %s %s", money(lateAdded), money(lateTaken))
						}
						want = append(want, row)
					}
				}
			}
			slices.Sort(want)
			got := balances(t, dir)
			if !slices.Equal(got, want) {
				t.Fatalf("seed %d, %s, %s:\n%s", seed, every, without, startest.Difference(strings.Join(got, "\n"), strings.Join(want, "\n")))
			}
		}
		if !startest.Proved(t, dir) {
			t.Errorf("seed %d: the star is broken", seed)
		}
	})
}

func money(cents int64) string {
	sign := ""
	if cents < 0 {
		sign, cents = "-", -cents
	}
	return fmt.Sprintf("%s%d.%02d", sign, cents/100, cents%100)
}

// endOf is the last day of the period of a day, counted a day at a time.
func endOf(every string, day time.Time) time.Time {
	is := func(d time.Time) bool {
		next := d.AddDate(0, 0, 1)
		switch every {
		case "day":
			return true
		case "week":
			return d.Weekday() == time.Sunday
		case "quarter":
			return next.Day() == 1 && (next.Month()-1)%3 == 0
		case "year":
			return next.YearDay() == 1
		}
		return next.Day() == 1
	}
	for !is(day) {
		day = day.AddDate(0, 0, 1)
	}
	return day
}

// TestLevels are worked examples of a periodic snapshot of what is observed: values that are carried forward, until
// they are stale.
func TestLevels(t *testing.T) {
	dir := t.TempDir()
	startest.Write(t, dir, "ironmonger.yaml", `warehouse: {sqlite: star.db}
sources:
  readings: {read: "r/*.csv", columns: {lock: text, at: timestamp, level: integer}}
  levels: {from: readings, periods: {by: lock, on: at, every: month, value: level, stale: 45, through: "date '2025-04-01'"}}
dimensions:
  date: {calendar: {from: 2024-01-01, to: 2026-12-31}}
facts:
  level: {from: levels, grain: [lock, period], repeated: replace, degenerate: [observed_on, is_carried], measures: [level, age_days]}
`)
	startest.Write(t, dir, "r/1.csv", "lock,at,level\nL01,2025-01-05 08:00,210\nL01,2025-01-30 09:00,214\nL01,2025-03-31 23:00,198\nL02,2025-02-10 12:00,305\n")
	levels := func() string {
		if _, err := startest.Load(t, dir, load.Options{}); err != nil {
			t.Fatal(err)
		}
		var list []string
		for _, row := range startest.Star(t, dir)["fact_level"] {
			level := row["level"]
			if level == "" {
				level = "-"
			}
			list = append(list, row["lock"]+" "+row["period"][5:7]+" "+level+" "+row["age_days"]+" "+row["is_carried"])
		}
		slices.Sort(list)
		if !startest.Proved(t, dir) {
			t.Error("the star is broken")
		}
		return strings.Join(list, "; ")
	}
	if got, want := levels(), "L01 01 214 1 false; L01 02 214 29 true; L01 03 198 0 false; L01 04 198 30 true; L02 02 305 18 false; L02 03 - 49 true; L02 04 - 79 true"; got != want {
		t.Errorf("%s\nwant %s", got, want)
	}
	startest.Write(t, dir, "r/0.csv", "lock,at,level\nL01,2025-02-20 08:00,220\n") // it comes late
	if got, want := levels(), "L01 01 214 1 false; L01 02 220 8 false; L01 03 198 0 false; L01 04 198 30 true; L02 02 305 18 false; L02 03 - 49 true; L02 04 - 79 true"; got != want {
		t.Errorf("%s\nwant %s", got, want)
	}
}
