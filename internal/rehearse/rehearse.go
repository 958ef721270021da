// Package rehearse plays worked examples of a model: given rows are loaded into a star of their own, in a temporary
// folder, and what comes out is held against the rows that must.
package rehearse

import (
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/ledger"
	"ironmonger/internal/load"
	"ironmonger/internal/parse"
	"ironmonger/internal/preview"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
	_ "ironmonger/internal/warehouse/sqlite" // examples are played in a file
)

// Result is what came of an example.
type Result struct {
	Example     string       `json:"example"`
	Loads       int          `json:"loads"`
	Tables      int          `json:"tables"` // that were compared
	Differences []Difference `json:"differences"`
}

// Difference is a table that is not as it must be.
type Difference struct {
	Load    int      `json:"load"` // the first is 1
	Table   string   `json:"table"`
	Place   string   `json:"place"` // where the example says what must stand
	Columns []string `json:"columns"`
	Missing []string `json:"missing"` // rows that must stand and don't, as CSV
	Extra   []string `json:"extra"`   // rows that stand and mustn't
	Message string   `json:"message,omitempty"`
}

// Run plays an example. The error is a [diag.List] if the example itself is wrong.
func Run(ctx context.Context, m *star.Model, e *star.Example) (*Result, error) {
	dir, err := os.MkdirTemp("", "rehearse")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	db, err := warehouse.Open(
		ctx,
		warehouse.Location{Kind: star.SQLite, Path: filepath.Join(dir, "star.db")},
		warehouse.ToWrite,
	)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	restore := stage(m)
	defer restore()
	result := &Result{Example: e.Text, Loads: len(e.Loads), Differences: []Difference{}}
	for n, x := range e.Loads {
		if err := deliver(dir, m, x, n+1); err != nil {
			return nil, err
		}
		if err := lend(ctx, db, m, x); err != nil {
			return nil, err
		}
		run, err := load.Run(ctx, m, root, db, load.Options{Program: "rehearse", Holder: "rehearse"})
		if errors.Is(err, load.ErrSteps) {
			for _, s := range run.Steps {
				if s.State == ledger.Failed {
					result.Differences = append(
						result.Differences,
						Difference{Load: n + 1, Table: s.Name, Place: e.At.String(), Message: s.Message},
					)
				}
			}
			return result, nil
		} else if err != nil {
			return nil, err
		}
		for _, g := range x.Stands {
			if err := result.hold(ctx, db, m, g, n+1); err != nil {
				return nil, err
			}
		}
		if x.SetAside != nil {
			if err := result.aside(ctx, db, *x.SetAside, n+1); err != nil {
				return nil, err
			}
		}
	}
	return result, nil
}

// stage makes what the sources of a model read plain files of their own, with all columns that rows have once they are
// read, and returns what puts them back. Sources that are made of others are left as they are.
func stage(m *star.Model) (restore func()) {
	kept := make([]star.Source, len(m.Sources))
	for i, s := range m.Sources {
		kept[i] = *s
	}
	for _, s := range m.Sources {
		if !s.Reads() {
			continue
		}
		taken := s.Taken()
		s.Files = star.Files{Read: []star.Name{{Text: s.Text + "-*.csv"}}, Format: star.InCSV, CSV: star.PlainCSV}
		s.Database, s.OrderBy, s.DrivenBy, s.Columns = nil, nil, nil, nil
		s.OfFile, s.DeliveredBy = nil, nil
		s.Settle, s.Companion, s.Corrections = 0, "", star.Name{} // what is given is complete and right
		s.LeaveOut, s.Unpivot, s.Split = nil, nil, nil            // rows come as they are once that is done
		for _, f := range taken {
			s.Columns = append(s.Columns, star.Column{Name: star.Name{Text: f.Name}, Type: f.Type})
		}
	}
	adopts := make([]*star.Adopted, len(m.Dimensions))
	for i, d := range m.Dimensions { // there is no table that stood before
		adopts[i], d.Adopts = d.Adopts, nil
	}
	return func() {
		for i, s := range m.Sources {
			*s = kept[i]
		}
		for i, d := range m.Dimensions {
			d.Adopts = adopts[i]
		}
	}
}

// deliver writes the files of a load, with all columns that a source declares.
func deliver(dir string, m *star.Model, x *star.Rehearsal, n int) error {
	for _, g := range x.Arrives {
		for _, s := range m.Sources {
			if s.Text == g.Name.Text && !s.Reads() {
				return mistake(
					g,
					0,
					"source %s is made of others: its rows come from %s",
					s.Text,
					strings.Join(named(s.Made()), ", "),
				)
			}
		}
	}
	for _, s := range m.Sources {
		if !s.Reads() {
			continue
		}
		names := make([]string, len(s.Columns))
		for k, c := range s.Columns {
			names[k] = c.Text
		}
		var out bytes.Buffer
		w := csv.NewWriter(&out)
		w.Write(names)
		for _, g := range x.Arrives {
			if g.Name.Text != s.Text {
				continue
			}
			head, rows, err := records(g)
			if err != nil {
				return err
			}
			for _, h := range head {
				if !slices.Contains(names, h) {
					return mistake(g, 0, "source %s has no column %s%s", s.Text, h, diag.Suggest(h, names))
				}
			}
			for _, record := range rows {
				row := make([]string, len(names))
				for k, v := range record {
					row[slices.Index(names, head[k])] = v
				}
				w.Write(row)
			}
		}
		w.Flush()
		if err := os.WriteFile(filepath.Join(dir, fmt.Sprintf("%s-%03d.csv", s.Text, n)), out.Bytes(), 0o600); err != nil {
			return err
		}
	}
	return nil
}

func named(sources []*star.Source) []string {
	var names []string
	for _, s := range sources {
		names = append(names, s.Text)
	}
	return names
}

func mistake(g star.Given, line int, format string, args ...any) error {
	at := g.At
	at.Line += line
	return diag.List{{At: at, Subject: g.Name.Text, Message: fmt.Sprintf(format, args...)}}
}

// records reads given rows.
func records(g star.Given) (head []string, rows [][]string, err error) {
	rd := csv.NewReader(strings.NewReader(g.Text))
	if head, err = rd.Read(); err == io.EOF {
		return nil, nil, mistake(g, 0, "there is no header: the first line names the columns")
	} else if err != nil {
		return nil, nil, mistake(g, 0, "this is not CSV: %v", err)
	}
	for {
		row, err := rd.Read()
		if err == io.EOF {
			return head, rows, nil
		}
		if wrong := new(csv.ParseError); errors.As(err, &wrong) {
			return nil, nil, mistake(g, wrong.Line-1, "this is not CSV: %v", wrong.Err)
		} else if err != nil {
			return nil, nil, mistake(g, 0, "this is not CSV: %v", err)
		}
		rows = append(rows, row)
	}
}

// hold compares a table with what must stand there.
func (r *Result) hold(ctx context.Context, db warehouse.Reader, m *star.Model, g star.Given, n int) error {
	head, rows, err := records(g)
	if err != nil {
		return err
	}
	tables := schema.New(m)
	wish := preview.Wish{Rows: math.MaxInt - 1, Natural: true}
	var fields []column.Field
	var keys []*star.Key
	var read func() (*preview.Rows, error)
	first := "" // the surrogate key of a dimension, by which special members are told
	for _, d := range tables.Dimensions {
		if d.Text == g.Name.Text {
			fields, keys, first = d.Table.Fields(), d.Keys, d.KeyColumn()
			read = func() (*preview.Rows, error) { return preview.Dimension(ctx, db, tables, d, wish) }
		}
	}
	for _, f := range tables.Facts {
		if f.Text == g.Name.Text {
			fields, keys, first = f.Table.Fields(), f.Keys, ""
			read = func() (*preview.Rows, error) { return preview.Fact(ctx, db, tables, f, wish) }
		}
	}
	for _, h := range head {
		name := h
		for _, k := range keys {
			if k.Text == h {
				name = k.Column()
			}
		}
		if column.Find(fields, name) < 0 {
			return mistake(
				g,
				0,
				"%s has no column or key %s%s",
				g.Name.Text,
				h,
				diag.Suggest(h, column.Names(fields)),
			)
		}
		wish.Columns = append(wish.Columns, name)
	}
	plain(rows, fields, wish.Columns, keys)
	if first != "" {
		wish.Columns = append(wish.Columns, first)
	}
	found, err := read()
	if err != nil {
		return err
	}
	var have [][]string
	for _, row := range found.Rows {
		if first != "" && strings.HasPrefix(*row[len(head)], "-") {
			continue
		}
		have = append(have, written(row[:len(head)]))
	}
	r.compare(g, n, head, rows, have)
	return nil
}

// plain writes expected values as the tables have them, so that 10 is 10.00.
func plain(rows [][]string, fields []column.Field, names []string, keys []*star.Key) {
	for k, name := range names {
		if slices.ContainsFunc(keys, func(key *star.Key) bool { return key.Column() == name }) {
			continue // a natural key
		}
		c := column.Column{Type: fields[column.Find(fields, name)].Type}
		c.Resize(1)
		reader := parse.NewReader(nil)
		for _, row := range rows {
			if row[k] != "" && reader.Set(&c, 0, row[k]) == nil {
				row[k] = c.Value(0)
			}
		}
	}
}

func written(row []*string) []string {
	cells := make([]string, len(row))
	for k, v := range row {
		if v != nil {
			cells[k] = *v
		}
	}
	return cells
}

// aside compares the rows set aside.
func (r *Result) aside(ctx context.Context, db warehouse.Reader, g star.Given, n int) error {
	head, rows, err := records(g)
	if err != nil {
		return err
	}
	names := []string{"source", "line", "reasons", "content"}
	for _, h := range head {
		if !slices.Contains(names, h) {
			return mistake(g, 0, "rows set aside have no column %s%s", h, diag.Suggest(h, names))
		}
	}
	var have [][]string
	err = ledger.EachAside(ctx, db, ledger.Waiting, func(a *ledger.Aside, _ int64) error {
		all := map[string]string{
			"source":  a.Source,
			"line":    fmt.Sprint(a.Line),
			"reasons": a.Reasons(),
			"content": a.Content,
		}
		var row []string
		for _, h := range head {
			row = append(row, all[h])
		}
		have = append(have, row)
		return nil
	})
	r.compare(g, n, head, rows, have)
	return err
}

// compare notes how two lists of rows differ, order aside.
func (r *Result) compare(g star.Given, n int, head []string, want, have [][]string) {
	r.Tables++
	count := map[string]int{}
	line := func(row []string) string {
		var out strings.Builder
		w := csv.NewWriter(&out)
		w.Write(row)
		w.Flush()
		return strings.TrimSuffix(out.String(), "\n")
	}
	for _, row := range want {
		count[line(row)]++
	}
	for _, row := range have {
		count[line(row)]--
	}
	d := Difference{
		Load:    n,
		Table:   g.Name.Text,
		Place:   g.At.String(),
		Columns: head,
		Missing: []string{},
		Extra:   []string{},
	}
	for row, times := range count {
		for ; times > 0; times-- {
			d.Missing = append(d.Missing, row)
		}
		for ; times < 0; times++ {
			d.Extra = append(d.Extra, row)
		}
	}
	slices.Sort(d.Missing)
	slices.Sort(d.Extra)
	if len(d.Missing)+len(d.Extra) > 0 {
		r.Differences = append(r.Differences, d)
	}
}
