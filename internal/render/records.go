package render

import (
	"encoding/csv"
	"fmt"
	"io"
	"regexp"
	"strings"
	"time"

	"ironmonger/internal/ledger"
	"ironmonger/internal/load"
	"ironmonger/internal/precheck"
	"ironmonger/internal/preview"
	"ironmonger/internal/strays"
)

// Records is a result as plain rows under a header, for other programs: numbers without groups, times as in
// ISO 8601, null as nothing.
type Records struct {
	Head []string
	Rows [][]string
}

func (r *Records) add(cells ...any) {
	row := make([]string, len(cells))
	for k, c := range cells {
		switch c := c.(type) {
		case *time.Time:
			if c != nil {
				row[k] = c.Format(time.RFC3339Nano)
			}
		case time.Time:
			row[k] = c.Format(time.RFC3339Nano)
		default:
			row[k] = fmt.Sprint(c)
		}
	}
	r.Rows = append(r.Rows, row)
}

// Guard puts an apostrophe before what a spreadsheet would take for a formula, and before what begins with one, so
// that taking off the first gives every value back. Numbers are left alone.
func (r *Records) Guard() {
	for _, row := range append([][]string{r.Head}, r.Rows...) {
		for k, s := range row {
			if s != "" && strings.ContainsRune("=+-@\t\r'", rune(s[0])) && !number.MatchString(s) {
				row[k] = "'" + s
			}
		}
	}
}

var number = regexp.MustCompile(`^[+-]?\d+(\.\d+)?$`)

// Write writes the records as CSV (RFC 4180).
func (r *Records) Write(w io.Writer) error {
	out := csv.NewWriter(w)
	if err := out.Write(r.Head); err != nil {
		return err
	}
	if err := out.WriteAll(r.Rows); err != nil {
		return err
	}
	return out.Error()
}

// StepRecords returns a row for each step of some runs.
func StepRecords(runs ...*ledger.Run) *Records {
	r := &Records{
		Head: []string{
			"run",
			"step",
			"state",
			"message",
			"started_at",
			"ended_at",
			"read",
			"inserted",
			"new",
			"versions",
			"filled",
			"changed",
			"same",
			"conflicts",
			"older",
			"kept_out",
			"gone",
			"back",
			"removed",
			"reversed",
			"left_out",
			"dropped",
			"merged",
			"set_aside",
		},
	}
	for _, run := range runs {
		for _, s := range run.Steps {
			f := &s.Figures
			r.add(
				run.ID,
				s.Name,
				s.State,
				s.Message,
				s.StartedAt,
				s.EndedAt,
				f.Read,
				f.Inserted,
				f.New,
				f.Versions,
				f.Filled,
				f.Changed,
				f.Same,
				f.Conflicts,
				f.Older,
				f.Kept,
				f.Gone,
				f.Back,
				f.Removed,
				f.Reversed,
				f.LeftOut,
				f.Dropped,
				f.Merged,
				f.SetAside,
			)
		}
	}
	return r
}

// OrderRecords returns a row for each step, and for each step that it waits for.
func OrderRecords(order []load.Ordered) *Records {
	r := &Records{Head: []string{"wave", "step", "waits_for", "because", "required"}}
	for _, o := range order {
		if len(o.Waits) == 0 {
			r.add(o.Wave, o.Step, "", "", "")
		}
		for _, w := range o.Waits {
			r.add(o.Wave, o.Step, w.Step, w.Because, w.Required)
		}
	}
	return r
}

// StrayRecords returns a row for each kind of row set aside, natural key that strayed, and dimension with
// inferred members.
func StrayRecords(p *strays.Report) *Records {
	r := &Records{Head: []string{"kind", "where", "what", "rule", "rows", "since_run", "file", "line", "content"}}
	for _, a := range p.SetAside {
		r.add("set aside", a.Step, a.Reason, "set_aside", a.Rows, a.Since, a.File, a.Line, a.Content)
	}
	for _, k := range p.Keys {
		r.add(k.Outcome, noun(k.Step)+"."+k.Key, k.Natural, k.Rule, k.Rows, "", k.File, k.Line, "")
	}
	for _, d := range p.Inferred {
		r.add(
			"inferred",
			d.Dimension,
			fmt.Sprint(d.Members, " members"),
			"infer",
			d.Rows,
			d.Since,
			"",
			"",
			strings.Join(d.Examples, "; "),
		)
	}
	return r
}

// RowRecords returns the rows that were asked for.
func RowRecords(found *preview.Rows) *Records {
	r := &Records{Head: found.Columns}
	for _, row := range found.Rows {
		cells := make([]string, len(row))
		for k, v := range row {
			if v != nil {
				cells[k] = *v
			}
		}
		r.Rows = append(r.Rows, cells)
	}
	return r
}

// SurveyRecords returns a row for each source.
func SurveyRecords(sources []*precheck.Source) *Records {
	r := &Records{Head: []string{"source", "files", "bytes", "rows_sampled", "would_be_set_aside"}}
	for _, s := range sources {
		r.add(s.Name, len(s.Files), s.Bytes, s.Rows, s.SetAside)
	}
	return r
}

// ListRecords returns a row for each word of a list.
func ListRecords(head string, list []string) *Records {
	r := &Records{Head: []string{head}}
	for _, s := range list {
		r.add(s)
	}
	return r
}
