package expr

import (
	"math"
	"strconv"
	"strings"

	"ironmonger/internal/civil"
	"ironmonger/internal/column"
	"ironmonger/internal/exact"
)

// interval is a span of time, which stands only beside a + or - with a date or timestamp.
type interval struct {
	base
	months, micros int64
}

var units = map[string]struct{ months, micros int64 }{
	"year": {
		12,
		0,
	}, "month": {1, 0}, "day": {0, civil.DayMicros}, "hour": {0, 3600e6}, "minute": {0, 60e6}, "second": {0, 1e6},
}

func newInterval(value, unit token) (node, error) {
	n, err := strconv.ParseInt(strings.TrimSpace(value.text), 10, 32)
	u, ok := units[strings.ToLower(unit.text)]
	if err != nil || !ok || unit.kind != tokName {
		return nil, errorAt(
			value.at,
			"an interval is written interval '3' day; the units are year, month, day, hour, minute, second",
		)
	}
	if max(n, -n) > (civil.LastDay-civil.FirstDay)*civil.DayMicros/max(u.micros, u.months*28*civil.DayMicros) {
		return nil, errorAt(
			value.at,
			"an interval of %d %ss is longer than all the time that there is",
			n,
			strings.ToLower(unit.text),
		)
	}
	return &interval{newBase(column.Type{}), n * u.months, n * u.micros}, nil
}

func (n *interval) eval(b *column.Batch) *Result { return n.begin(b.N) }

func isInterval(n node) bool {
	_, ok := n.(*interval)
	return ok
}

func isTime(n node) bool { return isKind(n, column.Date) || isKind(n, column.Timestamp) }

// timeOp is a calculation with dates and timestamps.
type timeOp int

const (
	addSpan timeOp = iota // a span to a date or timestamp
	addDays               // days to a date
	between               // from one date or timestamp to another
)

// times calculates with dates and timestamps.
type times struct {
	base
	op             timeOp
	left, right    node
	sign           int64 // -1 takes away what is on the right
	months, micros int64 // of the span
	date           bool  // what the span is added to is a date
}

func dayFits(day int64) bool { return day >= civil.FirstDay && day <= civil.LastDay }

func newTimeArithmetic(op token, left, right node) (node, error) {
	l, r := left.typ(), right.typ()
	sign := int64(1)
	if op.text == "-" {
		sign = -1
	}
	n := &times{left: left, right: right, sign: sign}
	span, ofInterval := right.(*interval)
	switch {
	case op.text == "*" || op.text == "/":
	case ofInterval && isTime(left):
		n.base = newBase(column.Type{Kind: column.Timestamp})
		n.op, n.right, n.date, n.months, n.micros = addSpan, left, l.Kind == column.Date, span.months, span.micros
		return n, nil
	case op.text == "+" && l.Kind == column.Integer && r.Kind == column.Date:
		n.left, n.right = right, left
		fallthrough
	case l.Kind == column.Date && r.Kind == column.Integer:
		n.base, n.op = newBase(column.Type{Kind: column.Date}), addDays
		return n, nil
	case op.text == "-" && l.Kind == column.Date && r.Kind == column.Date:
		n.base, n.op = newBase(column.Type{Kind: column.Integer}), between
		return n, nil
	case op.text == "-" && l.Kind == column.Timestamp && r.Kind == column.Timestamp:
		n.base, n.op = newBase(column.Type{Kind: column.Decimal, Precision: exact.NarrowDigits, Scale: 6}), between
		return n, nil
	}
	what := func(n node) string {
		if isInterval(n) {
			return "an interval"
		}
		return n.typ().String()
	}
	return nil, errorAt(
		op.at,
		"%s cannot calculate with %s and %s: date and integer (days), date and date, timestamp and timestamp (seconds), date or timestamp and interval",
		op.text,
		what(left),
		what(right),
	)
}

func (t *times) eval(b *column.Batch) *Result {
	l, r := t.left.eval(b), t.right.eval(b)
	out := t.begin(b.N)
	for i := range b.N {
		if carry(out, i, l, r) {
			continue
		}
		v, ok := t.of(l.Int[i], r.Int[i])
		if out.Int[i] = v; !ok {
			out.fail(i, overflow)
		}
	}
	return out
}

// of calculates one value; it says false for one that is out of range.
func (t *times) of(x, y int64) (int64, bool) {
	switch t.op {
	case addSpan:
		if t.date {
			x *= civil.DayMicros
		}
		day := civil.DayOf(x)
		moved := addMonths(day, t.sign*t.months)
		x += (moved-day)*civil.DayMicros + t.sign*t.micros
		return x, dayFits(moved) && dayFits(civil.DayOf(x))
	case addDays:
		return x + t.sign*y, y > -math.MaxInt32 && y < math.MaxInt32 && dayFits(x+t.sign*y)
	}
	return x - y, true
}

// addMonths goes so many months on; where the month is too short, to its last day.
func addMonths(day, months int64) int64 {
	if months == 0 {
		return day
	}
	y, m, d := civil.Date(day)
	total := int64(y)*12 + int64(m) - 1 + months
	year, month := int(total/12), int(total%12)+1
	if total < 0 {
		return civil.FirstDay - 1
	}
	return civil.Day(year, month, min(d, civil.DaysIn(year, month)))
}

// part is what extract takes from a date or timestamp; of a date, the time of day is midnight.
type part struct {
	base
	of   node
	name string
}

func ofDate(f func(y, m, d int) int) func(day, micros int64) int64 {
	return func(day, _ int64) int64 { return int64(f(civil.Date(day))) }
}

var parts = map[string]func(day, micros int64) int64{
	"year":    ofDate(func(y, m, d int) int { return y }),
	"quarter": ofDate(func(y, m, d int) int { return (m + 2) / 3 }),
	"month":   ofDate(func(y, m, d int) int { return m }),
	"day":     ofDate(func(y, m, d int) int { return d }),
	"isodow":  func(day, _ int64) int64 { return ((day+3)%7+7)%7 + 1 },
	"week":    func(day, _ int64) int64 { _, w := civil.Week(day); return int64(w) },
	"isoyear": func(day, _ int64) int64 { y, _ := civil.Week(day); return int64(y) },
	"hour":    func(_, micros int64) int64 { return micros / 3600e6 },
	"minute":  func(_, micros int64) int64 { return micros / 60e6 % 60 },
	"second":  func(_, micros int64) int64 { return micros % 60e6 },
}

func newExtract(name token, of node) (node, error) {
	if _, ok := parts[strings.ToLower(name.text)]; !ok {
		return nil, errorAt(
			name.at,
			"there is no part %s: year, quarter, month, day, week, isoyear, isodow, hour, minute, second",
			name,
		)
	}
	if !isTime(of) && !isKind(of, column.Time) {
		return nil, errorAt(name.at, "extract wants a date, a timestamp or a time, not %s", of.typ())
	}
	t := column.Type{Kind: column.Integer}
	if strings.EqualFold(name.text, "second") {
		t = column.Type{Kind: column.Decimal, Precision: 8, Scale: 6}
	}
	return &part{newBase(t), of, strings.ToLower(name.text)}, nil
}

func (p *part) eval(b *column.Batch) *Result {
	x, take := p.of.eval(b), parts[p.name]
	out := p.begin(b.N)
	for i := range b.N {
		if carry(out, i, x) {
			continue
		}
		day, micros := x.Int[i], int64(0)
		switch x.Type.Kind {
		case column.Timestamp:
			day = civil.DayOf(x.Int[i])
			micros = x.Int[i] - day*civil.DayMicros
		case column.Time:
			day, micros = 0, x.Int[i]
		}
		out.Int[i] = take(day, micros)
	}
	return out
}
