package load_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"ironmonger/internal/load"
	"ironmonger/internal/startest"
)

const headersModel = `warehouse: {%s}
undo: 30 runs
limits: {unmatched: none, set_aside: none, gone: none}
sources:
  bookings: {read: "h/*", columns: {no: integer, boat: text, day: date}}
  boats: {read: boats.csv, columns: {boat: text, class: text, since: date}}
  headers: {from: fact booking}
  classes: {from: dimension boat, versions: all}
  lines:
    read: "d/*"
    columns: {no: integer, line: integer, toll: "decimal(9,2)"}
    join:
      header: {source: headers, by: no, bring: {boat_boat: boat, day: day}}
      class: {source: classes, by: {boat: boat}, effective: valid_from, as_of: day, bring: class, unmatched: leave_empty}
dimensions:
  boat: {from: boats, natural_key: boat, type_2: class, effective: since}
facts:
  line:
    from: lines
    grain: [no, line]
    keys: {boat: {by: boat, as_of: day}}
    measures: toll
    degenerate: class
    repeated: replace
  booking:
    from: bookings
    grain: no
    keys: {boat: {by: boat, as_of: day}}
    repeated: %s
`

// TestHeaders loads lines of bookings, which take the boat and the day from the fact of the booking as it stands, and
// the class from the version of the boat that holds then: bookings come before or after their lines and are corrected,
// boats get versions. The facts are what a restatement makes of all rows; nothing is read without need.
func TestHeaders(t *testing.T) {
	manyCases(t, 8, func(t *testing.T, seed uint64) {
		settled(t, seed)
		s := newGoneStar(t, seed, headersModel, []string{"replace", "reverse"}[seed%2])
		r := s.r
		type booking struct{ boat, day int }
		type since struct {
			class string
			day   int
		}
		bookings, lines := map[int]booking{}, map[[2]int]int{}
		boats := map[int][]since{0: {{"x", 1}}, 1: {{"y", 1}}, 2: {{"z", 1}}}
		files := 0
		for n := range 6 {
			if n == 0 || r.IntN(2) == 0 {
				if b := r.IntN(3); n > 0 {
					boats[b] = append(boats[b], since{pick(r, "x", "y", "z"), boats[b][len(boats[b])-1].day + 1 + r.IntN(3)})
				}
				text := "boat,class,since\n"
				for b := range 3 {
					for _, v := range boats[b] {
						text += fmt.Sprintf("B%d,%s,2024-01-%02d\n", b, v.class, v.day)
					}
				}
				s.write("boats.csv", text)
			}
			if r.IntN(4) > 0 {
				text := "no,boat,day\n"
				for range 1 + r.IntN(4) {
					no, b := r.IntN(8), booking{r.IntN(3), 1 + r.IntN(9)}
					bookings[no] = b
					text += fmt.Sprintf("%d,B%d,2024-01-%02d\n", no, b.boat, b.day)
				}
				files++
				s.write(fmt.Sprintf("h/%d.csv", n), text)
			} else if n == 0 {
				s.write("h/0.csv", "no,boat,day\n")
				files++
			}
			if n == 0 || r.IntN(3) > 0 {
				text := "no,line,toll\n"
				for range 1 + r.IntN(6) {
					at := [2]int{r.IntN(8), r.IntN(3)}
					lines[at] = 1 + r.IntN(5)
					text += fmt.Sprintf("%d,%d,%d.00\n", at[0], at[1], lines[at])
				}
				files++
				s.write(fmt.Sprintf("d/%d.csv", n), text)
			}
			var want []string
			for at, toll := range lines {
				b, ok := bookings[at[0]]
				if !ok {
					continue
				}
				class := ""
				for n, v := range boats[b.boat] {
					if v.day <= b.day || n == 0 {
						class = v.class
					}
				}
				want = append(want, fmt.Sprintf("%d %d B%d %d.00 %s %s", at[0], at[1], b.boat, toll, class, class))
			}
			slices.Sort(want)
			s.story.WriteString("load\n")
			s.holds(func() string { return linesIn(t, s.dir) }, strings.Join(want, "\n"))
			run, err := startest.Load(t, s.dir, s.options())
			if err != nil {
				t.Fatal(err)
			}
			for _, step := range run.Steps {
				if f := step.Figures; seed%2 == 0 && step.Name == "fact booking" && f.Read > 0 {
					t.Fatalf("%s has read %d rows of files that have not changed\n%s", step.Name, f.Read, &s.story)
				} else if seed%2 == 0 && step.Name == "fact line" && f.SetAside == 0 && f.Read > 0 && f.Unread == 0 && len(want) == len(lines) {
					t.Fatalf("%s has read %d rows again\n%s", step.Name, f.Read, &s.story)
				}
			}
		}
		s.back()
	})
}

// linesIn writes the lines with the class that they brought and that of the version that they point to.
func linesIn(t *testing.T, dir string) string {
	star := startest.Star(t, dir)
	boats := map[string]map[string]string{}
	for _, row := range star["dim_boat"] {
		boats[row["boat_key"]] = row
	}
	var lines []string
	for _, f := range star["fact_line"] {
		boat := boats[f["boat_key"]]
		lines = append(lines, strings.Join([]string{f["no"], f["line"], boat["boat"], f["toll"], f["class"], boat["class"]}, " "))
	}
	slices.Sort(lines)
	return strings.Join(lines, "\n")
}

// TestMonths: a dimension of months is made from the calendar, and a table of totals from a fact; both follow.
func TestMonths(t *testing.T) {
	dir := t.TempDir()
	startest.Write(t, dir, "ironmonger.yaml", `warehouse: {sqlite: star.db}
sources:
  tolls: {read: "t/*", columns: {no: integer, day: date, toll: "decimal(9,2)"}}
  days: {from: dimension date, derive: {month_no: "year * 100 + month"}}
  months: {from: days, group: {by: [month_no, year], aggregates: {days: count, last: max(date)}}}
  by_day: {from: fact toll, derive: {month_no: "extract(year from day) * 100 + extract(month from day)"}}
  by_month: {from: by_day, group: {by: month_no, aggregates: {toll: sum(toll), tolls: count}}}
dimensions:
  date: {calendar: {from: 2024-01-01, to: 2025-12-31}}
  month: {from: months, natural_key: month_no}
facts:
  month: {from: by_month, grain: month, keys: {month: month_no}, measures: [toll, tolls], repeated: replace}
  toll: {from: tolls, grain: no, keys: {date: day}, measures: toll, degenerate: day}
`)
	startest.Write(t, dir, "t/1.csv", "no,day,toll\n1,2024-02-10,1.00\n2,2024-02-29,2.50\n3,2025-01-01,7.00\n")
	for n, want := range []string{"202402 29 3.50 2, 202501 31 7.00 1", "202402 29 3.50 2, 202501 31 8.25 2, 202502 28 0.75 1"} {
		if n == 1 {
			startest.Write(t, dir, "t/2.csv", "no,day,toll\n4,2025-01-31,1.25\n5,2025-02-01,0.75\n")
		}
		for range 2 {
			if run, err := startest.Load(t, dir, load.Options{}); err != nil {
				t.Fatalf("%v: %+v", err, run)
			}
		}
		star := startest.Star(t, dir)
		months := map[string]map[string]string{}
		for _, row := range star["dim_month"] {
			months[row["month_key"]] = row
		}
		var got []string
		for _, f := range star["fact_month"] {
			m := months[f["month_key"]]
			got = append(got, strings.Join([]string{m["month_no"], m["days"], f["toll"], f["tolls"]}, " "))
		}
		slices.Sort(got)
		if s := strings.Join(got, ", "); s != want || len(months) != 25 {
			t.Errorf("%d months; %s, expected %s", len(months), s, want)
		}
		if !startest.Proved(t, dir) {
			t.Error("the proof is broken")
		}
	}
}

// TestWaits: of two dimensions that point to a third whose members are inferred, the earlier one also points to the
// later: neither waits for the other without end.
func TestWaits(t *testing.T) {
	dir := t.TempDir()
	startest.Write(t, dir, "ironmonger.yaml", `warehouse: {sqlite: star.db}
sources:
  boats: {read: a.csv, columns: {boat: text, port: text, zone: text}}
  ports: {read: b.csv, columns: {port: text, zone: text}}
  zones: {read: c.csv, columns: {zone: text, label: text}}
dimensions:
  boat: {from: boats, natural_key: boat, keys: {port: port, zone: zone}}
  port: {from: ports, natural_key: port, keys: {zone: zone}}
  zone: {from: zones, natural_key: zone}
`)
	startest.Write(t, dir, "a.csv", "boat,port,zone\nA,P,Z1\n")
	startest.Write(t, dir, "b.csv", "port,zone\nP,Z2\n")
	startest.Write(t, dir, "c.csv", "zone,label\nZ0,x\n")
	if _, err := startest.Load(t, dir, load.Options{}); err != nil || !startest.Proved(t, dir) {
		t.Fatal(err)
	}
	zones := startest.Star(t, dir)["dim_zone"]
	if len(zones) != 4 {
		t.Errorf("the zones are %v", zones)
	}
}
