package load

import (
	"context"
	"strings"
	"testing"

	"ironmonger/internal/source"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// planner is a database that plans a query as so many rows, on this machine or far away.
type planner struct {
	warehouse.Statements
	rows int64
	near bool
}

// planned is a transaction in it.
type planned struct {
	warehouse.Tx
	*planner
}

func (p planned) Statements() warehouse.Statements                 { return p.planner }
func (p *planner) Estimate(context.Context, string) (int64, error) { return p.rows, nil }
func (p *planner) Near() bool                                      { return p.near }

// TestSuggests: what nothing says is left to a warehouse that is far away, if it is a million rows.
func TestSuggests(t *testing.T) {
	for _, c := range []struct {
		rows  int64
		near  bool
		where star.Execution
		why   string
	}{
		{1_000_000, false, star.InWarehouse, "about 1,000,000 rows"},
		{999_999, false, star.InProcess, "only about 999,999 rows"},
		{5_000_000, true, star.InProcess, "on this machine"},
	} {
		w := &work{tx: planned{planner: &planner{rows: c.rows, near: c.near}}}
		where, why, err := w.suggests(t.Context(), []branch{{from: &source.Plain{}}})
		if err != nil || where != c.where || !strings.Contains(why, c.why) {
			t.Errorf("%d rows, near: %t: %s, since %s, %v", c.rows, c.near, where, why, err)
		}
	}
}
