package star

import (
	"strings"

	"ironmonger/internal/column"
	"ironmonger/internal/exact"
)

// orderOf reads the column in whose order latest and earliest take rows.
func (c *checker) orderOf(s *Source, a *Aggregate, fields []column.Field, path string) {
	if a.Function != "latest" && a.Function != "earliest" {
		return
	}
	of, by, two := strings.Cut(a.Column, ",")
	if !two {
		c.errorf(a.written.At, path+".aggregates."+a.Text, "by which column is a row the %s one? Such as %[1]s(%[2]s, day)", a.Function, of)
		return
	}
	a.Column = strings.TrimSpace(of)
	w := Name{strings.TrimSpace(by), a.written.At.Right(strings.LastIndex(a.written.Text, strings.TrimSpace(by)))}
	if f, ok := c.field(fields, "source "+s.Text, w, path+".aggregates."+a.Text); ok {
		a.By = f.Name
	}
}

// average completes an average: exact, with at least 6 places (rule R25).
func (c *checker) average(a *Aggregate, of column.Field, path string) {
	if a.Sum = sumType(of.Type); known(of.Type) && !of.Type.Exact() {
		c.errorf(a.written.At, path+".aggregates."+a.Text, "%s is of type %s; an average is of exact numbers", of.Name, of.Type)
		return
	}
	scale := max(6, of.Type.Scale)
	digits := of.Type.Precision - of.Type.Scale + scale
	if of.Type.Kind == column.Integer {
		digits = exact.NarrowDigits
	}
	a.Type = column.Type{Kind: column.Decimal, Precision: min(digits, exact.MaxDigits), Scale: scale}
}
