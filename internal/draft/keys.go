package draft

import (
	"cmp"
	"context"
	"os"
	"slices"

	"ironmonger/internal/column"
)

// mayIdentify reports whether a column can be part of a natural key.
func mayIdentify(f *field) bool {
	switch f.Is.Kind {
	case column.Text, column.Integer, column.Date, column.Timestamp:
		return f.Distinct > 1 || f.Filled == 1
	}
	return false
}

// isTime reports whether a column has dates or timestamps.
func isTime(f *field) bool { return f.Is.Kind == column.Date || f.Is.Kind == column.Timestamp }

// nearly is the share of distinct keys from which a column of the right name is taken for a key with some rows twice.
const nearly = 0.98

// findKey finds the columns that identify a row: one that is unique, else a few that are together. Of several, one with
// the name of a key is taken, then one that stands further to the left.
func (t *table) findKey(ctx context.Context, root *os.Root) error {
	var single []*field
	rows := t.rows()
	for _, f := range t.fields {
		full := t.empty(f) == 0 && mayIdentify(f) && (f.Unfit*50 <= f.Filled || t.totals() == f)
		if full && t.distinct(f) == rows && !isTime(f) ||
			mayIdentify(f) && !isTime(f) && likeKey(f.name) && float64(t.distinct(f)) >= nearly*float64(rows) && rows > 1 {
			single = append(single, f)
		}
	}
	slices.SortStableFunc(single, func(a, b *field) int {
		score := func(f *field) int {
			n := 0
			if likeKey(f.name) {
				n += 2
			}
			if t.distinct(f) == rows {
				n++
			}
			if core(f.name) == core(t.single) {
				n++
			}
			return -n
		}
		return cmp.Compare(score(a), score(b))
	})
	if first := t.fields[0]; single == nil && isTime(first) && first.Empty == 0 && first.Unfit == 0 && first.Distinct == t.Rows {
		single = append(single, first) // a row for each day
	}
	if len(single) > 0 && (likeKey(single[0].name) || len(t.fields) < 3 || single[0] == t.fields[0]) {
		t.key, t.unique = single[:1], t.distinct(single[0])
		return nil
	}
	if err := t.findKeys(ctx, root, single); err != nil || t.key != nil {
		return err
	}
	if len(single) > 0 {
		t.key, t.unique = single[:1], t.distinct(single[0])
	}
	return nil
}

// mostParts is how many columns of a table are tried in natural keys of several.
const mostParts = 7

// findKeys finds a natural key of several columns.
func (t *table) findKeys(ctx context.Context, root *os.Root, single []*field) error {
	var parts []*field
	for _, f := range t.fields {
		if mayIdentify(f) && f.Empty == 0 && !slices.Contains(single, f) {
			parts = append(parts, f)
		}
	}
	slices.SortStableFunc(parts, func(a, b *field) int {
		score := func(f *field) int {
			switch {
			case likeKey(f.name):
				return 0
			case isTime(f):
				return 1
			}
			return 2
		}
		return cmp.Compare(score(a), score(b))
	})
	parts = parts[:min(len(parts), mostParts)]
	for size := 2; size <= 3; size++ {
		choices := combinations(len(parts), size)
		if len(choices) == 0 {
			return nil
		}
		columns := make([][]string, len(choices))
		for n, choice := range choices {
			for _, k := range choice {
				columns[n] = append(columns[n], parts[k].Name)
			}
		}
		sets, err := t.Sets(ctx, root, columns)
		if err != nil {
			return err
		}
		best := -1
		for n := range choices {
			if n2 := sets[n].Len(); float64(n2) >= nearly*float64(t.Rows) && (best < 0 || n2 > sets[best].Len()) {
				best = n
			}
		}
		if best < 0 {
			continue
		}
		t.unique = sets[best].Len()
		for _, k := range choices[best] {
			t.key = append(t.key, parts[k])
		}
		slices.SortFunc(t.key, func(a, b *field) int { return cmp.Compare(slices.Index(t.fields, a), slices.Index(t.fields, b)) })
		t.setApart()
		return nil
	}
	return nil
}

// setApart takes the date of change out of the key, if there is one: the rest identifies a member, of which there are
// rows at several times.
func (t *table) setApart() {
	at := slices.IndexFunc(t.key, isTime)
	if at < 0 || slices.ContainsFunc(t.key[at+1:], isTime) {
		return
	}
	attribute := func(f *field) bool {
		return !slices.Contains(t.key, f) && (!f.Is.Numeric() || t.isName(f)) && f.Filled > 0
	}
	if !slices.ContainsFunc(t.fields, attribute) { // numbers of a time, such as rates or readings
		return
	}
	t.effective = t.key[at]
	name := identifier(t.effective.Name) // it is not an attribute, so that it may have a name that is reserved
	if !slices.ContainsFunc(t.fields, func(f *field) bool { return f.name == name }) {
		t.effective.name = name
	}
	t.key = slices.Delete(slices.Clone(t.key), at, at+1)
}

// widenKeys adds columns to natural keys that have several rows of a member, if another table has columns of the same
// names as the key and these: a number that is unique only in its register.
func widenKeys(ctx context.Context, root *os.Root, tables []*table) error {
	for _, t := range tables {
		if t.effective == nil || t.is != nil {
			continue
		}
		for _, f := range t.fields {
			if !mayIdentify(f) || isTime(f) || f.Empty > 0 || slices.Contains(t.key, f) {
				continue
			}
			wide := append(slices.Clone(t.key), f)
			if !slices.ContainsFunc(tables, func(o *table) bool { return o != t && o.hasAll(wide) }) {
				continue
			}
			sets, err := t.Sets(ctx, root, [][]string{columnsOf(t.key), columnsOf(wide)})
			if err != nil {
				return err
			}
			if sets[1].Len() > sets[0].Len() {
				t.key = wide
			}
		}
		slices.SortFunc(t.key, func(a, b *field) int { return cmp.Compare(slices.Index(t.fields, a), slices.Index(t.fields, b)) })
	}
	return nil
}

// hasAll reports whether a table has columns of some names and types.
func (t *table) hasAll(fields []*field) bool {
	for _, f := range fields {
		if !slices.ContainsFunc(t.fields, func(o *field) bool { return o.name == f.name && o.Is.Kind == f.Is.Kind }) {
			return false
		}
	}
	return true
}

// combinations lists the ways to take size of n things, in order.
func combinations(n, size int) [][]int {
	if size == 0 {
		return [][]int{nil}
	}
	var list [][]int
	for last := size - 1; last < n; last++ {
		for _, c := range combinations(last, size-1) {
			list = append(list, append(slices.Clone(c), last))
		}
	}
	slices.SortFunc(list, slices.Compare)
	return list
}

// findReferences finds which columns have natural keys of other tables.
func findReferences(ctx context.Context, root *os.Root, tables []*table) error {
	for _, t := range tables {
		for _, f := range t.fields {
			if f.Is.Kind != column.Text && f.Is.Kind != column.Integer || f.Distinct == 0 {
				continue
			}
			var best *ref
			for _, o := range tables {
				if r := refersTo(t, f, o); r != nil && (best == nil || betterRef(f, r, best)) {
					best = r
				}
			}
			if best != nil {
				t.refs = append(t.refs, best)
			}
		}
		if err := t.findComposite(ctx, root, tables); err != nil {
			return err
		}
	}
	return nil
}

// mayReferTo reports whether the rows of one table can refer to those of another: of tables that a model reads already,
// to those of dimensions alone.
func (t *table) mayReferTo(o *table) bool {
	return o != t && (o.is == nil || o.as == asDimension && o.is != t.is)
}

// refersTo returns the reference of a column to a table whose natural key is one column; nil if nothing speaks for one.
func refersTo(t *table, f *field, o *table) *ref {
	if !t.mayReferTo(o) || len(o.key) != 1 || o.key[0].Is.Kind != f.Is.Kind ||
		len(t.key) == 1 && t.key[0] == f && f.Distinct == t.Rows {
		return nil
	}
	key := o.key[0]
	hits := f.Set.In(&key.Set)
	share := float64(hits) / float64(f.Distinct)
	names := akin(f.name, o, key.name)
	switch {
	case names == 3 && share >= 0.3, names == 2 && share >= 0.5:
	case f.Is.Kind == column.Text && share == 1 && f.Distinct >= 5: // the values speak for themselves
	default:
		return nil
	}
	return &ref{[]*field{f}, o, f.Distinct, hits}
}

func betterRef(f *field, a, than *ref) bool {
	x, y := akin(f.name, a.to, a.to.key[0].name), akin(f.name, than.to, than.to.key[0].name)
	if x != y {
		return x > y
	}
	if a.hits != than.hits {
		return a.hits > than.hits
	}
	return a.to.Rows < than.to.Rows
}

// findComposite finds references to natural keys of several columns, by columns of the same names.
func (t *table) findComposite(ctx context.Context, root *os.Root, tables []*table) error {
	for _, o := range tables {
		if !t.mayReferTo(o) || len(o.key) < 2 || o.effective == nil && o.unique*100 < 98*o.Rows {
			continue
		}
		var by []*field
		for _, k := range o.key {
			for _, f := range t.fields {
				if f.name == k.name && f.Is.Kind == k.Is.Kind {
					by = append(by, f)
				}
			}
		}
		if len(by) != len(o.key) || slices.Equal(by, t.key) && t.effective == nil {
			continue
		}
		mine, err := t.Sets(ctx, root, [][]string{columnsOf(by)})
		if err != nil {
			return err
		}
		theirs, err := o.Sets(ctx, root, [][]string{columnsOf(o.key)})
		if err != nil {
			return err
		}
		n := mine[0].Len()
		if hits := mine[0].In(theirs[0]); n > 0 && float64(hits) >= 0.3*float64(n) {
			t.refs = slices.DeleteFunc(t.refs, func(r *ref) bool {
				return slices.ContainsFunc(r.by, func(f *field) bool { return slices.Contains(by, f) })
			})
			t.refs = append(t.refs, &ref{by, o, n, hits})
		}
	}
	return nil
}

func columnsOf(fields []*field) []string {
	var list []string
	for _, f := range fields {
		list = append(list, f.Name)
	}
	return list
}
