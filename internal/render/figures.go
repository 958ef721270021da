package render

import (
	"fmt"
	"io"

	"ironmonger/internal/preview"
	"ironmonger/internal/profile"
)

// Figures writes what the values of columns are like.
func Figures(w io.Writer, r *preview.Rows, width int) {
	t := &Table{Columns: columns("column~", "type", "fits?", "nulls>", "distinct>", "unique", "with end blanks>?",
		"case variants>?", "longest>", "least~", "greatest~", "occurs>", "most frequent~")}
	estimate := 0.0
	for _, f := range r.Figures {
		fits := ""
		if f.Fits != f.Type {
			fits = f.Fits
		}
		distinct := Number(f.Distinct)
		if f.Error > 0 {
			distinct, estimate = "~"+distinct, f.Error
		}
		t.Add(
			f.Name,
			f.Type,
			fits,
			Number(f.Nulls),
			distinct,
			f.Unique,
			Number(f.Padded),
			Number(f.Alike),
			Number(int64(f.Longest)),
			value(f.Least),
			value(f.Greatest),
			frequency(f),
			value(f.Frequent),
		)
	}
	t.Write(w, width)
	fmt.Fprintf(w, "\n%s looked at", Plural(r.Matched, "row"))
	if r.Matched < r.Seen-r.SetAside {
		fmt.Fprintf(w, " of %s", Plural(r.Seen, "row"))
	}
	if r.SetAside > 0 {
		fmt.Fprintf(w, ", %s set aside", Plural(r.SetAside, "row"))
	}
	fmt.Fprintln(w)
	if estimate > 0 {
		fmt.Fprintf(w, "~ is an estimate, with a standard error of %.1f%%\n", 100*estimate)
	}
}

func frequency(f profile.Column) string {
	if f.AtLeast && f.FrequentRows > 0 {
		return "≥ " + Number(f.FrequentRows)
	}
	return Number(f.FrequentRows)
}

// value shows a value between marks, so that blanks at its ends are seen; null is nothing.
func value(s *string) string {
	if s == nil {
		return ""
	}
	return "‹" + *s + "›"
}

// FigureRecords returns a row for each column.
func FigureRecords(r *preview.Rows) *Records {
	out := &Records{
		Head: []string{
			"column",
			"type",
			"rows",
			"nulls",
			"distinct",
			"distinct_error",
			"unique",
			"least",
			"greatest",
			"longest",
			"most_frequent",
			"most_frequent_rows",
			"most_frequent_at_least",
			"padded",
			"alike",
			"fits",
		},
	}
	text := func(s *string) string {
		if s == nil {
			return ""
		}
		return *s
	}
	for _, f := range r.Figures {
		out.add(
			f.Name,
			f.Type,
			f.Rows,
			f.Nulls,
			f.Distinct,
			f.Error,
			f.Unique,
			text(f.Least),
			text(f.Greatest),
			f.Longest,
			text(f.Frequent),
			f.FrequentRows,
			f.AtLeast,
			f.Padded,
			f.Alike,
			f.Fits,
		)
	}
	return out
}
