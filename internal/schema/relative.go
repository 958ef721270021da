package schema

import (
	"fmt"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/warehouse"
)

// RelativeColumn is a column of the view of a calendar that counts from a reference day.
type RelativeColumn struct {
	Name, Meaning string
	Retail        bool // only where the calendar has retail years

	sql string // d is the day, r the reference day
}

// RelativeColumns lists the columns of the view, besides the key and the date of the day. All follow from running
// numbers of the calendar, so that nothing is wrong at the end of a year; those of special members are null.
func RelativeColumns() []RelativeColumn {
	list := []RelativeColumn{
		{Name: "reference_date", Meaning: "the reference day", sql: `a."reference_date"`},
		{Name: "days_from_reference", Meaning: "days from the reference day; before it negative", sql: `d."epoch_day" - r."epoch_day"`},
	}
	for _, p := range []struct{ name, number, of string }{
		{"week", "running_week", "Monday to Sunday"}, {"month", "running_month", ""}, {"quarter", "running_quarter", ""}, {"year", "year", ""},
		{"fiscal_quarter", "running_fiscal_quarter", ""}, {"fiscal_year", "fiscal_year", ""},
		{"retail_week", "running_retail_week", ""}, {"retail_period", "running_retail_period", ""}, {"retail_year", "retail_year", ""},
	} {
		said, retail := strings.ReplaceAll(p.name, "_", " "), strings.HasPrefix(p.name, "retail")
		if p.of != "" {
			p.of = ", from " + p.of
		}
		list = append(list,
			RelativeColumn{p.name + "s_from_reference", said + "s from that of the reference day" + p.of, retail, fmt.Sprintf(`d.%q - r.%q`, p.number, p.number)},
			RelativeColumn{"is_this_" + p.name, "the " + said + " of the reference day", retail, fmt.Sprintf(`d.%q = r.%q`, p.number, p.number)},
		)
	}
	toDate := func(name, of, number string, retail bool) RelativeColumn {
		return RelativeColumn{name, "the " + of + " of the reference day, up to this day", retail, fmt.Sprintf(`d.%q = r.%q AND d."epoch_day" <= r."epoch_day"`, number, number)}
	}
	return append(list,
		RelativeColumn{"is_reference_day", "the reference day", false, `d."epoch_day" = r."epoch_day"`},
		RelativeColumn{"is_future", "after the reference day", false, `d."epoch_day" > r."epoch_day"`},
		toDate("is_month_to_date", "month", "running_month", false),
		toDate("is_quarter_to_date", "quarter", "running_quarter", false),
		toDate("is_year_to_date", "year", "year", false),
		toDate("is_fiscal_year_to_date", "fiscal year", "fiscal_year", false),
		RelativeColumn{
			"is_last_year_to_date", "the year before, up to same_day_last_year of the reference day", false,
			`d."year" = r."year" - 1 AND d."date" <= r."same_day_last_year"`,
		},
		RelativeColumn{
			"is_last_fiscal_year_to_date", "the fiscal year before, up to same_day_last_year of the reference day", false,
			`d."fiscal_year" = r."fiscal_year" - 1 AND d."date" <= r."same_day_last_year"`,
		},
		toDate("is_retail_year_to_date", "retail year", "retail_year", true),
		RelativeColumn{
			"is_comparable_retail_year_to_date", "the days 364 days before those of is_retail_year_to_date", true,
			`d."epoch_day" BETWEEN r."epoch_day" - r."retail_day_of_year" + 1 - 364 AND r."epoch_day" - 364`,
		},
	)
}

// relative adds the table with the reference day, and the view that counts from it.
func (d *Dimension) relative() {
	if d.Calendar == nil || d.Calendar.Relative == nil {
		return
	}
	d.AsOf = &warehouse.Table{
		Name: "dim_" + d.Text + "_as_of", Primary: []string{"id"},
		Columns: []warehouse.Column{
			{Field: column.Field{Name: "id", Type: integer}, NotNull: true},
			{Field: column.Field{Name: "reference_date", Type: column.Type{Kind: column.Date}}},
			{Field: column.Field{Name: LoadRun, Type: integer}, NotNull: true},
		},
	}
	parts := []string{fmt.Sprintf("d.%q AS %q", d.KeyColumn(), d.KeyColumn()), `d."date" AS "date"`}
	for _, c := range RelativeColumns() {
		if !c.Retail || d.Calendar.Retail != nil {
			parts = append(parts, fmt.Sprintf("(%s) AS %q", c.sql, c.Name))
		}
	}
	d.Views = append(d.Views, &warehouse.View{
		Name: "dim_" + d.Text + "_relative", Of: d.Table.Name, Also: d.AsOf.Name,
		Query: "SELECT " + strings.Join(parts, ", ") + " FROM {" + d.Table.Name + "} d LEFT JOIN {" + d.AsOf.Name + "} a ON a.\"id\" = 1 LEFT JOIN {" +
			d.Table.Name + "} r ON r.\"date\" = a.\"reference_date\"",
	})
}
