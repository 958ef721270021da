package star

import (
	"fmt"
	"strings"
	"testing"
)

// shaped is a model of which each case below spoils a source.
const shaped = `warehouse: {sqlite: star.db}
parameters: {closing_day: {type: date, default: 2025-01-31}, limit: {type: integer, default: 3}}
sources:
  moves:
    read: m.csv
    columns: {no: integer, account: text, month: text, day: date, amount: "decimal(9,2)", rate: double, note: text, share: integer}
%s
dimensions:
  date: {calendar: {from: 2024-01-01, to: 2026-12-31}}
  account: {from: moves, natural_key: account}
facts:
  move: {from: moves, grain: no, keys: {account: {by: account}}, measures: amount}
`

// TestShapingMistakes: what is wrong with windows, pivots, periods, weights and the forms of files is told where it
// stands.
func TestShapingMistakes(t *testing.T) {
	for _, c := range []struct{ source, want string }{
		{"    window: {before: lag(amount) over (partition by account order by day)}", ""},
		{"    window: {n: \"row_number() over (order by day desc, no)\"}", ""},
		{"    window: {n: count(*) over (partition by account), s: \"SUM(amount) OVER ()\"}", ""},
		{"    window: {a: lag(amount) over (order by day), b: lag(a) over (order by day)}", ""},
		{"    window: {before: lag(amount)}", "sources.moves.window.before: lag(amount) is not a window: lag(level) over"},
		{"    window: {before: median(amount) over (order by day)}", "is not a window"},
		{"    window: {before: lag(amount) over (partition by account)}", "sources.moves.window.before: lag needs an order"},
		{"    window: {n: row_number(no) over (order by day)}", "row_number() is of no column"},
		{"    window: {s: sum(note) over (order by day)}", "note is of type text; a sum is of numbers"},
		{"    window: {s: lag(amout) over (order by day)}", "source moves has no column amout (did you mean amount?)"},
		{"    window: {s: lag(amount) over (partition by acount order by day)}", "source moves has no column acount"},
		{"    window: {s: lag(amount) over (partition by rate order by day)}", "rate"},
		{"    window: {amount: lag(amount) over (order by day)}", "there is already a column amount"},
		{"    pivot: {by: account, name: month, value: amount, columns: [jan, feb]}", "facts.move.grain: there is no column or key no (there is: account"},
		{"    pivot: {by: acount, name: month, value: amount, columns: [jan]}", "source moves has no column acount"},
		{"    pivot: {by: account, name: mont, value: amount, columns: [jan]}", "source moves has no column mont"},
		{"    pivot: {by: account, name: month, value: note, columns: [jan], several: sum}", "note is of type text; a sum is of numbers|jan is of type text; a sum is of numbers"},
		{"    pivot: {by: account, name: month, value: amount, columns: [jan]}\n    group: {by: account}", "sources.moves.pivot: a source has a group or a pivot"},
		{"    pivot: {by: account, name: month, value: amount, columns: [note]}", "there is already a column note"},
		{"    pivot: {by: account, name: month, value: amount}", "sources.moves.pivot: columns is missing"},
		{"    periods: {by: account, on: day, every: month, amount: amount}", "facts.move.grain: there is no column or key no (there is: account"},
		{"    periods: {by: account, on: note, every: month, amount: amount}", "sources.moves.periods.on: note is of type text; it must be a date or a timestamp"},
		{"    periods: {by: account, on: day, every: fortnight, amount: amount}", "no such choice: fortnight"},
		{"    periods: {by: account, on: day, every: month}", "periods are of an amount, of a value or of spans (from, to): one of these"},
		{"    periods: {by: account, on: day, every: month, amount: amount, value: note}", "periods are of an amount, of a value or of spans (from, to): one of these"},
		{"    periods: {by: account, on: day, every: month, amount: rate}", "rate is of type double; it must be an integer or a decimal"},
		{"    periods: {by: account, on: day, every: month, amount: amount, stale: 3}", "periods.stale: stale is for values"},
		{"    periods: {by: account, on: day, every: month, value: note, without_movement: keep}", "without_movement, opens, closed and late are for amounts"},
		{"    periods: {by: account, on: day, every: month, amount: amount, through: \":limit\"}", "it is of type integer, and has to be a date"},
		{"    periods: {by: account, on: day, every: month, amount: amount, through: \":closing_dy\"}", "closing_dy"},
		{"    periods: {by: account, on: day, every: month, amount: amount}\n    group: {by: account}", "a source has a group, a pivot or periods"},
		{"    derive: {period: day}\n    periods: {by: period, on: day, every: month, amount: amount}", "there would be two columns called period"},
		{"    weights: {within: no, by: account}", ""},
		{"    weights: {within: no, by: account, shares: share, name: part_of, parts: {amount_part: amount}}", ""},
		{"    weights: {within: no, by: acount}", "source moves has no column acount"},
		{"    weights: {within: no, by: account, shares: note}", "note is of type text; shares are integers or decimals"},
		{"    weights: {within: no, by: account, parts: {p: rate}}", "rate is of type double; parts are of integers and decimals"},
		{"    weights: {within: no, by: account, places: 40}", "40 is not a number of places: 0 to 17"},
		{"    weights: {within: no, by: account, name: note}", "there is already a column note"},
		{"    settle: 30 s", ""},
		{"    settle: 30 sec", "30 sec is not a time such as 30 s, 5 min, 2 h or 3 days"},
		{"    companion: d/one", "d/one is not the end of a name"},
		{"    sheet: 2", "sources.moves: sheet and range are for workbooks"},
		{"    record: a.b", "sources.moves.record: record is for XML"},
		{"    format: xml", "which element of the XML is a row? (record)"},
		{"    format: xlsx\n    csv: {separator: tab}", "separator, quote and guard are for CSV files"},
		{"    format: xlsx\n    csv: {encoding: utf-16}", "says itself how it is encoded"},
		{"    format: xlsx\n    corrections: c.csv", "rows of text files can be corrected"},
		{"    format: fixed_width", "sources.moves.columns.no: which characters of a line are its value? (characters)"},
		{"    unreadable: never", "no such choice: never"},
		{"    corrections: \"c/*.csv\"", ""},
	} {
		text := strings.Replace(shaped, "%s", c.source, 1)
		_, err := Parse("m.yaml", []byte(text), Outside{})
		said := errorText(err)
		found := c.want == "" && said == ""
		for want := range strings.SplitSeq(c.want, "|") {
			found = found || want != "" && strings.Contains(said, want)
		}
		if !found {
			t.Errorf("%s\n%s\nwant %s", c.source, said, c.want)
		}
	}
}

// TestMemberMistakes: what is wrong with a key that points to one member.
func TestMemberMistakes(t *testing.T) {
	for _, c := range []struct{ key, want string }{
		{"{member: A}", ""},
		{"{member: unknown}", ""},
		{"{member: [A, B]}", "facts.move.keys.account.member: the natural key of dimension account has the parts account, and this has 2"},
		{"{member: A, by: account}", "a key has a natural key in its columns (by), or one member"},
		{"{unmatched: unknown}", "facts.move.keys.account: by is missing"},
	} {
		text := strings.Replace(strings.Replace(shaped, "%s", "", 1), "{account: {by: account}}", "{account: "+c.key+"}", 1)
		_, err := Parse("m.yaml", []byte(text), Outside{})
		if said := errorText(err); c.want == "" && said != "" || !strings.Contains(said, c.want) {
			t.Errorf("%s\n%s\nwant %s", c.key, said, c.want)
		}
	}
	text := strings.Replace(strings.Replace(shaped, "%s", "", 1), "measures: amount}", "measures: amount}\n  day: {from: moves, grain: no, keys: {date: {member: [2025-13-01]}}}", 1)
	if _, err := Parse("m.yaml", []byte(text), Outside{}); !strings.Contains(errorText(err), "2025-13-01") {
		t.Errorf("a day that is none: %v", err)
	}
}

// TestAdditiveMistakes: what does not add up is not added up, by whatever names its rows come.
func TestAdditiveMistakes(t *testing.T) {
	const model = `warehouse: {sqlite: star.db}
sources:
  readings: {read: r.csv, columns: {account: text, branch: text, day: date, closing: "decimal(9,2)", rate: "decimal(9,4)"}}
  again:
    from: fact balance
    derive: {month: "date_trunc('month', day)", owed: closing * 2}
    group: {by: [%s], aggregates: {x: "%s"}}
dimensions:
  date: {calendar: {from: 2024-01-01, to: 2026-12-31}}
  account: {from: readings, natural_key: [branch, account]}
facts:
  balance: {from: readings, grain: [account, day], keys: {account: {by: [branch, account]}, date: {by: day}}, measures: [closing, rate], degenerate: day, %s}
`
	const semi, both = "semi_additive: {closing: day}", "semi_additive: {closing: account}, non_additive: rate"
	for _, c := range []struct{ by, aggregate, said, want string }{
		{"day", "sum(closing)", semi, ""},
		{"day, account_branch", "sum(closing)", semi, ""},
		{"account_branch", "sum(closing)", "non_additive: rate", ""},
		{"account_branch", "sum(closing)", semi, "sources.again.group.aggregates.x: closing does not add up over day (semi_additive in fact balance): group by it, too"},
		{"month", "sum(closing)", semi, "closing does not add up over day"},
		{"account_branch", "avg(closing)", semi, ""},
		{"account_branch", "latest(closing, day)", semi, ""},
		{"account_branch", "sum(owed)", semi, ""},
		{"account_account", "sum(closing)", both, "does not add up over account"},
		{"account_account, account_branch", "sum(closing)", both, ""},
		{"account_account, account_branch, day", "sum(rate)", both, "rate does not add up (non_additive in fact balance)"},
		{"account_account", "max(rate)", both, ""},
		{"account_account", "count", "semi_additive: {closing: month}", "facts.balance.semi_additive: month is no key of the fact"},
		{"account_account", "count", "non_additive: branch", "fact balance has no column branch"},
		{"account_account", "count", "repeated: sum, non_additive: rate", "rate does not add up, and repeated: sum"},
	} {
		_, err := Parse("m.yaml", fmt.Appendf(nil, model, c.by, c.aggregate, c.said), Outside{})
		if said := errorText(err); c.want == "" && said != "" || !strings.Contains(said, c.want) {
			t.Errorf("%s %s %s\n%s\nwant %s", c.by, c.aggregate, c.said, said, c.want)
		}
	}
}

// TestMarkMistakes: a column of a source that is called as the mark of facts that are gone cannot be kept under that
// name.
func TestMarkMistakes(t *testing.T) {
	const model = `warehouse: {sqlite: star.db}
sources:
  keepers: {read: k.csv, columns: {no: text, name: text}}
  counted: {from: dimension keeper, %s aggregates: {n: count}}}
dimensions:
  keeper: {from: keepers, natural_key: no, type_1: name, delivers: all, gone: flag}
facts:
  counted: {from: counted, grain: %s, repeated: replace, measures: n}
`
	for _, c := range []struct{ group, grain, want string }{
		{"group: {by: is_gone,", "is_gone", "facts.counted: is_gone is the mark of facts that are gone: the column needs another name (derive)"},
		{"derive: {state: is_gone}, group: {by: state,", "state", ""},
	} {
		_, err := Parse("m.yaml", fmt.Appendf(nil, model, c.group, c.grain), Outside{})
		if said := errorText(err); c.want == "" && said != "" || !strings.Contains(said, c.want) {
			t.Errorf("%s: %s, want %s", c.group, said, c.want)
		}
	}
}
