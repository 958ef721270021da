package strays

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/ledger"
	"ironmonger/internal/parse"
	"ironmonger/internal/schema"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// outside is the natural keys of the last load of each step whose members had no version at the time of a row, for
// members that begin later and for members that ended before: how many days lie between.
type outside struct {
	Cause
	least, most int64
}

// outsides finds them for the keys that point to a dimension.
func outsides(ctx context.Context, r warehouse.Reader, s *schema.Star, d *schema.Dimension, last []*ledger.Step) ([]Cause, error) {
	if d.Validity().Kind == column.Null {
		return nil, nil
	}
	var list []ledger.Stray
	add := func(step string, keys []*star.Key) {
		for _, x := range last {
			for _, k := range keys {
				if x.Name != step || k.Dimension != d.Dimension || x.Figures.Keys[k.Text] == nil {
					continue
				}
				for _, stray := range x.Figures.Keys[k.Text].Strays {
					if stray.Outcome == "outside" && stray.Earliest != "" {
						list = append(list, stray)
					}
				}
			}
		}
	}
	for _, f := range s.Facts {
		add("fact "+f.Text, f.Keys)
	}
	if len(list) == 0 {
		return nil, nil
	}
	spans, err := validities(ctx, r, d)
	if err != nil {
		return nil, err
	}
	kinds := [2]outside{}
	for n, what := range []string{"the member begins later", "the member had ended"} {
		kinds[n].Cause = Cause{Dimension: d.Text, Kind: "outside", What: what}
	}
	if d.LookedUp == nil && !d.FromStart {
		kinds[0].Mend = "first_version: from_beginning"
	}
	for _, x := range list {
		span, ok := spans[x.Natural]
		if !ok {
			continue
		}
		from, to := dayOf(x.Earliest), dayOf(x.Latest)
		k, near, far := &kinds[0], span[0]-to, span[0]-from
		if from >= span[0] {
			k, near, far = &kinds[1], from-span[1]+1, to-span[1]+1
		}
		k.add(x, near, far)
	}
	var causes []Cause
	for _, k := range kinds {
		if k.Keys == 0 {
			continue
		}
		k.What += fmt.Sprintf(" by %d to %d days", k.least, k.most)
		if k.least == k.most {
			k.What = strings.Replace(k.What, fmt.Sprintf("%d to ", k.least), "", 1)
		}
		if k.Mend != "" {
			k.Mended = k.Keys
		}
		causes = append(causes, k.Cause)
	}
	return causes, nil
}

// add counts a natural key whose rows are some days outside.
func (k *outside) add(x ledger.Stray, near, far int64) {
	if k.Keys == 0 {
		k.least, k.most = near, far
		k.Example, k.Member, k.File, k.Line = x.Natural, x.Natural, x.File, x.Line
	}
	k.least, k.most = min(k.least, near), max(k.most, far)
	k.Keys++
	k.Rows += x.Rows
	if !slices.Contains(k.Outcome, x.Rule) {
		k.Outcome = append(k.Outcome, x.Rule)
	}
}

// validities reads the first day of each member, and the day on which its last version ends, by its natural key as
// strays have it.
func validities(ctx context.Context, r warehouse.Reader, d *schema.Dimension) (map[string][2]int64, error) {
	fields := append([]column.Field{{Name: star.ValidFrom, Type: d.Validity()}, {Name: star.ValidTo, Type: d.Validity()}}, d.NaturalKey...)
	if d.LookedUp != nil {
		fields[0].Name, fields[1].Name = d.LookedUp.From, d.LookedUp.To
	}
	spans := map[string][2]int64{}
	day := func(c *column.Column, i int) int64 {
		if c.Type.Kind == column.Timestamp {
			return civil.DayOf(c.Int[i])
		}
		return c.Int[i]
	}
	q := warehouse.Query{Table: d.Table.Name, Fields: fields, Convert: d.Table.Borrowed}
	return spans, warehouse.Each(ctx, r, q, func(b *column.Batch) error {
		for i := range b.N {
			parts := make([]string, len(d.NaturalKey))
			for k := range parts {
				parts[k] = b.Cols[2+k].Value(i)
			}
			natural := strings.Join(parts, ", ")
			from, to := day(&b.Cols[0], i), day(&b.Cols[1], i)
			if b.Cols[1].Null[i] {
				to = 1 << 40
			}
			if span, met := spans[natural]; met {
				from, to = min(from, span[0]), max(to, span[1])
			}
			spans[natural] = [2]int64{from, to}
		}
		return nil
	})
}

// dayOf reads the day of a date or a timestamp as it is written.
func dayOf(text string) int64 {
	c := column.Column{Type: column.Type{Kind: column.Date}}
	c.Resize(1)
	if parse.NewReader(nil).Set(&c, 0, text[:min(len(text), len("2025-01-31"))]) != nil {
		return 0
	}
	return c.Int[0]
}
