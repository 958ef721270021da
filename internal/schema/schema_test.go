package schema

import (
	"fmt"
	"strings"
	"testing"

	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

const model = `warehouse: {sqlite: s.db}
sources:
  boats:
    read: b.csv
    columns:
      reg: text
      no: integer
      home: text
      class: text
      length: decimal(5,2)
      since: timestamp
      rank: integer
  trips:
    read: t.csv
    columns:
      trip: integer
      reg: text
      no: integer
      left: timestamp
      day: date
      port: text
      paid: decimal(9,2)
dimensions:
  date:
    calendar:
      from: 2024-01-01
      to: 2024-12-31
  port:
    natural_key: code
    rows:
      - {code: P, name: Quay}
  boat:
    from: boats
    natural_key: [reg, no]
    type_2: class
    effective: since
    sequence: rank
    keys:
      home_port:
        dimension: port
        by: home
        missing: leave_empty
facts:
  trip:
    from: trips
    grain: [boat, day]
    keys:
      boat:
        by: [reg, no]
        as_of: left
      start:
        dimension: port
        by: port
        missing: leave_empty
      sailed:
        dimension: date
        by: left
    measures: paid
    degenerate: trip
`

// describe writes a table in one line.
func describe(t *warehouse.Table) string {
	var parts []string
	for _, c := range t.Columns {
		part := c.Name + " " + c.Type.String()
		if c.NotNull {
			part += "!"
		}
		parts = append(parts, part)
	}
	for _, f := range t.Foreign {
		parts = append(parts, fmt.Sprintf("%s -> %s.%s", f.Column, f.Table, f.Key))
	}
	return fmt.Sprintf("%s: %s; primary %v unique %v", t.Name, strings.Join(parts, ", "), t.Primary, t.Unique)
}

func TestTables(t *testing.T) {
	m, err := star.Parse("m.yaml", []byte(model), star.Outside{})
	if err != nil {
		t.Fatal(err)
	}
	s := New(m)
	var got []string
	for _, d := range s.Dimensions {
		got = append(got, describe(d.Table))
		if d.Observed != nil {
			got = append(got, describe(d.Observed))
		}
		for _, v := range d.Views {
			got = append(got, fmt.Sprintf("%s: %s as %s, ...", v.Name, v.Columns[0].From, v.Columns[0].To))
		}
		for _, r := range d.PointedAt {
			got = append(
				got,
				fmt.Sprintf(
					"  from %s.%s outrigger %v by %q (day %v, %v)",
					r.Table,
					r.Key,
					r.Outrigger,
					r.Time,
					r.ByDay,
					r.TimeType,
				),
			)
		}
	}
	got = append(got, describe(s.Facts[0].Table))
	want := []string{
		"dim_date: date_key integer!, date date, day integer, month integer, month_name text, quarter integer, year integer, iso_week integer, iso_year integer, day_of_week integer, weekday_name text, fiscal_year integer, fiscal_quarter integer, fiscal_month integer, sort_order integer, load_run integer!; primary [date_key] unique [date]",
		"dim_sailed_date: date_key as sailed_date_key, ...",
		`  from fact_trip.sailed_date_key outrigger false by "" (day false, null)`,
		"dim_port: port_key integer!, code text, name text, load_run integer!; primary [port_key] unique [code]",
		"dim_home_port_port: port_key as home_port_port_key, ...",
		"dim_start_port: port_key as start_port_key, ...",
		`  from dim_boat.home_port_port_key outrigger true by "" (day false, null)`,
		`  from fact_trip.start_port_key outrigger false by "" (day false, null)`,
		"dim_boat: boat_key integer!, reg text, no integer, class text, length decimal(5,2), home_port_port_key integer, effective_from timestamp, effective_sequence integer, valid_from timestamp!, valid_to timestamp!, is_current boolean!, is_inferred boolean!, load_run integer!, home_port_port_key -> dim_port.port_key; primary [boat_key] unique [reg no valid_from]",
		"dim_boat_observed: boat_key integer!, effective_from timestamp!, effective_sequence integer; primary [] unique []",
		`  from dim_boat_observed.boat_key outrigger false by "effective_from" (day false, timestamp)`,
		`  from fact_trip.boat_key outrigger false by "left" (day false, timestamp)`,
		"fact_trip: day date!, trip integer, left timestamp, boat_key integer!, start_port_key integer, sailed_date_key integer!, paid decimal(9,2), load_line integer!, load_run integer!, boat_key -> dim_boat.boat_key, start_port_key -> dim_port.port_key, sailed_date_key -> dim_date.date_key; primary [boat_key day] unique []",
	}
	for i := range max(len(got), len(want)) {
		if i >= len(got) || i >= len(want) || got[i] != want[i] {
			t.Fatalf("line %d:\n%s\nwant\n%s", i, strings.Join(got, "\n"), strings.Join(want, "\n"))
		}
	}
	if from, to := Bounds(s.Dimensions[2].Time); from != Beginning*86400e6 || to != End*86400e6 {
		t.Error(from, to)
	}
}
