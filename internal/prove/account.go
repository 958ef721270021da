package prove

import (
	"fmt"
	"strings"
	"time"

	"ironmonger/internal/column"
	"ironmonger/internal/ledger"
	"ironmonger/internal/warehouse"
)

// account holds what the tables hold against the ledger's account, which loads carry forward by what they write.
func (p *proof) account() error {
	for _, d := range p.star.Dimensions {
		if d.LookedUp != nil {
			continue
		}
		if err := p.balance(d.Table.Name, "dimension "+d.Text, d.Text, nil); err != nil {
			return err
		}
	}
	for _, f := range p.star.Facts {
		if err := p.balance(f.Table.Name, "fact "+f.Text, "", f.Measures); err != nil {
			return err
		}
	}
	return nil
}

func (p *proof) balance(table, step, inferred string, measures []column.Field) error {
	begin := time.Now()
	c := p.check(
		"account",
		table,
		"the table has the rows and totals of its account in the ledger",
		"something other than a load has changed the table. Find the cause. Restore the rows from a copy, or load the table again from an empty one; another load does not repair it. If the table is right as it is: ironmonger load --accept "+strings.TrimPrefix(
			strings.TrimPrefix(step, "fact "),
			"dimension ",
		),
	)
	defer func() { c.took = time.Since(begin) }()
	held := p.held[table]
	if held == nil {
		c.State = Unseen
		return nil
	}
	var exact []column.Field
	for _, m := range measures {
		if _, summed := held.totals[m.Name]; summed {
			exact = append(exact, m)
		}
	}
	account, err := ledger.AccountOf(p.ctx, p.r, table, step, inferred, exact)
	if err != nil {
		return err
	}
	c.Looked = int64(1 + len(exact))
	if account == nil {
		if held.rows > 0 {
			c.against(func() Example {
				return Example{
					Row:  table,
					What: fmt.Sprintf("the ledger has no load of the table, and it has %d rows", held.rows),
				}
			})
		}
		return nil
	}
	found := warehouse.Tally{Rows: held.rows}
	for _, m := range exact {
		found.Totals = append(found.Totals, held.totals[m.Name])
	}
	for _, d := range account.Against(found) {
		c.against(func() Example {
			at := table
			if d.Measure != "" {
				at += "." + d.Measure
			}
			return Example{Row: at, What: d.String()}
		})
	}
	return nil
}
