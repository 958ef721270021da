// Package assert judges what a model says must hold of a table: it looks at the rows batch by batch, and at the end
// says what speaks against it.
package assert

import (
	"context"
	"fmt"
	"runtime"
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/digest"
	"ironmonger/internal/exact"
	"ironmonger/internal/expr"
	"ironmonger/internal/pipeline"
	"ironmonger/internal/source"
	"ironmonger/internal/star"
	"ironmonger/internal/transform"
)

// Judge looks at the rows of one table for one thing that must hold.
type Judge struct {
	*star.Must
	every, where *expr.Program             // nil if nothing is said
	total        int                       // column, or -1
	each, one    []int                     // columns
	ones         map[digest.Sum]digest.Sum // the digest of one for each
	digest       digest.Maker
	scale        int
	rows, chosen int64
	sum          exact.Int128
	overflow     bool
}

// New returns a judge of a table with the given columns, for which the model has been checked.
func New(m *star.Must, fields []column.Field) (*Judge, error) {
	j := &Judge{Must: m, total: -1}
	for _, e := range []struct {
		star.Expression
		to **expr.Program
	}{{m.Every, &j.every}, {m.Where, &j.where}} {
		if e.Text == "" {
			continue
		}
		var err error
		if *e.to, err = e.Compile(fields); err != nil {
			return nil, err
		}
	}
	for _, name := range m.Each {
		j.each = append(j.each, column.Find(fields, name))
	}
	for _, name := range m.HasOne {
		j.one = append(j.one, column.Find(fields, name))
	}
	j.ones = map[digest.Sum]digest.Sum{}
	if m.Total != "" {
		j.total = column.Find(fields, m.Total)
		j.scale = int(fields[j.total].Type.Scale)
	}
	return j, nil
}

// Says is what must hold, in words.
func (j *Judge) Says() string {
	s := j.Text
	switch m := j.Must; {
	case m.Every.Text != "":
		s += ": every row has " + m.Every.Text
	case len(m.Each) > 0:
		s += fmt.Sprintf(": each %s has one %s", strings.Join(m.Each, ", "), strings.Join(m.HasOne, ", "))
	case m.Total != "":
		s += fmt.Sprintf(": the total of %s is that of %s in %s", m.Total, m.Column, m.Source.Text)
	case m.AtLeast != nil && m.AtMost != nil:
		s += fmt.Sprintf(": at least %s and at most %s", words(m.AtLeast), words(m.AtMost))
	case m.AtLeast != nil:
		s += ": at least " + words(m.AtLeast)
	default:
		s += ": at most " + words(m.AtMost)
	}
	if j.Where.Text != "" {
		s += " where " + j.Where.Text
	}
	return s
}

// Against is what speaks against it of a row that does.
func (j *Judge) Against() string {
	if len(j.Each) > 0 {
		return "another " + strings.Join(
			j.HasOne,
			", ",
		) + " than rows before it with the same " + strings.Join(
			j.Each,
			", ",
		)
	}
	return "not so: " + j.Every.Text
}

func words(b *star.Bound) string {
	if b.Share {
		return b.String() + " of the rows"
	}
	return b.String() + " rows"
}

// Look takes a batch, and calls against for each row that does not meet what every row must, or that is not like those
// before it in what must be one.
func (j *Judge) Look(b *column.Batch, against func(i int)) {
	j.rows += int64(b.N)
	var every, chosen *expr.Result
	if j.every != nil {
		every = j.every.Eval(b)
	}
	if j.where != nil {
		chosen = j.where.Eval(b)
	}
	each, one := b.Pick(j.each), b.Pick(j.one)
	for i := range b.N {
		if chosen != nil && !chosen.True(i) {
			continue
		}
		j.chosen++
		if every != nil && !every.True(i) {
			against(i)
		}
		if len(j.each) > 0 && !j.single(each, one, i) {
			against(i)
		}
		if j.total >= 0 {
			var ok bool
			j.sum, ok = j.sum.Add(b.Cols[j.total].Exact(i))
			j.overflow = j.overflow || !ok
		}
	}
}

// single reports whether a row is like those before it that are equal in each.
func (j *Judge) single(each, one []*column.Column, i int) bool {
	for _, c := range each {
		if c.Null[i] {
			return true
		}
	}
	key, value := j.digest.Of(each, i), j.digest.Of(one, i)
	first, known := j.ones[key]
	if !known {
		j.ones[key] = value
	}
	return !known || first == value
}

// Verdict says, after the last batch, what speaks against what is said of all rows together; "" if nothing does.
// Sources are read below root.
func (j *Judge) Verdict(ctx context.Context, in *source.Inputs) (string, error) {
	of := fmt.Sprintf("%d rows", j.chosen)
	if j.where != nil {
		of = fmt.Sprintf("%d of %d rows", j.chosen, j.rows)
	}
	if b := j.AtLeast; b != nil && j.compare(b) < 0 {
		return of + ", and at least " + b.String() + " must be", nil
	}
	if b := j.AtMost; b != nil && j.compare(b) > 0 {
		return of + ", and at most " + b.String() + " may be", nil
	}
	if j.total < 0 {
		return "", nil
	}
	other, scale, err := sourceTotal(ctx, in, j.Source, j.Column)
	if err != nil {
		return "", err
	}
	x, ok1 := j.sum.Rescale(j.scale, max(j.scale, scale))
	y, ok2 := other.Rescale(scale, max(j.scale, scale))
	if j.overflow || !ok1 || !ok2 {
		return "a total needs more than 38 digits", nil
	}
	if x != y {
		return fmt.Sprintf(
			"the total is %s, and %s of %s comes to %s",
			exact.AppendDecimal(nil, j.sum, j.scale),
			j.Column,
			j.Source.Text,
			exact.AppendDecimal(nil, other, scale),
		), nil
	}
	return "", nil
}

// compare orders the chosen rows and a bound.
func (j *Judge) compare(b *star.Bound) int {
	have, want := exact.Wide(j.chosen), exact.Wide(b.Rows)
	if b.Share { // chosen / rows against millionths
		have, _ = have.Mul(exact.Wide(1_000_000))
		want, _ = want.Mul(exact.Wide(j.rows))
	}
	return have.Cmp(want)
}

// sourceTotal adds up a column over the rows of a source that it does not set aside.
func sourceTotal(
	ctx context.Context,
	in *source.Inputs,
	s *star.Source,
	name string,
) (exact.Int128, int, error) {
	flow, err := transform.Open(
		ctx,
		in,
		s,
		func(c string) bool { return c == name },
	)
	if err != nil {
		return exact.Int128{}, 0, err
	}
	k := column.Find(flow.Fields(), name)
	sum := exact.Int128{}
	err = pipeline.Batches(ctx, flow, runtime.GOMAXPROCS(0), func(b *column.Batch) error {
		for i := range b.N {
			if b.Bad(i) {
				continue
			}
			var ok bool
			if sum, ok = sum.Add(b.Cols[k].Exact(i)); !ok {
				return fmt.Errorf("the total of %s in source %s needs more than 38 digits", name, s.Text)
			}
		}
		return nil
	})
	if err != nil {
		return sum, 0, err
	}
	return sum, int(flow.Fields()[k].Type.Scale), nil
}
