package prove

import (
	"fmt"
	"slices"
	"time"

	"ironmonger/internal/column"
	"ironmonger/internal/ledger"
)

// account holds what the tables hold against what the ledger says that they held at the end of the last step that
// wrote to them, and the members that later steps inferred.
func (p *proof) account() error {
	begin := time.Now()
	runs, err := ledger.Runs(p.ctx, p.r, 0)
	if err != nil {
		return err
	}
	slices.Reverse(runs) // the first comes first
	took := time.Since(begin)
	for _, d := range p.star.Dimensions {
		p.balance(runs, d.Table.Name, "dimension "+d.Text, d.Text, nil, took)
	}
	for _, f := range p.star.Facts {
		p.balance(runs, f.Table.Name, "fact "+f.Text, "", f.Measures, took)
	}
	return nil
}

func (p *proof) balance(runs []*ledger.Run, table, step, dimension string, measures []column.Field, took time.Duration) {
	c := p.check("account", table, "the table holds the rows and totals that the ledger says", "something else than a load has changed the table: find what; load it anew, or bring back a copy")
	c.took = took
	held := p.held[table]
	if held == nil {
		c.State = Unseen
		return
	}
	var last *ledger.Step
	inferred := int64(0)
	for _, run := range runs {
		for _, s := range run.Steps {
			if s.State != ledger.Done {
				continue
			}
			if s.Name == step {
				last, inferred = s, 0
			} else if dimension != "" {
				inferred += s.Figures.Inferred[dimension]
			}
		}
	}
	c.Looked = 1
	if last == nil {
		if held.rows > 0 {
			c.against(func() Example {
				return Example{Row: table, What: fmt.Sprintf("the ledger knows of no load, and there are %d rows", held.rows)}
			})
		}
		return
	}
	if want := last.Figures.Table + inferred; held.rows != want {
		c.against(func() Example {
			return Example{Row: table, What: fmt.Sprintf("%d rows, and the ledger says %d", held.rows, want), Run: last.Run}
		})
	}
	for _, total := range last.Figures.Totals {
		k := column.Find(measures, total.Measure)
		if k < 0 {
			continue
		}
		c.Looked++
		if got := string(column.AppendDecimal(nil, held.totals[total.Measure], int(measures[k].Type.Scale))); got != total.Table {
			c.against(func() Example {
				return Example{Row: table + "." + total.Measure, What: fmt.Sprintf("the total is %s, and the ledger says %s", got, total.Table), Run: last.Run}
			})
		}
	}
}
