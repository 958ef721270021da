package transform

import (
	"fmt"

	"ironmonger/internal/column"
	"ironmonger/internal/diag"
	"ironmonger/internal/exact"
	"ironmonger/internal/star"
)

// opening is the balance that a member had at the end of a day.
type opening struct {
	amount exact.Int128
	day    int64
	at     movement // where it stands
}

// isOpening reports whether row i has a balance, and not what moved.
func (x *periodic) isOpening(b *column.Batch, i int) bool {
	return x.opens >= 0 && !b.Cols[x.opens].Null[i] && b.Cols[x.opens].Int[i] != 0
}

// isLate reports whether the period of row i was closed when the row came.
func (x *periodic) isLate(b *column.Batch, i int) bool {
	return x.closed >= 0 && !b.Cols[x.closed].Null[i] &&
		periodEnd(x.of.Every, x.dayOf(b.Cols[x.on].Int[i])) <= b.Cols[x.closed].Int[i]
}

// open notes a balance.
func (x *periodic) open(to *member, b *column.Batch, i int) error {
	if to.opening != nil {
		return mistake(b, i, "periods", "there is another opening balance of %s, at line %d of %s", natural(x.key(b), i), to.opening.at.line, to.opening.at.file)
	}
	day := x.dayOf(b.Cols[x.on].Int[i])
	to.opening = &opening{b.Cols[x.amount].Exact(i), day, movement{file: b.From.File, line: b.From.Line[i]}}
	x.reach(day + 1)
	return nil
}

// key returns the columns of a batch that tell members apart.
func (x *periodic) key(b *column.Batch) []*column.Column { return b.Pick(x.index.at) }

// add adds an amount; false if the sum is too large.
func (at *movement) add(amount exact.Int128, late bool) (ok bool) {
	sums := []*exact.Int128{&at.added, &at.lateAdded}
	if amount.Sign() < 0 {
		amount, sums = amount.Neg(), []*exact.Int128{&at.taken, &at.lateTaken}
	}
	if *sums[0], ok = sums[0].Add(amount); ok && late {
		*sums[1], ok = sums[1].Add(amount)
	}
	return ok
}

// balances makes the rows of amounts.
func (x *periodic) balances(m int, row rowOf) error {
	balance, from := exact.Int128{}, (*movement)(nil)
	if o := x.members[m].opening; o != nil {
		if x.members[m].first <= o.day {
			return x.mistake(&o.at, fmt.Sprintf("the balance is not before the first row of %s, so that it is not known whether it has that", x.named(m)))
		}
		balance, from = o.amount, &o.at
	}
	return x.each(m, func(end int64, at *movement) error {
		moved := at != nil
		if !moved {
			at = &movement{file: from.file, line: from.line}
		}
		from = at
		opening := balance
		closing, ok := opening.Add(at.added)
		if ok {
			closing, ok = closing.Add(at.taken.Neg())
		}
		balance = closing
		if !moved && (x.of.Without == star.LeavePeriods || x.of.Without == star.WhileNotZero && opening == (exact.Int128{})) {
			return nil
		}
		return row(m, at, func(cols []column.Column) error {
			cols[0].AppendInt(end)
			put := func(c *column.Column, sum exact.Int128) {
				c.AppendNull()
				last := len(c.Null) - 1
				c.Null[last] = false
				ok = ok && c.SetExact(last, sum)
			}
			for k, sum := range []exact.Int128{opening, at.added, at.taken, closing} {
				put(&cols[1+k], sum)
			}
			if cols[5].AppendInt(at.rows); x.of.Books() {
				put(&cols[6], at.lateAdded)
				put(&cols[7], at.lateTaken)
			}
			if !ok {
				return x.mistake(at, "the balance is too large for "+x.of.Type.String())
			}
			return nil
		})
	})
}

// mistake is an error about what moved.
func (x *periodic) mistake(at *movement, message string) error {
	return &diag.Error{At: diag.Place{File: at.file, Line: int(at.line)}, Subject: "periods", Message: message}
}

// named is a member for people.
func (x *periodic) named(m int) string { return natural(column.Pointers(x.keys), m) }
