package calendar_test

import (
	"context"
	"fmt"
	"os"
	"testing"

	"github.com/jackc/pgx/v5"

	"ironmonger/internal/calendar"
	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/startest"
)

func TestMain(m *testing.M) { os.Exit(startest.Main(m)) }

// TestAgainstPostgres holds every day of 300 years against what PostgreSQL knows of it.
func TestAgainstPostgres(t *testing.T) {
	connection, _ := startest.Postgres(t)
	ctx := context.Background()
	db, err := pgx.Connect(ctx, connection)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(ctx)
	asked := [][2]string{
		{"date", "d::text"}, {"day", "extract(day from d)::text"}, {"month", "extract(month from d)::text"}, {"year", "extract(year from d)::text"},
		{"quarter", "extract(quarter from d)::text"}, {"day_of_week", "extract(isodow from d)::text"}, {"day_of_year", "extract(doy from d)::text"},
		{"iso_year", "extract(isoyear from d)::text"}, {"iso_week", "extract(week from d)::text"}, {"century", "extract(century from d)::text"},
		{"julian_day_number", "to_char(d, 'J')"}, {"iso_week_label", `to_char(d, 'IYYY-"W"IW')`}, {"iso_date_label", `to_char(d, 'IYYY-"W"IW-ID')`},
		{"iso_day_of_year", "ltrim(to_char(d, 'IDDD'), '0')"}, {"month_name", "to_char(d, 'FMMonth')"}, {"weekday_short", "to_char(d, 'Dy')"},
		{"weekday_name", "to_char(d, 'FMDay')"}, {"month_short", "to_char(d, 'Mon')"}, {"year_quarter", `to_char(d, 'YYYY-"Q"Q')`},
		{"month_start", "date_trunc('month', d)::date::text"}, {"month_end", "(date_trunc('month', d) + interval '1 month - 1 day')::date::text"},
		{"quarter_end", "(date_trunc('quarter', d) + interval '3 months - 1 day')::date::text"}, {"iso_week_start", "date_trunc('week', d)::date::text"},
		{"same_day_last_year", "(d - interval '1 year')::date::text"}, {"same_day_last_month", "(d - interval '1 month')::date::text"},
		{"same_day_last_quarter", "(d - interval '3 months')::date::text"}, {"epoch_day", "(d - date '1970-01-01')::text"},
		{"sort_order", "to_char(d, 'YYYYMMDD')"}, {"weekday_of_month", "to_char(d, 'W')"}, {"days_in_year", "to_char(date_trunc('year', d) + interval '1 year - 1 day', 'FMDDD')"},
		{"running_week", "((d - date '0001-01-01') / 7)::text"}, {"fiscal_year", "extract(year from d - interval '3 months')::text"},
	}
	c := &calendar.Calendar{From: civil.Day(1900, 1, 1), To: civil.Day(2199, 12, 31), Fiscal: calendar.Fiscal{Start: 4}}
	query, chosen := "SELECT ", []string{}
	for k, a := range asked {
		if k > 0 {
			query += ", "
			chosen = append(chosen, a[0])
		}
		query += a[1]
	}
	c.Chosen = chosen
	rows, err := db.Query(ctx, query+" FROM (SELECT generate_series(date '1900-01-01', date '2199-12-31', interval '1 day')::date AS d) days ORDER BY d")
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	says := make([]string, len(asked))
	into := make([]any, len(asked))
	for k := range says {
		into[k] = &says[k]
	}
	days := c.Days(nil, nil)
	b, n := column.NewBatch(days.Fields()), 0
	for p, err := range days.Pieces(ctx) {
		if err == nil {
			err = p.Fill(b)
		}
		if err != nil {
			t.Fatal(err)
		}
		for i := range b.N {
			if !rows.Next() {
				t.Fatal("PostgreSQL has fewer days", rows.Err())
			}
			if err := rows.Scan(into...); err != nil {
				t.Fatal(err)
			}
			for k, a := range asked {
				if got := b.Cols[column.Find(days.Fields(), a[0])].Value(i); got != says[k] {
					t.Fatal(fmt.Sprintf("%s: %s is %s, and PostgreSQL says %s", says[0], a[0], got, says[k]))
				}
			}
			n++
		}
	}
	if n != 109573 || rows.Next() {
		t.Errorf("%d days", n)
	}
}
