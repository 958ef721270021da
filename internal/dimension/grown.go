package dimension

import (
	"fmt"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
)

// Growth is how a calendar grows while facts are loaded: to the whole years that have the days of the facts.
type Growth struct {
	Calendar *star.Calendar
	From, To int64 // the days that are there; none if To is before From
	Rows     func(from, to int64) (*column.Batch, []column.Field, error)
}

// Grows has the session add days to a calendar in place of inferred members.
func (s *Session) Grows(g *Growth) {
	s.growth = g
	s.days = []*column.Column{{Type: s.x.Dimension().NaturalKey[0].Type, Null: []bool{false}, Int: []int64{0}}}
}

// day returns the natural key of a calendar that grows: the day of a date or a timestamp.
func (s *Session) day(by []*column.Column, i int) []*column.Column {
	if s.growth == nil {
		return by
	}
	at := by[0].Int[i]
	if by[0].Type.Kind == column.Timestamp {
		at = civil.DayOf(at)
	}
	s.days[0].Int[0] = at
	return s.days
}

// grow adds the days up to a day, and those of its whole years, and returns its key. What goes wrong is told when the
// days are written.
func (s *Session) grow(at int64) int64 {
	g := s.growth
	from, to := g.Calendar.Widened(at, at)
	if g.From <= g.To {
		from, to = min(from, g.From), max(to, g.To)
	}
	rows, fields, err := g.Rows(from, to)
	if err != nil {
		s.failed = fmt.Errorf("dimension %s cannot grow to %s: %w", s.x.Dimension().Text, string(column.AppendInt(nil, column.Date, at)), err)
		return s.highest
	}
	days := []*column.Column{&rows.Cols[column.Find(fields, s.x.Dimension().NaturalKey[0].Name)]}
	surrogate := s.highest
	for i, day := range days[0].Int[:rows.N] {
		if day >= g.From && day <= g.To {
			continue
		}
		s.index.Add(days, i)
		key := int64(0)
		if keys := s.x.Dimension().DayKeys(); keys != nil {
			key = keys.Key(day)
			s.highest = max(s.highest, key)
		} else {
			key = s.next()
		}
		if s.keys = append(s.keys, key); day == at {
			surrogate = key
		}
		r := schema.Row{Key: key, Durable: key, From: s.x.Rules().Beginning, To: s.x.Rules().End, Current: true, Run: s.run}
		s.x.Dimension().AppendRow(s.rows, &r, grown{s.x.Dimension(), rows, fields, i})
	}
	g.From, g.To, s.changed = from, to, true
	return surrogate
}

// grown is the values of a day.
type grown struct {
	dim    *schema.Dimension
	rows   *column.Batch
	fields []column.Field
	row    int
}

func (g grown) Append(c *column.Column, at int, _ schema.Role) {
	c.AppendOwn(&g.rows.Cols[column.Find(g.fields, g.dim.Table.Columns[at].Name)], g.row)
}
