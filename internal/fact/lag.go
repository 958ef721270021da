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
	days     *Workdays
}

// Workdays is the numbers of the working days of a calendar, from its first day on.
type Workdays struct {
	First   int64
	Numbers []int64
}

// number returns the number of a day; false if the calendar does not have it.
func (d *Workdays) number(at int64) (int64, bool) {
	if at -= d.First; at < 0 || at >= int64(len(d.Numbers)) {
		return 0, false
	}
	return d.Numbers[at], true
}

// Between returns the working days between row i of two columns of dates or timestamps; false if one is null or outside
// the calendar.
func (d *Workdays) Between(from, to *column.Column, i int) (int64, bool) {
	if from.Null[i] || to.Null[i] {
		return 0, false
	}
	a, ok := d.number(dayOf(from, i))
	b, too := d.number(dayOf(to, i))
	return b - a, ok && too
}

// CountIn has the lags of the fact in working days counted by those of calendars.
func (w *Writer) CountIn(days map[*star.Lag]*Workdays) {
	for k := range w.lags {
		w.lags[k].days = days[w.lags[k].Lag]
	}
}

// fill makes row i of a column the lag between two columns: null while either of them is (rule R33).
func (l *lag) fill(to *column.Column, cols []*column.Column, i int) {
	a, b := cols[l.from], cols[l.to]
	if l.days != nil {
		lag, ok := l.days.Between(a, b, i)
		if to.Null[i], to.Int[i] = !ok, lag; !ok {
			to.SetNull(i)
		}
		return
	}
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
