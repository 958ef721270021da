package standing

import (
	"context"

	"ironmonger/internal/roster"
	"ironmonger/internal/schema"
	"ironmonger/internal/source"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// Days notes which days calendars have that grow: from the first to the last one in the tables of the dimensions on
// them. A calendar without any has those of the model. A year that was cut off at a limit of the model which is wider
// now is to be whole.
func Days(ctx context.Context, r warehouse.Reader, s *schema.Star, days *source.Days) error {
	done := map[*star.Calendar][2]int64{}
	for _, d := range s.Dimensions {
		if d.Calendar == nil || !d.Calendar.Grows() {
			continue
		}
		from, to, any, err := roster.Days(ctx, r, d)
		if err != nil {
			return err
		}
		if !any {
			continue
		}
		if before, ok := done[d.Calendar]; ok { // two dimensions on one calendar
			from, to = min(from, before[0]), max(to, before[1])
		}
		done[d.Calendar] = [2]int64{from, to}
		first, last := d.Calendar.Widened(from, to)
		days.Set(d.Calendar, min(from, first), max(to, last))
	}
	return nil
}
