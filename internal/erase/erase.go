// Package erase blanks what a star knows of a person for good: the personal attributes of a member, on all its
// versions, and what the ledger kept of them. The member's keys and its facts stay, and loads to come keep it
// blank.
package erase

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/ledger"
	"ironmonger/internal/schema"
	"ironmonger/internal/warehouse"
)

// Erased is what was blanked.
type Erased struct {
	Dimension  string   `json:"dimension"`
	NaturalKey string   `json:"natural_key"`
	Keys       []int64  `json:"keys"`
	Attributes []string `json:"attributes"`
	SetAside   int64    `json:"set_aside"`         // rows that the ledger had set aside
	Steps      int64    `json:"steps"`             // entries of the ledger
	Dry        bool     `json:"dry_run,omitempty"` // nothing was written
}

// Blank stands where a value was.
const Blank = "(erased)"

// Member blanks a member of a dimension, named by its natural key as it stands in the table.
func Member(ctx context.Context, tx warehouse.Tx, d *schema.Dimension, natural []column.Column) (*Erased, error) {
	personal := columns(d)
	fields := append(d.Table.Fields()[:1:1], personal...)
	rows, err := warehouse.ReadAll(
		ctx,
		tx,
		warehouse.Query{
			Table:   d.Table.Name,
			Fields:  fields,
			By:      column.Names(d.NaturalKey),
			Match:   column.Pointers(natural),
			OrderBy: []string{d.KeyColumn()},
		},
	)
	if err != nil {
		return nil, err
	}
	var parts []string
	for k := range natural {
		parts = append(parts, natural[k].Value(0))
	}
	out := &Erased{
		Dimension:  d.Text,
		NaturalKey: strings.Join(parts, ", "),
		Keys:       rows.Cols[0].Int,
		Attributes: column.Names(personal),
	}
	if rows.N == 0 {
		return nil, fmt.Errorf("%w: dimension %s has no ‹%s›", ErrNone, d.Text, out.NaturalKey)
	}
	said := map[string]bool{} // the values that are to be forgotten
	blank := column.NewBatch(fields)
	for i := range rows.N {
		blank.Cols[0].AppendInt(rows.Cols[0].Int[i])
		for k := range personal {
			c := &rows.Cols[1+k]
			if !c.Null[i] && len([]rune(c.Value(i))) >= shortest {
				said[c.Value(i)] = true
			}
			blank.Cols[1+k].AppendNull()
		}
		blank.N++
	}
	if _, err := tx.Amend(ctx, d.Table.Name, 1, fields, blank); err != nil {
		return nil, err
	}
	if err := out.observations(ctx, tx, d, personal); err != nil {
		return nil, err
	}
	if err := ledger.Erase(ctx, tx, d.Text, out.Keys); err != nil {
		return nil, err
	}
	words := newWords(said)
	out.SetAside, err = ledger.ForgetAsides(ctx, tx, func(a *ledger.Aside) {
		if a.Step == "dimension "+d.Text && speaksOf(a, parts) {
			a.Content = Blank
			for k := range a.Causes {
				if a.Causes[k].Value != "" {
					a.Causes[k].Value = Blank
				}
			}
			return
		}
		a.Content = words.blankFields(a.Content)
		for k := range a.Causes {
			a.Causes[k].Value = words.blankText(a.Causes[k].Value)
		}
	})
	if err != nil {
		return nil, err
	}
	out.Steps, err = ledger.ForgetSteps(ctx, tx, words.blankText, words.blankJSON)
	return out, err
}

// speaksOf reports whether a row that was set aside says the natural key: as it was read, or, where that could not be
// told, in its fields.
func speaksOf(a *ledger.Aside, natural []string) bool {
	if a.Member != "" {
		return a.Member == ledger.MemberText(natural)
	}
	for _, part := range natural {
		if newWords(map[string]bool{part: true}).blankFields(a.Content) == a.Content {
			return false
		}
	}
	return true
}

// columns lists the personal columns of a dimension's table.
func columns(d *schema.Dimension) []column.Field {
	var fields []column.Field
	for _, f := range d.Attributes() {
		if d.IsPersonal(f.Name) {
			fields = append(fields, f)
		}
	}
	return fields
}

// observations blanks what is kept apart.
func (out *Erased) observations(
	ctx context.Context,
	tx warehouse.Tx,
	d *schema.Dimension,
	personal []column.Field,
) error {
	if d.Observed == nil {
		return nil
	}
	fields := d.Observed.Fields()[:1:1]
	for _, f := range personal {
		if column.Find(d.Observed.Fields(), f.Name) >= 0 {
			fields = append(fields, f)
		}
	}
	if len(fields) == 1 {
		return nil
	}
	blank := column.NewBatch(fields)
	for _, key := range out.Keys {
		blank.Cols[0].AppendInt(key)
		for k := range fields[1:] {
			blank.Cols[1+k].AppendNull()
		}
		blank.N++
	}
	_, err := tx.Amend(ctx, d.Observed.Name, 1, fields, blank)
	return err
}

// ErrNone says that there is no such member, or nothing has been loaded yet.
var ErrNone = errors.New("there is no such member")

// Run blanks a member in a transaction of its own, while no load has the warehouse; if dry, it takes that back.
func Run(
	ctx context.Context,
	wh warehouse.Warehouse,
	d *schema.Dimension,
	natural []column.Column,
	dry bool,
) (*Erased, error) {
	hold, err := wh.Hold(ctx)
	if err != nil {
		return nil, err
	}
	defer hold.Release()
	tx, err := wh.Begin(ctx)
	if err != nil {
		return nil, err
	}
	defer tx.Rollback()
	for _, t := range append(ledger.Tables(), d.Tables()...) {
		if there, err := tx.Describe(ctx, t.Name); err != nil {
			return nil, err
		} else if there == nil {
			return nil, fmt.Errorf("%w: the warehouse has no table %s yet", ErrNone, t.Name)
		}
	}
	out, err := Member(ctx, tx, d, natural)
	if err != nil {
		return nil, err
	}
	runs, err := ledger.RunsBefore(ctx, tx)
	if err != nil {
		return nil, err
	}
	if err := ledger.ForgetBefore(ctx, tx, runs); err != nil { // what runs changed has the values, too
		return nil, err
	}
	if out.Dry = dry; dry {
		return out, nil
	}
	return out, tx.Commit()
}
