package render

import (
	"fmt"
	"io"
	"strings"

	"ironmonger/internal/survey"
)

// Surveyed writes what was found of files that no model describes.
func Surveyed(w io.Writer, tables []*survey.Table, skipped []string, width int) {
	for n, t := range tables {
		if n > 0 {
			fmt.Fprintln(w)
		}
		surveyed(w, t, width)
	}
	for n, s := range skipped {
		if n == 0 && len(tables) > 0 {
			fmt.Fprintln(w)
		}
		fmt.Fprintln(w, "not looked at:", s)
	}
}

func surveyed(w io.Writer, t *survey.Table, width int) {
	files := t.Files[0]
	if n := len(t.Files); n > 1 {
		files = fmt.Sprintf("%s and %s like it", t.Files[0], Plural(int64(n-1), "file"))
	}
	said := []string{t.Format}
	for _, s := range []string{t.Written, t.Encoding, t.Evidence} {
		if s != "" {
			said = append(said, s)
		}
	}
	fmt.Fprintf(w, "%s: %s\n%s, %s\n\n", files, strings.Join(said, "; "), Plural(t.Rows, "row"), Plural(int64(len(t.Columns)), "column"))
	table := &Table{Columns: columns("column~", "type", "written as?", "values>", "empty>", "distinct>", "do not fit>?", "for example~?", "remarks~?")}
	for _, c := range t.Columns {
		written := c.Layout
		switch c.Marks {
		case "":
		case ",":
			written = "decimal comma"
		default:
			written = fmt.Sprintf("1%c234%c56", c.Marks[0], c.Marks[1])
		}
		remarks := c.Doubts
		if len(c.Nulls) > 0 {
			remarks = append([]string{"empty: " + strings.Join(c.Nulls, ", ")}, remarks...)
		}
		distinct := Number(c.Distinct)
		if c.Distinct == c.Filled && c.Empty == 0 && t.Rows > 1 {
			distinct += " (all)"
		}
		example := ""
		if c.Unfit > 0 {
			example = "‹" + c.Example + "› (" + c.Place + ")"
		}
		table.Add(c.Name, c.Type, written, Number(c.Filled), Number(c.Empty), distinct, Number(c.Unfit), example, strings.Join(remarks, "; "))
	}
	table.Write(w, width)
	if t.Ragged > 0 {
		fmt.Fprintf(w, "\n%s with another number of fields\n", Plural(t.Ragged, "row"))
	}
}

// SurveyedRecords returns a row for each column.
func SurveyedRecords(tables []*survey.Table) *Records {
	r := &Records{Head: []string{"file", "files", "rows", "column", "type", "layout", "values", "empty", "distinct", "do_not_fit", "example"}}
	for _, t := range tables {
		for _, c := range t.Columns {
			r.add(t.Files[0], len(t.Files), t.Rows, c.Name, c.Type, c.Layout, c.Filled, c.Empty, c.Distinct, c.Unfit, c.Example)
		}
	}
	return r
}
