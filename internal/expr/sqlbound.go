package expr

import (
	"strings"

	"ironmonger/internal/column"
)

// magnitude returns a number of digits before the point that values of a node do not exceed where it is clean; 0 if none is
// known. So what fits by its operands' types need not be checked row by row.
func magnitude(of node) int {
	t := of.typ()
	if !t.Exact() {
		return 0
	}
	switch n := of.(type) {
	case *columnNode:
		return typeDigits(t)
	case *literal:
		if n.out.Null[0] {
			return 1
		}
		whole, _, _ := strings.Cut(strings.TrimPrefix(n.out.Value(0), "-"), ".")
		return len(whole)
	case *arithmetic:
		l, r := magnitude(n.left), magnitude(n.right)
		switch {
		case n.op == '/':
			if isWhole(n.right) { // which has no scale smaller than that of what it divides
				return l
			}
			return 0
		case l == 0 || r == 0:
			return 0
		case n.op == '*':
			return l + r
		}
		return 1 + max(l, r)
	case *round:
		return checked(magnitude(n.of), t)
	case *cast:
		return checked(magnitude(n.of), t)
	case *exactCall:
		if n.name == "abs" {
			return magnitude(n.args[0])
		}
		return magnitude(n.args[1]) // what is left is less than the divisor
	case *coalesce:
		return most(n.args)
	case *extreme:
		return most(n.args)
	case *cases:
		return most(n.results)
	case *nullIf:
		return magnitude(n.of)
	}
	return 0
}

// isWhole reports whether a node is a constant that is not less than one, or not more than minus one.
func isWhole(of node) bool {
	n, ok := of.(*literal)
	if !ok || n.out.Null[0] {
		return false
	}
	whole, _, _ := strings.Cut(strings.TrimPrefix(n.out.Value(0), "-"), ".")
	return strings.Trim(whole, "0") != ""
}

// integerDigits is how many an integer has at most.
const integerDigits = 19

// typeDigits is how many digits before the point a type has room for.
func typeDigits(t column.Type) int {
	if t.Kind == column.Integer {
		return integerDigits
	}
	return max(1, int(t.Precision-t.Scale))
}

// checked is how many digits a value has at most once it is rounded, and was seen to fit its type.
func checked(of int, t column.Type) int {
	if room := typeDigits(t); of == 0 || of >= room {
		return room
	}
	return of + 1
}

func plus(known, more int) int {
	if known == 0 {
		return 0
	}
	return known + more
}

func most(nodes []node) int {
	greatest := 0
	for _, n := range nodes {
		d := magnitude(n)
		if d == 0 {
			return 0
		}
		greatest = max(greatest, d)
	}
	return greatest
}

// fitting says where a value that has so many digits before the point, or any number if that is 0, is one of a type, besides
// null; "" if it always is.
func fitting(digits int, value string, t column.Type) string {
	room := typeDigits(t)
	if t.Kind == column.Integer {
		room-- // not all numbers of 19 digits are integers
	}
	if digits > 0 && digits <= room && (t.Kind == column.Integer || t.Precision > t.Scale) {
		return ""
	}
	return fits(value, t)
}
