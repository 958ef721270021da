package ledger

import (
	"context"
	"fmt"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/exact"
	"ironmonger/internal/parse"
	"ironmonger/internal/warehouse"
)

// Account is what the table of a step holds by the ledger: its rows and the exact total of each measure. It is carried
// forward by arithmetic, what it was and what a step wrote and took, and never asked of the table.
type Account struct {
	Table    string
	Measures []column.Field
	Rows     int64
	Totals   []exact.Int128 // of each measure
}

// Difference is where a table holds other than its account says.
type Difference struct {
	Table   string `json:"table"`
	Measure string `json:"measure,omitempty"` // "" is the rows
	Ledger  string `json:"ledger"`
	Found   string `json:"found"`
}

// String says it in words.
func (d Difference) String() string {
	if d.Measure == "" {
		return fmt.Sprintf("%s has %s rows, and the ledger says %s", d.Table, d.Found, d.Ledger)
	}
	return fmt.Sprintf("the total of %s.%s is %s, and the ledger says %s", d.Table, d.Measure, d.Found, d.Ledger)
}

// AccountOf returns the account of the table that a step writes to; nil if nothing was ever loaded into it.
// inferred is the dimension in which other steps make members, "" for a fact. A ledger that older versions of the
// program have written says it with its steps.
func AccountOf(
	ctx context.Context,
	r warehouse.Reader,
	table, step, inferred string,
	measures []column.Field,
) (*Account, error) {
	a := NewAccount(table, measures)
	if columns, err := r.Describe(ctx, accountTable.Name); err != nil {
		return nil, err
	} else if columns == nil {
		return a.ofSteps(ctx, r, step, inferred)
	}
	name := column.Column{Type: text}
	name.AppendText(table)
	b, err := warehouse.ReadAll(
		ctx,
		r,
		warehouse.Query{
			Table:  accountTable.Name,
			Fields: pick(accountTable, "measure", "amount"),
			By:     []string{"table_name"},
			Match:  []*column.Column{&name},
		},
	)
	if err != nil {
		return nil, err
	}
	if b.N == 0 {
		return a.ofSteps(ctx, r, step, inferred)
	}
	for i, measure := range b.Cols[0].Text {
		if err := a.set(measure, b.Cols[1].Text[i]); err != nil {
			return nil, err
		}
	}
	return a, nil
}

// NewAccount returns the account of a table that is empty.
func NewAccount(table string, measures []column.Field) *Account {
	return &Account{Table: table, Measures: measures, Totals: make([]exact.Int128, len(measures))}
}

// ofSteps works out the account from what the last step that wrote to the table told, and the members made since.
func (a *Account) ofSteps(ctx context.Context, r warehouse.Reader, step, inferred string) (*Account, error) {
	runs, err := Runs(ctx, r, 0)
	if err != nil {
		return nil, err
	}
	slices.Reverse(runs) // the first comes first
	known := false
	for _, run := range runs {
		for _, s := range run.Steps {
			switch {
			case s.State != Done || run.State == Undone:
			case s.Name == step:
				known, a.Rows = true, s.Figures.Table
				for _, total := range s.Figures.Totals {
					if err := a.set(total.Measure, total.Table); err != nil {
						return nil, err
					}
				}
			case inferred != "":
				a.Rows += s.Figures.Inferred[inferred]
			}
		}
	}
	if !known {
		return nil, nil
	}
	return a, nil
}

// set sets the amount of a measure, or the rows.
func (a *Account) set(measure, amount string) error {
	k, c := -1, column.Column{Type: integer}
	if measure != "" {
		if k = column.Find(a.Measures, measure); k < 0 {
			return nil // the model doesn't mean it any more
		}
		c.Type = column.Type{Kind: column.Decimal, Precision: 38, Scale: a.Measures[k].Type.Scale}
	}
	c.Resize(1)
	if err := parse.NewReader(nil).Set(&c, 0, amount); err != nil {
		return fmt.Errorf("the ledger's account of table %s cannot be read: %s %v", a.Table, amount, err)
	}
	if k < 0 {
		a.Rows = c.Int[0]
	} else {
		a.Totals[k] = c.Exact(0)
	}
	return nil
}

// Add adds rows and the totals of theirs, which may be nil; it says false where a total needs more than 38 digits.
func (a *Account) Add(rows int64, totals []exact.Int128) bool {
	a.Rows += rows
	for k := range totals {
		var ok bool
		if a.Totals[k], ok = a.Totals[k].Add(totals[k]); !ok {
			return false
		}
	}
	return true
}

// Text is the amount of a measure.
func (a *Account) Text(k int, amount exact.Int128) string {
	return string(exact.AppendDecimal(nil, amount, int(a.Measures[k].Type.Scale)))
}

// Against returns the differences to what the table is found to hold.
func (a *Account) Against(found warehouse.Tally) []Difference {
	var list []Difference
	if found.Rows != a.Rows {
		list = append(list, Difference{a.Table, "", fmt.Sprint(a.Rows), fmt.Sprint(found.Rows)})
	}
	for k, total := range found.Totals {
		if total != a.Totals[k] {
			list = append(list, Difference{a.Table, a.Measures[k].Name, a.Text(k, a.Totals[k]), a.Text(k, total)})
		}
	}
	return list
}

// ChangedBy returns the last run that changed some tables, as far as their accounts tell; 0 of a table that has none.
func ChangedBy(ctx context.Context, r warehouse.Reader, tables []string) ([]int64, error) {
	names, measures := column.Column{Type: text}, column.Column{Type: text}
	for _, name := range tables {
		names.AppendText(name)
		measures.AppendText("")
	}
	b, err := warehouse.ReadAll(ctx, r, warehouse.Query{
		Table: accountTable.Name, Fields: pick(accountTable, "table_name", "run"),
		By: []string{"table_name", "measure"}, Match: []*column.Column{&names, &measures},
	})
	if err != nil {
		return nil, err
	}
	runs := make([]int64, len(tables))
	for i, name := range b.Cols[0].Text {
		runs[slices.Index(tables, name)] = b.Cols[1].Int[i]
	}
	return runs, nil
}

// Keep writes the account in place of the one before.
func (a *Account) Keep(ctx context.Context, tx warehouse.Tx, run int64) error {
	gone, b := column.NewBatch(pick(accountTable, "table_name")), column.NewBatch(accountTable.Fields())
	row(gone, a.Table)
	row(b, a.Table, "", fmt.Sprint(a.Rows), run)
	for k, m := range a.Measures {
		row(b, a.Table, m.Name, a.Text(k, a.Totals[k]), run)
	}
	if _, err := tx.Remove(ctx, accountTable.Name, pick(accountTable, "table_name"), gone); err != nil {
		return err
	}
	return warehouse.AppendAll(ctx, tx, accountTable, b)
}
