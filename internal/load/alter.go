package load

import (
	"context"
	"fmt"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/fact"
	"ironmonger/internal/ledger"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// Alteration is what a load does to a table before it writes rows, since the model is not the one that the table
// was made for (rule R15), or why it cannot.
type Alteration struct {
	Table   string `json:"table"`
	Does    string `json:"does"`
	Refused bool   `json:"refused,omitempty"`
}

// reshaping is the way from a table that stands to the one that is meant.
type reshaping struct {
	create bool
	add    []addition
	renew  []column.Field // decimals that an older version of the program left otherwise
	list   []Alteration
}

// addition is a column that is to be added, with its value in the rows that are there; nil for null.
type addition struct {
	warehouse.Column
	fill *int64
}

// mayAdd says with what value a column can be added to a table that stands; false if it cannot.
type mayAdd func(c warehouse.Column) (fill *int64, ok bool)

// reshape compares a table with the one that is meant.
func reshape(ctx context.Context, r warehouse.Reader, t *warehouse.Table, may mayAdd) (*reshaping, error) {
	there, err := r.Describe(ctx, t.Name)
	if err != nil {
		return nil, err
	}
	to := &reshaping{create: there == nil}
	say := func(refused bool, format string, args ...any) {
		to.list = append(to.list, Alteration{t.Name, fmt.Sprintf(format, args...), refused})
	}
	if to.create {
		say(false, "is made")
		return to, nil
	}
	meant := map[string]bool{}
	for _, c := range t.Columns {
		meant[c.Name] = true
		at := -1
		for k, s := range there {
			if s.Name == c.Name {
				at = k
			}
		}
		if at < 0 {
			fill, ok := may(c)
			if !ok {
				say(
					true,
					"lacks %s, which a load cannot add to existing rows: ironmonger rebuild makes the star anew from its sources; or load into a new warehouse",
					c.Name,
				)
				continue
			}
			what := "null"
			if fill != nil {
				what = fmt.Sprint(*fill)
			}
			say(false, "gets the column %s, with %s in existing rows", c.Name, what)
			to.add = append(to.add, addition{c, fill})
			continue
		}
		if is, want := there[at].Type, r.Declares(t.Name, c.Type); there[at].Old && c.Type.Kind == column.Decimal {
			say(false, "gets %s converted to the way in which %s is stored now", c.Name, c.Type)
			to.renew = append(to.renew, c.Field)
		} else if is != want {
			say(true, "has %s as %s, but the model has %s: give the new column another name in the model, or change the table by hand", c.Name, typed(is), typed(want))
		} else if there[at].NotNull && !c.NotNull {
			say(true, "has %s as a column that cannot be null, but the model allows null: ALTER TABLE %s ALTER COLUMN %s DROP NOT NULL, or ironmonger rebuild", c.Name, t.Name, c.Name)
		}
	}
	for _, s := range there {
		switch {
		case meant[s.Name]:
		case s.NotNull:
			say(
				true,
				"has %s, which is not in the model and cannot be null: drop the column by hand, or ironmonger rebuild",
				s.Name,
			)
		default:
			say(false, "keeps %s, which is not in the model; new rows have null there", s.Name)
		}
	}
	return to, nil
}

func typed(s string) string {
	if at := strings.Index(s, "DECIMAL("); at > 0 { // SQLite's word before says how values stand
		s = s[at:]
	}
	return strings.ToLower(s)
}

// ensure makes a table, or gives the one that is there the columns that it lacks: that is a change, too.
func (r *run) ensure(
	ctx context.Context,
	tx warehouse.Tx,
	t *warehouse.Table,
	may mayAdd,
) (made, changed bool, err error) {
	to, err := reshape(ctx, tx, t, may)
	if err != nil {
		return false, false, err
	}
	if err := refusals(t.Name, to.list); err != nil {
		return false, false, err
	}
	if to.create {
		return true, true, tx.Create(ctx, t)
	}
	if to.renew != nil {
		if err := tx.Renew(ctx, t.Name, to.renew); err != nil {
			return false, false, err
		}
	}
	for _, c := range to.add {
		if err := tx.AddColumn(ctx, t.Name, c.Column, c.fill); err != nil {
			return false, false, err
		}
		if err := ledger.Added(ctx, tx, t.Name, c.Name, r.entry.ID); err != nil {
			return false, false, err
		}
	}
	return false, len(to.add) > 0, nil
}

// nullable may add what can be null.
func nullable(c warehouse.Column) (*int64, bool) { return nil, !c.NotNull }

// nothing may be added.
func nothing(warehouse.Column) (*int64, bool) { return nil, false }

// ofDimension says which columns a dimension's table can be given: attributes, which are null until a row says more,
// keys of other dimensions, which are unknown, and what is worked out by the load itself.
func ofDimension(d *schema.Dimension) mayAdd {
	return func(c warehouse.Column) (*int64, bool) {
		unknown, outrigger := d.UnknownKey(c.Name)
		switch {
		case outrigger && c.NotNull:
			return &unknown, true
		case c.Name == schema.IsGone:
			return new(int64), true
		case column.Find(d.Attributes(), c.Name) >= 0,
			outrigger,
			d.Closure != nil && (c.Name == d.Parent.Name || c.Name == d.Level.Name):
			return nil, true
		}
		return nil, false
	}
}

// ofObservations says which columns the table of observations can be given.
func ofObservations(c warehouse.Column) (*int64, bool) { return nil, c.Name == schema.Mark }

// ofFact says which columns a fact's table can be given: the mark of rows that are gone, and what its sources fill.
func ofFact(f *schema.Fact) mayAdd {
	return func(c warehouse.Column) (*int64, bool) {
		if c.Name == schema.IsGone {
			return new(int64), true
		}
		return fact.MayGet(f, c)
	}
}

// may returns what can be added to one of a dimension's tables.
func may(d *schema.Dimension, t *warehouse.Table) mayAdd {
	switch t {
	case d.Table:
		return ofDimension(d)
	case d.Observed:
		return ofObservations
	}
	return nothing
}

// Alterations tells what the next load of a model would do to the tables of a warehouse before it writes rows.
func Alterations(ctx context.Context, r warehouse.Reader, m *star.Model) ([]Alteration, error) {
	list := []Alteration{}
	add := func(t *warehouse.Table, may mayAdd) error {
		to, err := reshape(ctx, r, t, may)
		if err == nil {
			list = append(list, to.list...)
		}
		return err
	}
	meant := func(t *warehouse.Table, now map[string]string) error {
		more, err := otherwise(ctx, r, t, now)
		list = append(list, more...)
		return err
	}
	tables := schema.New(m)
	for _, d := range tables.Dimensions {
		if d.LookedUp != nil {
			if err := there(ctx, r, d.Table); err != nil {
				list = append(list, Alteration{d.Table.Name, err.Error(), true})
			}
			continue
		}
		for _, t := range d.Tables() {
			if err := add(t, may(d, t)); err != nil {
				return nil, err
			}
		}
		if err := meant(d.Table, meansDimension(d)); err != nil {
			return nil, err
		}
		more, err := unfitRows(ctx, r, d)
		if err != nil {
			return nil, err
		}
		list = append(list, more...)
	}
	for _, f := range tables.Facts {
		if err := add(f.Table, ofFact(f)); err != nil {
			return nil, err
		}
		for _, t := range f.Tables()[1:] {
			if err := add(t, nothing); err != nil {
				return nil, err
			}
		}
		if err := meant(f.Table, meansFact(f)); err != nil {
			return nil, err
		}
	}
	return list, nil
}
