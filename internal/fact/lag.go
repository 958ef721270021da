package fact

import (
	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/exact"
	"ironmonger/internal/star"
)

// lag works out a lag of a fact from columns that stand as the table's fields.
type lag struct {
	*star.Lag
	from, to int // of fields
}

// fill makes row i of a column the lag between two columns: null while either of them is (rule R33).
func (l *lag) fill(to *column.Column, cols []*column.Column, i int) {
	a, b := cols[l.from], cols[l.to]
	if a.Null[i] || b.Null[i] {
		to.SetNull(i)
		return
	}
	to.Null[i], to.Int[i] = false, between(l.Lag, a, b, i)
}

// between returns the lag between row i of two columns that are not null, as its column has it: whole days, or hours
// or minutes in units of the last decimal place.
func between(l *star.Lag, from, to *column.Column, i int) int64 {
	if l.In == star.Days {
		return dayOf(to, i) - dayOf(from, i)
	}
	micros := int64(60_000_000)
	if l.In == star.Hours {
		micros *= 60
	}
	v, _ := exact.QuoScaled(exact.Wide(to.Int[i]-from.Int[i]), exact.Wide(micros), star.LagScale) // years fit
	units, _ := v.Int64()
	return units
}

func dayOf(c *column.Column, i int) int64 {
	if c.Type.Kind == column.Timestamp {
		return civil.DayOf(c.Int[i])
	}
	return c.Int[i]
}
