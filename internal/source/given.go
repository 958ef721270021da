package source

import (
	"context"
	"iter"
	"maps"

	"ironmonger/internal/database"
	"ironmonger/internal/star"
)

// Given is some of the rows of a table or query, which somebody else has read.
type Given interface {
	// Each hands the wanted columns of each row to row, as the texts that the database writes, with the number of the
	// row, in the order of the numbers. The values are row's until it returns.
	Each(ctx context.Context, columns []string, row func(line int64, values [][]byte) error) error
	// Greatest returns the greatest value among all rows of the column by which new rows are known; nil if there is none.
	Greatest() []byte
}

// Giving returns inputs of the same model that take the rows of a table or query from somewhere else.
func (in *Inputs) Giving(s *star.Source, rows Given) *Inputs {
	other := in.Without(in.skip)
	other.marks = in.marks
	other.given = maps.Clone(in.given)
	if other.given == nil {
		other.given = map[*star.Source]Given{}
	}
	other.given[s] = rows
	return other
}

// Plain is a select of the rows of a table or query, as its database has them.
type Plain struct {
	database.Select
	Read  []string // of each column, its name in the source
	Since int      // the column by which new rows are known, or -1
}

// Plain returns the select of the rows that [Inputs.Open] would read.
func (in *Inputs) Plain(ctx context.Context, s *star.Source, want func(string) bool) (*Plain, error) {
	t, err := in.openTable(ctx, s, in.Model.Bound, want)
	if err != nil {
		return nil, err
	}
	db, err := database.Open(ctx, s.Database, in.Root.Name())
	if err != nil {
		return nil, at(s, err)
	}
	defer db.Close()
	p := &Plain{Since: t.since}
	if p.Select, err = db.Plain(ctx, t.query); err != nil {
		return nil, at(s, err)
	}
	read := map[string]string{}
	for _, c := range s.Columns {
		read[c.InFile()] = c.Text
	}
	for _, c := range p.Columns {
		p.Read = append(p.Read, read[c.Name])
	}
	return p, nil
}

// readGiven takes rows from where they are.
func (t *table) readGiven(ctx context.Context, rows Given) iter.Seq2[*tablePiece, error] {
	return func(yield func(*tablePiece, error) bool) {
		p := &tablePiece{of: t}
		stopped := false
		err := rows.Each(ctx, t.query.Columns, func(line int64, values [][]byte) error {
			p.add(values)
			if p.lines = append(p.lines, line); p.n < tableRows {
				return nil
			}
			if stopped = !yield(p, nil); stopped {
				return errStopped
			}
			p = &tablePiece{of: t, first: p.first + int64(p.n)}
			return ctx.Err()
		})
		if err == nil && t.since >= 0 {
			latest := t.newLatest()
			latest.at = 0
			latest.see([][]byte{rows.Greatest()})
			t.in.reach(FileOf{t.of.Text, t.name}, &latest.value)
		}
		switch {
		case stopped:
		case err != nil:
			yield(nil, at(t.of, err))
		case p.n > 0:
			yield(p, nil)
		}
	}
}
