package transform

import (
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/exact"
	"ironmonger/internal/expr"
	"ironmonger/internal/star"
)

// output is an aggregate of the model, and the first of the columns of which it is made.
type output struct {
	star.Aggregate
	first int
}

// ofTime is what latest and earliest keep beside the value: the value of the column in whose order they take rows.
const ofTime = "time"

// partsOf lists what is kept of a group for an aggregate: what can be put together from some rows and others.
func partsOf(a star.Aggregate, fields []column.Field) []star.Aggregate {
	switch a.Function {
	case "avg":
		sum, count := a, a
		sum.Function, sum.Type = "sum", a.Sum
		count.Function, count.Type = "count", column.Type{Kind: column.Integer}
		return []star.Aggregate{sum, count}
	case "latest", "earliest":
		time := a
		time.Function, time.Type = ofTime, fields[column.Find(fields, a.By)].Type
		return []star.Aggregate{a, time}
	}
	return []star.Aggregate{a}
}

// take has row i be the latest or earliest of group m, if it is. Of rows of one time, the later one is the latest.
func (g *groups) take(n, m int, from, by *column.Column, i int) {
	value, time := &g.cols[len(g.index.at)+n], &g.cols[len(g.index.at)+n+1]
	if value.Null[m] || closer(g.aggregates[n].Function, by, i, time, m) {
		value.Set(m, from, i)
		time.Set(m, by, i)
	}
}

// closer reports whether a time is in place of another for latest or earliest.
func closer(function string, by *column.Column, i int, than *column.Column, m int) bool {
	if order := by.Compare(i, than, m); function == "latest" {
		return order >= 0
	} else {
		return order < 0
	}
}

// put fills a batch with groups, from one on.
func (g *groups) put(b *column.Batch, from int) error {
	for k := range g.index.at {
		for i := range b.N {
			b.Cols[k].Set(i, &g.cols[k], from+i)
		}
	}
	for n, out := range g.outs {
		c := &b.Cols[len(g.index.at)+n]
		for i := range b.N {
			if out.Function != "avg" {
				if c.Set(i, &g.cols[out.first], from+i); out.Function == "list" && !c.Null[i] {
					c.Text[i] = expr.SortedList(c.Text[i], star.ListSeparator)
				}
			} else if !average(c, i, &g.cols[out.first], &g.cols[out.first+1], from+i) {
				return mistake(b, i, "aggregate "+out.Text, "the average is too large for %s", c.Type)
			}
		}
	}
	return nil
}

// average divides a sum by a count, as rule R25 says; false if the type has no room.
func average(to *column.Column, i int, sum, count *column.Column, m int) bool {
	if sum.Null[m] {
		to.SetNull(i)
		return true
	}
	to.Null[i] = false
	q, ok := exact.QuoScaled(sum.Exact(m), exact.Wide(count.Int[m]), int(to.Type.Scale-sum.Type.Scale))
	return ok && to.SetExact(i, q)
}

// list has the value of row i in the list of group m, once. The list is in order when it is put.
func list(c *column.Column, m int, from *column.Column, i int, b *column.Batch, a star.Aggregate) error {
	value := strings.Trim(from.Text[i], " ")
	switch {
	case strings.Contains(value, star.ListSeparator):
		return mistake(b, i, "aggregate "+a.Text, "%s has a %s, which separates the values of a list", from.Value(i), star.ListSeparator)
	case value == "":
	case c.Null[m]:
		c.Null[m], c.Text[m] = false, value
	case !listed(c.Text[m], value):
		c.Text[m] += star.ListSeparator + value
	}
	return nil
}

// listed reports whether a list has a value.
func listed(list, value string) bool {
	for from := 0; ; from++ {
		at := strings.Index(list[from:], value)
		if at < 0 {
			return false
		}
		from += at
		begins := from == 0 || strings.HasPrefix(list[from-1:], star.ListSeparator)
		end := from + len(value)
		if begins && (end == len(list) || strings.HasPrefix(list[end:], star.ListSeparator)) {
			return true
		}
	}
}
