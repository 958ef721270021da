// Package moving copies a star with its ledger from one warehouse into another: the same tables with the same rows and
// keys, so that loads go on there as if nothing had happened.
package moving

import (
	"context"
	"errors"
	"fmt"

	"ironmonger/internal/column"
	"ironmonger/internal/ledger"
	"ironmonger/internal/schema"
	"ironmonger/internal/warehouse"
)

// Table is a table that was copied.
type Table struct {
	Name string `json:"table"`
	Rows int64  `json:"rows"`
}

// Report is what was copied.
type Report struct {
	Tables []Table `json:"tables"`
	Rows   int64   `json:"rows"`
}

// Refusal is why nothing was copied.
type Refusal struct{ error }

// Copy copies a star, in one transaction of the warehouse that gets it. No load may run in either meanwhile. What was
// copied is counted and added up in both; if they differ, nothing is kept.
func Copy(ctx context.Context, from, to warehouse.Warehouse, s *schema.Star) (*Report, error) {
	for _, wh := range []warehouse.Warehouse{from, to} {
		hold, err := wh.Hold(ctx)
		if errors.Is(err, warehouse.ErrHeld) {
			return nil, Refusal{errors.New("a load of one of the warehouses is running")}
		} else if err != nil {
			return nil, err
		}
		defer hold.Release()
	}
	read, err := from.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	defer read.Close()
	tx, err := to.Begin(ctx)
	if err != nil {
		return nil, err
	}
	defer tx.Rollback()
	c := &copying{ctx: ctx, read: read, tx: tx, report: &Report{Tables: []Table{}}}
	if err := c.all(s); err != nil {
		return nil, err
	}
	return c.report, tx.Commit()
}

// copying is a copy that is going on.
type copying struct {
	ctx    context.Context
	read   warehouse.Snapshot
	tx     warehouse.Tx
	report *Report
}

// all copies the ledger, then the dimensions, then the facts that point to them.
func (c *copying) all(s *schema.Star) error {
	if there, err := c.read.Describe(c.ctx, ledger.Tables()[0].Name); err != nil {
		return err
	} else if there == nil {
		return Refusal{errors.New("there is no star to copy: nothing has been loaded yet")}
	}
	tables := ledger.Tables()
	var views []*warehouse.View
	for _, d := range s.Dimensions {
		if d.LookedUp != nil { // somebody else's, who has to bring it there
			continue
		}
		tables, views = append(tables, d.Tables()...), append(views, d.Views...)
	}
	for _, f := range s.Facts {
		tables = append(tables, f.Tables()...)
	}
	var made []*warehouse.Table
	for _, t := range tables {
		there, err := c.copy(t)
		if err != nil {
			return fmt.Errorf("table %s: %w", t.Name, err)
		}
		if there {
			made = append(made, t)
		}
	}
	for _, t := range made {
		if err := c.tx.Constrain(c.ctx, t); err != nil {
			return fmt.Errorf("table %s: %w", t.Name, err)
		}
		if err := c.same(t); err != nil {
			return err
		}
	}
	for _, v := range views {
		if there, err := c.read.Describe(c.ctx, v.Name); err != nil {
			return err
		} else if there == nil {
			continue
		}
		if err := c.tx.CreateView(c.ctx, v); err != nil {
			return fmt.Errorf("view %s: %w", v.Name, err)
		}
	}
	return nil
}

// copy copies a table; false if it is not there.
func (c *copying) copy(t *warehouse.Table) (bool, error) {
	if there, err := c.tx.Describe(c.ctx, t.Name); err != nil {
		return false, err
	} else if there != nil {
		return false, Refusal{errors.New("the warehouse that is to get the star has it already: it has to be without these tables")}
	}
	there, err := c.read.Describe(c.ctx, t.Name)
	if err != nil || there == nil {
		return false, err
	}
	for _, f := range t.Fields() {
		if !there.Has(f.Name) {
			return false, Refusal{fmt.Errorf("it has no column %s, which the model has: load it first", f.Name)}
		}
	}
	if err := c.tx.Create(c.ctx, t); err != nil {
		return false, err
	}
	rows, err := c.rows(t)
	c.report.Tables, c.report.Rows = append(c.report.Tables, Table{t.Name, rows}), c.report.Rows+rows
	return true, err
}

// rows copies the rows of a table.
func (c *copying) rows(t *warehouse.Table) (n int64, err error) {
	to, err := warehouse.AppendTo(c.ctx, c.tx, t)
	if err != nil {
		return 0, err
	}
	defer func() {
		if _, cerr := to.Close(); err == nil {
			err = cerr
		}
	}()
	var rows []int32
	q := warehouse.Query{Table: t.Name, Fields: t.Fields(), Convert: t.Borrowed, OrderBy: t.Primary}
	err = warehouse.Each(c.ctx, c.read, q, func(b *column.Batch) error {
		for i := int32(len(rows)); int(i) < b.N; i++ {
			rows = append(rows, i)
		}
		n += int64(b.N)
		return to.Append(column.Pointers(b.Cols), rows[:b.N])
	})
	return n, err
}

// same holds the rows of a table, and the totals of its exact numbers, against those that it was copied from.
func (c *copying) same(t *warehouse.Table) error {
	sum := func(r warehouse.Reader) (warehouse.Tally, error) {
		var exact []column.Field
		for _, f := range t.Fields() {
			if f.Type.Exact() {
				exact = append(exact, f)
			}
		}
		return warehouse.Sum(c.ctx, r, t, exact)
	}
	before, err := sum(c.read)
	if err != nil {
		return err
	}
	after, err := sum(c.tx)
	if err != nil {
		return err
	}
	same := before.Rows == after.Rows
	for k := range before.Totals {
		same = same && before.Totals[k] == after.Totals[k]
	}
	if !same {
		return fmt.Errorf("table %s is another once it is copied: %d rows, and %d of them; nothing is kept", t.Name, before.Rows, after.Rows)
	}
	return nil
}
