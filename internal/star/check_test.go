package star

import (
	"fmt"
	"strings"
	"testing"
)

// sound is a model without mistakes; the cases below spoil it a line at a time.
const sound = `warehouse:
  sqlite: star.db
time_zone: UTC
sources:
  boats:
    read: boats.csv
    columns:
      reg: text
      no: integer
      class: text
      length: decimal(5,2)
      speed: double
      since: date
  trips:
    read: ["trips/*.csv", late.csv]
    columns:
      trip: integer
      reg: text
      no: integer
      code: text
      at: timestamp
      day: date
      paid: decimal(9,2)
      weight: double
    derive:
      fee: round(paid * 0.1, 2)
    require:
      paid: paid >= 0
dimensions:
  date:
    calendar:
      from: 2024-01-01
      to: 2024-12-31
      fiscal_year:
        starts: april
        named_by: end
  zone:
    natural_key: code
    columns:
      code: text
      rank: integer
    rows:
      - {code: Z1, rank: 1}
      - {code: "007", rank: 2, note: ~}
  boat:
    from: boats
    natural_key: [reg, no]
    type_1: length
    type_2: class
    effective: since
facts:
  trip:
    from: trips
    grain: trip
    keys:
      boat:
        by: [reg, no]
        as_of: at
      zone: code
      left:
        dimension: date
        by: at
        missing: not_yet
    measures: [paid, fee]
`

func TestSound(t *testing.T) {
	m, err := Parse("m.yaml", []byte(sound), Outside{})
	if err != nil {
		t.Fatal(err)
	}
	boat, zone, trip := m.Dimensions[2], m.Dimensions[1], m.Facts[0]
	if got := fmt.Sprint(boat.Type1, boat.Type2, boat.Specials, m.Dimensions[0].Specials, trip.Degenerate); got !=
		"[{length decimal(5,2)}] [{class text}] [{unknown -1 Unknown false}] [{unknown -1 Unknown false} {not_yet -2 Not yet false}] [{trip integer}]" {
		t.Error(got)
	}
	if k := trip.Keys[0]; k.Unmatched != Infer || k.Missing != ToUnknown || k.Outside != Nearest ||
		k.Column() != "boat_key" {
		t.Errorf("%+v", k)
	}
	if k := trip.Keys[2]; k.Unmatched != SetAside || k.Column() != "left_date_key" || !k.Role() ||
		trip.Day(trip.Keys[0]) != k {
		t.Errorf("%+v", k)
	}
	if got := zone.Rows.Batch.Cols[0].Text; got[1] != "007" || len(zone.Type1) != 2 ||
		!zone.Rows.Batch.Cols[2].Null[1] {
		t.Errorf("%q", got)
	}
}

// TestMistakes spoils the sound model: old is replaced by new, and these are the complaints.
func TestMistakes(t *testing.T) {
	for _, c := range []struct{ old, new, want string }{
		{"sqlite: star.db", "sqllite: star.db", "m.yaml:1:1: warehouse: where does the star stand? sqlite: a file, postgres: a connection string, or trino: an address|m.yaml:2:3: warehouse: no such key: sqllite (did you mean sqlite?)"},
		{"sqlite: star.db", "sqlite: star.db\n  postgres: service=canal", "m.yaml:3:3: warehouse.postgres: a star stands in one warehouse: sqlite or postgres"},
		{"sqlite: star.db", "sqlite: star.db\n  schema: canal", "m.yaml:1:1: warehouse: an SQLite database has no schemas"},
		{"sqlite: star.db", "postgres: host=db password=secret", "m.yaml:2:13: warehouse.postgres: a password has no place in a model: use a parameter of type secret (password={name}), PGPASSWORD, a service file or a password file"},
		{"sqlite: star.db", "postgres: postgres://keeper:secret@db/canal", "m.yaml:2:13: warehouse.postgres: a password has no place in a model: use a parameter of type secret (password={name}), PGPASSWORD, a service file or a password file"},
		{"time_zone: UTC", "time_zone: Mars/North", "m.yaml:3:12: time_zone: no time zone is called Mars/North: UTC, or Area/City as in the zone database"},
		{"    read: boats.csv\n", "", "m.yaml:5:3: sources.boats: rows come from files (read), a database (table or query), another source (from), several (union), a calendar or a clock: one of these"},
		{"length: decimal(5,2)", "length: decimal(5;2)", "m.yaml:11:15: sources.boats.columns.length: decimal(5;2) is not a decimal type: 1 to 38 digits, of which 0 to all after the point"},
		{"length: decimal(5,2)", "length: number", "m.yaml:11:15: sources.boats.columns.length: no such type: number (there is: integer, decimal(p,s), double, text, boolean, date, timestamp, time)"},
		{"      length: decimal(5,2)\n", "      length: decimal(5,2)\n      reg: text\n", "m.yaml:12:7: sources.boats.columns: reg is written twice (first in line 8)"},
		{"    columns:\n      reg: text\n      no: integer\n      class: text", "    columns: {reg: text, no: decimal(9,2)}\n    x:\n      class: text",
			"m.yaml:7:30: sources.boats.columns.no: a decimal says its digits, all and after the point: decimal(9,2)|m.yaml:7:40: sources.boats.columns: inside braces a comma ends a value: write one column a line, so that decimal(9,2) stays whole|m.yaml:8:5: sources.boats: no such key: x|m.yaml:47:13: dimensions.boat.type_1: source boats has no column length (there is: reg, no)|m.yaml:48:13: dimensions.boat.type_2: source boats has no column class (there is: reg, no)|m.yaml:49:16: dimensions.boat.effective: source boats has no column since (there is: reg, no)"},
		{"fee: round(paid * 0.1, 2)", "fee: round(payd * 0.1, 2)", "m.yaml:26:18: sources.trips.derive.fee: there is no column payd (did you mean paid?)"},
		{"fee: round(paid * 0.1, 2)", "paid: paid + 1", "m.yaml:26:7: sources.trips.derive: there is already a column paid|m.yaml:64:22: facts.trip.measures: source trips has no column fee (there is: trip, reg, no, code, at, day, paid, weight, paid)"},
		{"fee: round(paid * 0.1, 2)", "fee: 'null'", "m.yaml:26:13: sources.trips.derive.fee: a bare null has no type: cast(null as text)"},
		{"paid: paid >= 0", "paid: paid + 1", "m.yaml:28:13: sources.trips.require.paid: a condition is true or false, and this is of type decimal(10,2)"},
		{"      from: 2024-01-01\n", "      from: 2025-13-01\n", "m.yaml:32:13: dimensions.date.calendar.from: 2025-13-01 is not a date such as 2025-03-31"},
		{"      to: 2024-12-31", "      to: 2023-12-31", "m.yaml:31:5: dimensions.date.calendar: to is before from"},
		{"starts: april", "starts: Aprl", "m.yaml:35:17: dimensions.date.calendar.fiscal_year.starts: no such choice: Aprl (did you mean april?)"},
		{"        named_by: end\n", "", "m.yaml:34:7: dimensions.date.calendar.fiscal_year: named_by is missing: does a fiscal year have the number of the year in which it starts (start) or ends (end)?"},
		{"{code: Z1, rank: 1}", "{code: Z1, rank: one}", "m.yaml:43:26: dimensions.zone.rows: rank: one is not an integer"},
		{"{code: Z1, rank: 1}", "{rank: 1}", "m.yaml:43:9: dimensions.zone.rows: the row has no code, which is its natural key"},
		{`{code: "007", rank: 2, note: ~}`, "{code: Z1}", "m.yaml:44:9: dimensions.zone.rows: Z1 stands twice"},
		{"    from: boats\n", "    from: bots\n", "m.yaml:46:11: dimensions.boat.from: there is no source bots (did you mean boats?)|..."},
		{"    from: boats\n", "", "m.yaml:45:3: dimensions.boat: a dimension has either from (a source), or rows, or combinations, or calendar, or clock, or looked_up|..."},
		{"    natural_key: [reg, no]\n", "    natural_key: [reg, no]\n    surrogate_key: {start: 0, step: many}\n", "m.yaml:48:28: dimensions.boat.surrogate_key.start: 0 is not a number from 1 to 1099511627776|m.yaml:48:37: dimensions.boat.surrogate_key.step: many is not a number from 1 to 1099511627776"},
		{"    natural_key: [reg, no]\n", "    natural_key: [reg, no]\n    others: type_4\n", "m.yaml:48:13: dimensions.boat.others: no such choice: type_4 (did you mean type_0?)"},
		{"    natural_key: [reg, no]\n", "    natural_key: [reg, speed]\n", "m.yaml:47:24: dimensions.boat.natural_key: a double cannot be a key: make it a decimal or text|..."},
		{"    type_2: class\n", "    type_2: class\n    with_current: [class, lengt]\n", "m.yaml:50:27: dimensions.boat.with_current: lengt is not a type 2 attribute (there is: class)"},
		{"    type_2: class\n", "    type_2: class\n    type_0: class\n", "m.yaml:49:13: dimensions.boat.type_2: class is already a type 0 attribute"},
		{"    natural_key: [reg, no]\n", "    natural_key: [reg, no]\n    gone: flag\n", "m.yaml:45:3: dimensions.boat: gone speaks of deliveries of all: delivers: all"},
		{"    natural_key: [reg, no]\n", "    natural_key: [reg, no]\n    delivers: all\n    gone: close\n    complete_for: speed\n", "m.yaml:45:3: dimensions.boat.gone: close makes a version from the time of the delivery: it needs type_2 attributes, and delivered_on, the column that says that time|m.yaml:50:19: dimensions.boat.complete_for: speed is neither of the natural key nor an attribute, so it is not known of members"},
		{"    natural_key: [reg, no]\n", "    natural_key: [reg, no]\n    delivers: all\n    delivered_on: reg\n", "m.yaml:49:19: dimensions.boat.delivered_on: reg is of type text; it is a date or a timestamp, as effective is"},
		{"        by: [reg, no]\n", "        by: [reg, no]\n        holds: both\n", "m.yaml:58:9: facts.trip.keys.boat.holds: dimension boat has no durable keys: durable_key: kept"},
		{"    grain: trip\n", "    grain: trip\n    repeated: overwrite\n", "m.yaml:55:15: facts.trip.repeated: no such choice: overwrite (there is: set_aside, replace, reverse, complete, sum, keep, stop)"},
		{"    grain: trip\n", "    grain: trip\n    newer_by: at\n", "m.yaml:55:15: facts.trip.newer_by: newer_by goes with repeated: replace, reverse or complete"},
		{"    read: boats.csv\n", "    read: boats.csv\n    of_file: {reg: path}\n", "m.yaml:7:15: sources.boats.of_file: there are two columns called reg"},
		{"    read: boats.csv\n", "    read: boats.csv\n    of_file: {f: size}\n", "m.yaml:7:18: sources.boats.of_file.f: no such choice: size (there is: path, name, line, delivered)"},
		{"    read: boats.csv\n", "    read: boats.csv\n    delivered_by: day\n", "m.yaml:7:19: sources.boats.delivered_by: no column of of_file says when files were delivered"},
		{"    read: boats.csv\n", "    read: boats.csv\n    of_file: {f: delivered}\n    delivered_by: nobody\n", "m.yaml:8:19: sources.boats.delivered_by: there is no parameter nobody"},
		{"    grain: trip\n", "    grain: trip\n    booked_on: at\n", "m.yaml:55:16: facts.trip.booked_on: booked_on goes with repeated: reverse"},
		{"    grain: trip\n", "    grain: trip\n    repeated: reverse\n    booked_on: reg\n", "m.yaml:56:16: facts.trip.booked_on: reg is of type text; it is a date"},
		{"    grain: trip\n", "    grain: trip\n    repeated: reverse\n    delivers: files\n    gone: flag\n", "m.yaml:52:3: facts.trip.gone: with repeated: reverse, what was booked stays: gone is keep or reverse, not flag"},
		{"    grain: trip\n", "    grain: trip\n    delivers: files\n    gone: reverse\n", "m.yaml:52:3: facts.trip.gone: gone: reverse goes with repeated: reverse"},
		{"    grain: trip\n", "    grain: trip\n    repeated: replace\n    newer_by: atr\n", "m.yaml:56:15: facts.trip.newer_by: source trips has no column atr (did you mean at?)"},
		{"    grain: trip\n", "    grain: trip\n    repeated: replace\n    newer_by: trip\n", "m.yaml:56:15: facts.trip.newer_by: trip is part of the grain, so two rows of one grain have the same"},
		{"    grain: trip\n", "    grain: trip\n    repeated: replace\n    newer_by: reg\n", "m.yaml:56:15: facts.trip.newer_by: reg is of type text; it must be an integer, a decimal of up to 18 digits, a date or a timestamp"},
		{"    read: boats.csv\n", "    read: boats.csv\n    since: since\n    overlap: 2 days\n", "m.yaml:7:12: sources.boats.since: since is for a table or query of a database: files that have not changed are not read"},
		{"    read: boats.csv\n", "    read: boats.csv\n    overlap: 2 days\n", "m.yaml:7:14: sources.boats.overlap: overlap goes with since, the column by which new rows are known"},
		{"    grain: trip\n", "    grain: trip\n    gone: remove\n", "m.yaml:52:3: facts.trip: gone speaks of deliveries of all rows: delivers: all, or delivers: files"},
		{"    grain: trip\n", "    grain: trip\n    delivers: files\n    complete_for: day\n    delivered_on: at\n", "m.yaml:56:19: facts.trip.complete_for: with delivers: files, a file is complete for its own rows|m.yaml:56:19: facts.trip.complete_for: day is not part of the grain, so one row could belong to two deliveries: add it to the grain|m.yaml:57:19: facts.trip.delivered_on: with delivers: files, what a file has now counts"},
		{"    grain: trip\n", "    grain: trip\n    delivers: all\n    delivered_on: code\n", "m.yaml:56:19: facts.trip.delivered_on: code is of type text; it is a date or a timestamp"},
		{"    measures: [paid, fee]\n", "    measures: [paid, weight]\n    repeated: sum\n", "m.yaml:64:22: facts.trip.measures: weight is of type double; repeated: sum adds up exact numbers|..."},
		{"    grain: trip\n", "    grain: trip\n    repeated: complete\n", "m.yaml:52:3: facts.trip: repeated: complete needs complete, the columns that later rows fill or change"},
		{"    grain: trip\n", "    grain: trip\n    complete: paid\n", "m.yaml:55:5: facts.trip: complete, rows_tell, lags and in_order go with repeated: complete"},
		{"    grain: trip\n", "    grain: trip\n    repeated: complete\n    complete: [trip, paid, paid, payd]\n", "m.yaml:56:16: facts.trip.complete: trip is part of the grain, which tells which row is completed|m.yaml:56:28: facts.trip.complete: paid is listed twice|m.yaml:56:34: facts.trip.complete: source trips has no column payd (did you mean paid?)"},
		{"    grain: trip\n", "    grain: trip\n    repeated: complete\n    complete: [at, boat]\n", "m.yaml:58:7: facts.trip.keys.boat: later rows complete the key and at, so nothing tells which of both comes first: as_of needs a column that does not change"},
		{"    grain: trip\n", "    grain: trip\n    repeated: complete\n    complete: paid\n    lags: {wait: {from: day, to: at, in: hours}, x: {from: code, to: at}}\n", "m.yaml:57:12: facts.trip.lags.wait: day has no time of the day: in: days|m.yaml:57:60: facts.trip.lags.x: code is of type text; it is a date or a timestamp"},
		{"    natural_key: code\n", "    natural_key: code\n    durable_key: kept\n", "m.yaml:39:5: dimensions.zone.durable_key: without type_2 attributes a member has one row, whose key is durable already"},
		{"    effective: since\n", "", "m.yaml:49:13: dimensions.boat.type_2: versions need effective: the column that says since when a row is so"},
		{"    effective: since\n", "    effective: class\n", "m.yaml:50:16: dimensions.boat.effective: class is of type text; an effective time is a date or a timestamp"},
		{"    type_1: length\n", "    type_1: [length, reg]\n", "m.yaml:48:22: dimensions.boat.type_1: reg is already the natural key"},
		{"      class: text\n", "      Valid_To: text\n", "m.yaml:49:13: dimensions.boat.type_2: source boats has no column class (there is: reg, no, Valid_To, length, speed, since)"},
		{"        by: [reg, no]\n", "        by: [reg, nr]\n", "m.yaml:57:19: facts.trip.keys.boat: source trips has no column nr (did you mean no?)"},
		{"        by: [reg, no]\n", "        by: reg\n", "m.yaml:57:13: facts.trip.keys.boat: the natural key of dimension boat (reg, no) and `by` differ in the number of columns: 2 and 1"},
		{"        by: [reg, no]\n", "        by: {reg: code, nr: no}\n", "m.yaml:57:25: facts.trip.keys.boat: the natural key of dimension boat has no column nr (did you mean no?)"},
		{"        by: [reg, no]\n", "        by: {reg: code, no: trip}\n        unmatched: infr\n", "m.yaml:58:20: facts.trip.keys.boat.unmatched: no such choice: infr (did you mean infer?)"},
		{"      zone: code\n", "      zone: trip\n", "m.yaml:59:13: facts.trip.keys.zone: trip is of type integer, but code of dimension zone is of type text: nothing would ever match"},
		{"      zone: code\n", "      zone:\n        by: code\n        unmatched: infer\n", "m.yaml:59:7: facts.trip.keys.zone: dimension zone has no source, so its members cannot be inferred: unknown, set_aside or stop"},
		{"      zone: code\n", "      port: code\n", "m.yaml:59:7: facts.trip.keys.port: there is no dimension port (there is: date, zone, boat)"},
		{"        as_of: at\n", "        as_of: trip\n", "m.yaml:58:16: facts.trip.keys.boat.as_of: trip is of type integer; as_of takes a date or a timestamp"},
		{"    grain: trip\n", "    grain: [trip, left]\n", ""},
		{"    grain: trip\n    keys:\n      boat:\n        by: [reg, no]\n", "    grain: [trip, boat]\n    keys:\n      boat:\n        by: [reg, no]\n        missing: unknown\n        unmatched: unknown\n", "m.yaml:56:7: facts.trip.keys.boat: boat is part of the grain, so it cannot become unknown: set_aside or stop"},
		{"    grain: trip\n", "    grain: weight\n", "m.yaml:54:12: facts.trip.grain: a double cannot be part of the grain"},
		{"    grain: trip\n", "    grain: tripp\n", "m.yaml:54:12: facts.trip.grain: there is no column or key tripp (did you mean trip?)"},
		{"    measures: [paid, fee]\n", "    measures: [paid, fee, code]\n", "m.yaml:64:27: facts.trip.measures: code is of type text; a measure is a number"},
		{"    measures: [paid, fee]\n", "    measures: [paid, fee]\n    limits:\n      set_aside: 200%\n", "m.yaml:66:18: facts.trip.limits.set_aside: 200% is not a share: write 20%, or none"},
		{"  trip:\n    from: trips", "  2trip:\n    from: trips", `m.yaml:52:3: facts.2trip: "2trip" cannot be a name: letters, digits and _, beginning with no digit, at most 48`},
		{"    read: boats.csv\n", "    read: boats.csv\n    csv:\n      separator: ab\n      date: dd.MM.yy\n      timestamp: yyyy-MM-dd\n      time: HH:qq\n      decimal_mark: 7\n      headers: none\n",
			"m.yaml:8:18: sources.boats.csv.separator: \"ab\" is not a mark: one character that is not a letter of a value|m.yaml:9:13: sources.boats.csv.date: yy needs two_digit_years: the first year that two digits can mean|m.yaml:10:18: sources.boats.csv.timestamp: the layout of a timestamp needs HH|m.yaml:11:13: sources.boats.csv.time: qq has no meaning in a layout: yyyy, yy, MM, MMM, dd, HH, hh, a, mm, ss, S|m.yaml:12:21: sources.boats.csv.decimal_mark: \"7\" is not a mark: one character that is not a letter of a value|m.yaml:13:7: sources.boats.csv: no such key: headers (did you mean header?)"},
		{"    read: boats.csv\n", "    read: boats.csv\n    csv:\n      decimal_mark: ','\n      thousands_mark: ','\n", "m.yaml:5:3: sources.boats.csv: ',' cannot be two marks at once"},
		{"      length: decimal(5,2)\n", "      length:\n        header: Length\n        position: 0\n", "m.yaml:11:7: sources.boats.columns.length: its type is missing: text files do not tell the types of their columns|m.yaml:13:19: sources.boats.columns.length.position: 0 is not a position: 1 is the first"},
		{"  boat:\n    from: boats\n", "  BOAT:\n    from: boats\n    natural_key: reg\n    type_1: length\n  boat:\n    from: boats\n", "m.yaml:49:3: dimensions.boat: its table would be called dim_boat, as that of dimensions.BOAT is"},
		{"  boat:\n    from: boats\n", "  left_date:\n    from: boats\n    natural_key: reg\n    type_1: length\n  boat:\n    from: boats\n", "m.yaml:64:7: the role left of date: its table would be called dim_left_date, as that of dimensions.left_date is"},
		{"warehouse:", "warehouse: &w", "m.yaml:1:12: anchors and aliases are not allowed: write it out"},
		{"warehouse:", "warehouse: [", "m.yaml:2: this is not YAML: did not find expected ',' or ']'"},
		{"facts:\n", "facts: none\nfact:\n", "m.yaml:51:8: facts: expected keys and values here (key: value), not the word none|m.yaml:52:1: no such key: fact (did you mean facts?)"},
	} {
		if !strings.Contains(sound, c.old) {
			t.Fatalf("%q is not in the sound model", c.old)
		}
		_, err := Parse("m.yaml", []byte(strings.Replace(sound, c.old, c.new, 1)), Outside{})
		var got []string
		if err != nil {
			for _, line := range strings.Split(err.Error(), "\n") {
				if strings.HasPrefix(line, "m.yaml") {
					got = append(got, line)
				}
			}
		}
		want, more := strings.CutSuffix(c.want, "|...")
		joined := strings.Join(got, "|")
		if more && strings.HasPrefix(joined, want+"|") {
			continue
		}
		if joined != want {
			t.Errorf(
				"%q for %q:\n%s\nwant\n%s",
				c.new,
				c.old,
				strings.Join(got, "\n"),
				strings.ReplaceAll(c.want, "|", "\n"),
			)
		}
	}
}

// TestCycle: outriggers that wait for each other are told with their whole way round.
func TestCycle(t *testing.T) {
	_, err := Parse("m.yaml", []byte(`warehouse: {sqlite: s.db}
sources:
  s: {read: s.csv, columns: {a: text, b: text}}
dimensions:
  one: {from: s, natural_key: a, keys: {two: b}}
  two: {from: s, natural_key: a, keys: {one: b}}
`), Outside{})
	if err == nil ||
		!strings.Contains(err.Error(), "dimensions.two.keys.one: dimensions wait for each other: one -> two -> one") {
		t.Error(err)
	}
}

// FuzzParse looks for models that make the reader panic.
func FuzzParse(f *testing.F) {
	f.Add([]byte(sound))
	f.Add([]byte("warehouse: {sqlite: [a]}\ndimensions: {x: {rows: [[1]], natural_key: {a: b}}}"))
	f.Add([]byte("facts: {f: {from: s, grain: [k], keys: {k: {by: {a: [b]}}}}}"))
	f.Fuzz(func(t *testing.T, text []byte) {
		if _, err := Parse("m.yaml", text, Outside{}); err != nil {
			_ = err.Error()
		}
	})
}
