package member

import (
	"context"
	"slices"

	"ironmonger/internal/calendar"
	"ironmonger/internal/column"
	"ironmonger/internal/layout"
	"ironmonger/internal/warehouse"
)

// moves finds which times have passed from one key to another.
func (c *change) moves(o *outcome) {
	p := c.f.before(o.member)
	if len(p.versions) == 0 || !c.f.x.dim.Versioned() {
		return
	}
	beginning := column.Day(1, 1, 1)
	if c.f.x.dim.Time.Kind == column.Timestamp {
		beginning *= column.DayMicros
	}
	span := func(list []heir, j int) (int64, int64) { // what lies before the first version goes to it
		if j == 0 {
			return beginning, list[j].to
		}
		return list[j].from, list[j].to
	}
	now := o.heirs[len(o.heirs)-1].key
	for k, old := range p.versions {
		from, to := old.from, c.f.x.end
		if k == 0 {
			from = beginning
		}
		last := k+1 == len(p.versions)
		if !last {
			to = p.versions[k+1].from
		}
		stays, heirOfStart := false, now
		for j := range o.heirs {
			since, until := span(o.heirs, j)
			stays = stays || o.heirs[j].key == old.key
			if since <= old.from && old.from < until {
				heirOfStart = o.heirs[j].key
			}
			if since, until = max(since, from), min(until, to); since < until && o.heirs[j].key != old.key {
				c.timed = append(c.timed, warehouse.Move{Old: old.key, New: o.heirs[j].key, From: since, To: until})
			}
		}
		if old.inferred && now != old.key {
			c.untimed = append(c.untimed, warehouse.Move{Old: old.key, New: now})
		} else if !stays {
			c.untimed = append(c.untimed, warehouse.Move{Old: old.key, New: heirOfStart})
		}
		if last && now != old.key {
			c.current = append(c.current, warehouse.Move{Old: old.key, New: now})
		}
	}
}

// repoint changes the keys of the tables that point to the dimension.
func (c *change) repoint(ctx context.Context, tx warehouse.Tx) (map[string]int64, error) {
	counts := map[string]int64{}
	noted := ""
	if c.f.x.dim.Observed != nil {
		noted = c.f.x.dim.Observed.Name
	}
	for _, ref := range c.f.x.dim.PointedAt {
		r := &warehouse.Repointing{Table: ref.Table, Key: ref.Key, Time: ref.Time, TimeType: ref.TimeType, Moves: c.untimed}
		switch {
		case ref.Outrigger:
			r.Moves = c.current
		case ref.Time != "":
			r.Moves = c.at(ref)
		}
		if len(r.Moves) == 0 {
			continue
		}
		if columns, err := tx.Describe(ctx, ref.Table); err != nil {
			return nil, err
		} else if columns == nil {
			continue // not made yet
		}
		n, err := tx.Repoint(ctx, r)
		if err != nil {
			return nil, err
		}
		if n > 0 && ref.Table != noted {
			counts[ref.Table] += n
		}
	}
	return counts, nil
}

// at gives the timed moves in the precision of a reference's time.
func (c *change) at(ref layout.Reference) []warehouse.Move {
	moves := slices.Clone(c.timed)
	for i := range moves {
		m := &moves[i]
		switch {
		case ref.ByDay:
			m.From, m.To = calendar.Key(m.From), calendar.Key(m.To)
		case ref.TimeType.Kind == column.Timestamp && c.f.x.dim.Time.Kind == column.Date:
			m.From, m.To = m.From*column.DayMicros, m.To*column.DayMicros
		}
	}
	return moves
}
