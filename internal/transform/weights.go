package transform

import (
	"errors"
	"fmt"
	"math/big"
	"slices"

	"ironmonger/internal/column"
	"ironmonger/internal/exact"
	"ironmonger/internal/star"
)

// weigh sets the weights of the members of a list, or their parts of an amount, by largest remainder: each has the
// whole units of its share, and the units that are left over go, one each, to those with the greatest remainders; of
// equal ones to the lesser member, in whose order the rows are. Rows of one member, which are peers, have the member's
// weight: it counts once, and shares are added. A list without a share above zero has no weights, and so has one with a
// negative share.
func (x *window) weigh(out, of, shares *column.Column, rows []int32, peers func(i, k int32) int) error {
	var weights []*big.Int
	member := make([]int, len(rows)) // of a row
	sum := new(big.Int)
	for n, i := range rows {
		again := n > 0 && peers(rows[n-1], i) == 0
		if !again {
			weights = append(weights, new(big.Int))
		}
		member[n] = len(weights) - 1
		share := big.NewInt(1)
		if shares != nil {
			share = unitsOf(shares, int(i))
		} else if again {
			share = new(big.Int)
		}
		if share.Sign() < 0 {
			return x.without(out, rows)
		}
		weights[member[n]].Add(weights[member[n]], share)
		sum.Add(sum, share)
	}
	if sum.Sign() == 0 {
		return x.without(out, rows)
	}
	units := new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(x.Type.Scale)), nil)
	if x.Function == star.PartOf {
		first := int(rows[0])
		for _, i := range rows {
			if of.Null[i] != of.Null[first] || !of.Null[i] && of.Compare(int(i), of, first) != 0 {
				return fmt.Errorf("%s: the rows of a list have different amounts in %s, and so no parts of one", x.Text, x.Column)
			}
		}
		if of.Null[first] {
			return x.without(out, rows)
		}
		units = unitsOf(of, first)
	}
	negative := units.Sign() < 0
	units = new(big.Int).Abs(units)
	parts, remainders, left := make([]*big.Int, len(weights)), make([]*big.Int, len(weights)), new(big.Int).Set(units)
	for n := range weights {
		parts[n], remainders[n] = new(big.Int).QuoRem(new(big.Int).Mul(weights[n], units), sum, new(big.Int))
		left.Sub(left, parts[n])
	}
	order := make([]int, len(weights))
	for n := range order {
		order[n] = n
	}
	slices.SortStableFunc(order, func(a, b int) int { return remainders[b].Cmp(remainders[a]) })
	for n := range int(left.Int64()) { // fewer than there are members
		parts[order[n]].Add(parts[order[n]], big.NewInt(1))
	}
	for n := range parts {
		if negative {
			parts[n].Neg(parts[n])
		}
	}
	for n, i := range rows {
		out.Null[i] = false
		v, ok := exact.FromBig(parts[member[n]])
		if !ok || !out.SetExact(int(i), v) {
			return errors.New(x.Text + " is too large for " + x.Type.String())
		}
	}
	return nil
}

// without leaves the rows of a list without weights.
func (x *window) without(out *column.Column, rows []int32) error {
	for _, i := range rows {
		out.SetNull(int(i))
	}
	return nil
}

// unitsOf is the units of an exact number; 0 of null.
func unitsOf(c *column.Column, i int) *big.Int {
	if c.Null[i] {
		return new(big.Int)
	}
	return c.Exact(i).Big()
}
