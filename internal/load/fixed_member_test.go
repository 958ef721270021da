package load_test

import (
	"strings"
	"testing"

	"ironmonger/internal/load"
	"ironmonger/internal/startest"
)

// TestFixedMember: all rows point to one member, by its natural key or as a special one; it may come later, or have
// versions.
func TestFixedMember(t *testing.T) {
	dir := t.TempDir()
	startest.Write(t, dir, "ironmonger.yaml", `warehouse: {sqlite: star.db}
sources:
  trips: {read: trips.csv, columns: {no: integer, day: date}}
  fleets: {read: fleets.csv, columns: {country: text, number: integer, name: text, since: date}}
dimensions:
  fleet: {from: fleets, natural_key: [country, number], type_2: name, effective: since}
  date: {calendar: {from: 2025-01-01, to: 2025-12-31}}
facts:
  trip:
    from: trips
    grain: no
    keys:
      day: {dimension: date, by: day}
      paid: {dimension: date, member: not_yet}
      fleet: {member: [N, 7], as_of: day}
      lender: {dimension: fleet, member: ["it's", 8]}
      owner: {dimension: fleet, member: unknown}
`)
	startest.Write(t, dir, "fleets.csv", "country,number,name,since\nN,7,Old,2020-01-01\nN,7,New,2025-06-01\nN,8,Other,2020-01-01\n")
	startest.Write(t, dir, "trips.csv", "no,day\n1,2025-03-01\n2,2025-07-01\n")
	for range 2 {
		if _, err := startest.Load(t, dir, load.Options{}); err != nil {
			t.Fatal(err)
		}
		star := startest.Star(t, dir)
		names := map[string]string{}
		for _, row := range star["dim_fleet"] {
			names[row["fleet_key"]] = row["country"] + row["number"] + row["name"]
		}
		var got []string
		for _, row := range star["fact_trip"] {
			got = append(got, strings.Join([]string{row["no"], row["paid_date_key"], names[row["fleet_key"]], names[row["lender_fleet_key"]], row["owner_fleet_key"]}, " "))
		}
		if s := strings.Join(got, "; "); s != "1 -2 N7Old it's8 -1; 2 -2 N7New it's8 -1" {
			t.Error(s)
		}
		if !startest.Proved(t, dir) {
			t.Error("the star is broken")
		}
	}
}
