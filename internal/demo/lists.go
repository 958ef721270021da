package demo

import (
	"fmt"
	"time"
)

// duty writes which keepers were at work at a passage, and for how long: of each third passage, one to three of them,
// and now and then one of them twice.
func (a *authority) duty() {
	a.file("duty.csv", "\n", "passage_no,keeper_no,minutes", func(line func(string, ...any)) {
		for no := 3; no <= a.passages; no += 3 {
			for n := range 1 + a.pick(3) {
				keeper := fmt.Sprintf("%03d", 1+(no+7*n)%a.keepers)
				line("%d,%s,%d", no, keeper, 5+a.pick(50))
				if n == 0 && no%90 == 0 {
					line("%d,%s,%d", no, keeper, 5)
				}
			}
		}
	})
}

// openings writes when locks are open: most all the time, some with a gap for repairs, some in spans that overlap.
func (a *authority) openings() {
	day := func(n int) string { return time.Date(2025, 1, 1+n, 0, 0, 0, 0, time.UTC).Format(time.DateOnly) }
	a.file("openings.csv", "\n", "lock_code,open_from,closed_from,notice", func(line func(string, ...any)) {
		for i := 1; i <= 24; i++ {
			switch from, to := 20+a.pick(20), 45+a.pick(20); i % 6 {
			case 1:
				line("L%02d,%s,%s,winter", i, day(0), day(from))
				line("L%02d,%s,,after repairs", i, day(to))
			case 2:
				line("L%02d,%s,%s,first notice", i, day(0), day(to))
				line("L%02d,%s,,second notice", i, day(from))
			default:
				line("L%02d,%s,,", i, day(0))
			}
		}
	})
}
