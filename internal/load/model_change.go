package load

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ironmonger/internal/calendar"
	"ironmonger/internal/column"
	"ironmonger/internal/ledger"
	"ironmonger/internal/roster"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// meansDimension says what a dimension's table is meant to be, besides its columns.
func meansDimension(d *schema.Dimension) map[string]string {
	meant := map[string]string{ledger.NaturalKey: strings.Join(column.Names(d.NaturalKey), ", ")}
	if d.Versioned() {
		first := "from_effective"
		if d.FromStart {
			first = "from_beginning"
		}
		var type2 []string
		for _, f := range d.Type2 {
			type2 = append(type2, f.Name)
		}
		for _, k := range d.Keys {
			if k.Type2 {
				type2 = append(type2, k.Column())
			}
		}
		meant[ledger.FirstVersion], meant[ledger.Versioned] = first, strings.Join(type2, ", ")
	}
	if c := d.Calendar; c != nil {
		meant[ledger.FiscalYear], meant[ledger.RetailYear] = c.Fiscal.String(), c.Retail.String()
	}
	return meant
}

// meansFact says so of a fact's.
func meansFact(f *schema.Fact) map[string]string {
	return map[string]string{ledger.GrainOf: strings.Join(f.Table.Primary, ", ")}
}

// otherwise compares what a table was meant to be with what it is meant to be now (rule R15).
func otherwise(
	ctx context.Context,
	r warehouse.Reader,
	t *warehouse.Table,
	now map[string]string,
) ([]Alteration, error) {
	was, err := ledger.Meant(ctx, r, t.Name)
	if err != nil {
		return nil, err
	}
	var list []Alteration
	refuse := func(format string, args ...any) {
		list = append(list, Alteration{t.Name, fmt.Sprintf(format, args...), true})
	}
	sorted := func(s string) string {
		names := strings.Split(s, ", ")
		slices.Sort(names)
		return strings.Join(names, ", ")
	}
	for _, aspect := range []string{ledger.NaturalKey, ledger.GrainOf} {
		if before, known := was[aspect]; known && sorted(before) != sorted(now[aspect]) {
			refuse(
				"has the %s %s, but the model has %s: different rows would become one, or one row several; ironmonger rebuild makes the star anew from its sources",
				aspect,
				before,
				now[aspect],
			)
		}
	}
	if before, known := was[ledger.FirstVersion]; known && now[ledger.FirstVersion] != "" &&
		before != now[ledger.FirstVersion] {
		refuse(
			"has first versions that are valid %s, but the model has %s: ironmonger rebuild makes the star anew from its sources",
			before,
			now[ledger.FirstVersion],
		)
	}
	for _, aspect := range []string{ledger.FiscalYear, ledger.RetailYear} {
		if was[aspect] != "" && was[aspect] != now[aspect] {
			refuse(
				"has the %s {%s}, but the model has {%s}: the years of reports that were made would change; ironmonger rebuild makes the star anew from its sources",
				aspect,
				was[aspect],
				now[aspect],
			)
		}
	}
	for _, name := range strings.Split(was[ledger.Versioned], ", ") {
		if name != "" && !slices.Contains(strings.Split(now[ledger.Versioned], ", "), name) {
			list = append(
				list,
				Alteration{
					t.Name,
					"keeps the versions that " + name + " made, although it is no longer of type 2",
					false,
				},
			)
		}
	}
	return list, nil
}

// unfitRows says where the table of a dimension has rows that the model does not mean, and that cannot be taken away.
func unfitRows(ctx context.Context, r warehouse.Reader, d *schema.Dimension) ([]Alteration, error) {
	for _, unfit := range []func(context.Context, warehouse.Reader, *schema.Dimension) ([]Alteration, error){days, otherKeys, otherSpecials} {
		if list, err := unfit(ctx, r, d); err != nil || len(list) > 0 {
			return list, err
		}
	}
	return nil, nil
}

// days says where the table of a calendar has days that the model does not mean. They cannot be taken away: facts
// may point to them.
func days(ctx context.Context, r warehouse.Reader, d *schema.Dimension) ([]Alteration, error) {
	if d.Calendar == nil {
		return nil, nil
	}
	if there, err := r.Describe(ctx, d.Table.Name); err != nil || there == nil {
		return nil, err
	}
	from, to, any, err := roster.Days(ctx, r, d)
	least, most := d.Calendar.Limits()
	if err != nil || !any || from >= least && to <= most {
		return nil, err
	}
	const message = "has the days %s to %s, but the model has %s to %s: days are not removed, because facts may point to them; " +
		"extend the calendar, or ironmonger rebuild"
	written := func(day int64) string { return string(column.AppendInt(nil, column.Date, day)) }
	return []Alteration{{
		d.Table.Name, fmt.Sprintf(message, written(from), written(to), written(least), written(most)), true,
	}}, nil
}

// otherKeys says where the days of a calendar have keys of another kind than the model gives them.
func otherKeys(ctx context.Context, r warehouse.Reader, d *schema.Dimension) ([]Alteration, error) {
	if there, err := r.Describe(ctx, d.Table.Name); err != nil || there == nil || d.Calendar == nil {
		return nil, err
	}
	q := warehouse.Query{
		Table:      d.Table.Name,
		Fields:     append(slices.Clone(d.Table.Fields()[:1]), d.NaturalKey...),
		OrderBy:    []string{d.KeyColumn()},
		Descending: true,
		Limit:      1,
	}
	b, err := warehouse.ReadAll(ctx, r, q)
	if err != nil || b.N == 0 || b.Cols[1].Null[0] { // a special member
		return nil, err
	}
	key, day := b.Cols[0].Int[0], b.Cols[1].Int[0]
	const message = "has the key %d for %s, and with key: %s the model means another: facts may point to it; " +
		"ironmonger rebuild makes the star anew from its sources"
	if d.DayKeys() == nil && key != calendar.Key(day) || d.DayKeys() != nil && key == d.Calendar.Key(day) {
		return nil, nil
	}
	return []Alteration{{
		d.Table.Name, fmt.Sprintf(message, key, column.AppendInt(nil, column.Date, day), d.Calendar.KeyKind()), true,
	}}, nil
}

// otherSpecials says where the table of a dimension has special members under other keys than the model. Facts may
// point to them.
func otherSpecials(ctx context.Context, r warehouse.Reader, d *schema.Dimension) ([]Alteration, error) {
	if there, err := r.Describe(ctx, d.Table.Name); err != nil || there == nil || len(d.Specials) == 0 {
		return nil, err
	}
	const most = 10
	q := warehouse.Query{Table: d.Table.Name, Fields: d.Table.Fields()[:1], OrderBy: []string{d.KeyColumn()}, Limit: most}
	b, err := warehouse.ReadAll(ctx, r, q)
	if err != nil {
		return nil, err
	}
	stand := b.Cols[0].Int[:b.N]
	foreign := slices.IndexFunc(stand, func(key int64) bool {
		return key < 0 && !slices.ContainsFunc(d.Specials, func(s star.Special) bool { return s.Key == key })
	})
	if foreign < 0 {
		return nil, nil
	}
	for _, s := range d.Specials {
		if !slices.Contains(stand, s.Key) {
			const message = "has a special member under the key %d, but the model has %s under %d: facts may point to it; " +
				"ironmonger rebuild makes the star anew from its sources"
			return []Alteration{{d.Table.Name, fmt.Sprintf(message, stand[foreign], s.Label, s.Key), true}}, nil
		}
	}
	return nil, nil
}

// refusals are those of a list of alterations that cannot be made, as an error.
func refusals(table string, list []Alteration) error {
	var refused []string
	for _, a := range list {
		if a.Refused {
			refused = append(refused, a.Does)
		}
	}
	if refused == nil {
		return nil
	}
	return fmt.Errorf(
		"table %s in the warehouse does not fit the model: it %s",
		table,
		strings.Join(refused, "; it "),
	)
}

// checkMeaning refuses to write to a table that was meant otherwise, and writes down what it is meant to be now.
func (w *work) checkMeaning(ctx context.Context) error {
	if w.kind.target().meant == nil {
		return nil // it is not ours
	}
	to := w.kind.target()
	list, err := otherwise(ctx, w.tx, to.Table, to.meant)
	if err != nil {
		return err
	}
	more, err := w.kind.refusals(ctx)
	if err != nil {
		return err
	}
	if err := refusals(to.Name, append(list, more...)); err != nil {
		return err
	}
	return ledger.Means(ctx, w.tx, to.Name, to.meant)
}
