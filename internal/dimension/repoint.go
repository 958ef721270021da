package dimension

import (
	"context"
	"slices"

	"ironmonger/internal/calendar"
	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/history"
	"ironmonger/internal/ledger"
	"ironmonger/internal/schema"
	"ironmonger/internal/warehouse"
)

// moves finds which times have passed from one key to another.
func (c *change) moves(o *outcome) {
	p := c.f.before(o.member)
	if len(p.Versions) == 0 || !c.f.x.Dimension().Versioned() {
		return
	}
	beginning := civil.Day(1, 1, 1)
	if c.f.x.Dimension().Time.Kind == column.Timestamp {
		beginning *= civil.DayMicros
	}
	// what lies before the first version goes to it, what lies after the last to that
	span := func(list []history.Next, j int) (from, to int64) {
		if from, to = list[j].From, list[j].To; j == 0 {
			from = beginning
		}
		if j+1 == len(list) {
			to = warehouse.Forever
		}
		return from, to
	}
	now := o.Versions[len(o.Versions)-1].Key
	for k, old := range p.Versions {
		from, to := old.From, int64(warehouse.Forever)
		if k == 0 {
			from = beginning
		}
		last := k+1 == len(p.Versions)
		if !last {
			to = p.Versions[k+1].From
		}
		stays, heirOfStart := false, now
		for j := range o.Versions {
			since, until := span(o.Versions, j)
			stays = stays || o.Versions[j].Key == old.Key
			if since <= old.From && old.From < until {
				heirOfStart = o.Versions[j].Key
			}
			if since, until = max(since, from), min(until, to); since < until && o.Versions[j].Key != old.Key {
				c.timed = append(
					c.timed,
					warehouse.Move{Old: old.Key, New: o.Versions[j].Key, From: since, To: until},
				)
			}
		}
		if old.Inferred && now != old.Key {
			c.untimed = append(c.untimed, warehouse.Move{Old: old.Key, New: now})
		} else if !stays {
			c.untimed = append(c.untimed, warehouse.Move{Old: old.Key, New: heirOfStart})
		}
		if last && now != old.Key {
			c.current = append(c.current, warehouse.Move{Old: old.Key, New: now})
		}
	}
}

// references lists the columns that point to the dimension: those of this model, and those that the ledger knows of
// others.
func (c *change) references(ctx context.Context, tx warehouse.Tx) ([]schema.Reference, error) {
	d := c.f.x.Dimension()
	refs := slices.Clone(d.PointedAt)
	known, err := ledger.References(ctx, tx, d.Table.Name)
	for _, ref := range known {
		if !slices.ContainsFunc(d.PointedAt, func(r schema.Reference) bool { return r.Table == ref.Table }) {
			refs = append(refs, ref)
		}
	}
	return refs, err
}

// repoint changes the keys of the tables that point to the dimension.
func (c *change) repoint(ctx context.Context, tx warehouse.Tx, refs []schema.Reference) (map[string]int64, error) {
	counts := map[string]int64{}
	noted := ""
	if c.f.x.Dimension().Observed != nil {
		noted = c.f.x.Dimension().Observed.Name
	}
	for _, ref := range refs {
		r := &warehouse.Repointing{
			Table:    ref.Table,
			Key:      ref.Key,
			Time:     ref.Time,
			TimeType: ref.TimeType,
			Moves:    c.untimed,
		}
		switch {
		case ref.Durable:
			r.Moves = c.durable
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
		} else if !columns.Has(ref.Key) || ref.Time != "" && !columns.Has(ref.Time) {
			continue // not made yet, or made anew by hand
		} else if columns.Has(schema.LoadRun) {
			r.Stamp, r.Run = schema.LoadRun, c.f.run
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

// at returns the timed moves in the precision of a reference's time.
func (c *change) at(ref schema.Reference) []warehouse.Move {
	moves := slices.Clone(c.timed)
	for i := range moves {
		m := &moves[i]
		switch {
		case ref.ByDay:
			m.From = calendar.Key(m.From)
			if m.To != warehouse.Forever {
				m.To = calendar.Key(m.To)
			}
		case ref.TimeType.Kind == column.Timestamp && c.f.x.Dimension().Time.Kind == column.Date:
			m.From *= civil.DayMicros
			if m.To != warehouse.Forever {
				m.To *= civil.DayMicros
			}
		}
	}
	return moves
}
