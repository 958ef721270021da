package prove

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"ironmonger/internal/column"
	"ironmonger/internal/ledger"
	"ironmonger/internal/star"
	"ironmonger/internal/warehouse"
)

// backwards holds the facts against the rows of the sources, which have all been read. A fact that no row says
// speaks against the star where the sources still name the file, table or scope that it came from. Else nobody can
// tell: the file was archived, or another scope is asked for today.
func (x *rereader) backwards(names []string) error {
	begin := time.Now()
	defer func() { x.c.took += time.Since(begin) }()
	slices.Sort(x.said)
	x.said = slices.Compact(x.said)
	if int64(len(x.said)) == x.p.held[x.f.Table.Name].rows && x.delivered == nil {
		return nil
	}
	if x.delivered != nil {
		x.delivered.ready()
	}
	named := map[string]bool{}
	for _, name := range names {
		named[name] = true
	}
	rolls := rolling(x.f.Source)
	gone := map[string]int64{} // facts by the file that isn't named any more
	kept := int64(0)           // facts whose rows say something else now, and that stay by their rule
	table := x.f.Table
	last, err := x.allEntries()
	if err != nil {
		return err
	}
	err = warehouse.Each(
		x.p.ctx,
		x.p.r,
		warehouse.Query{Table: table.Name, Fields: table.Fields()},
		func(b *column.Batch) error {
			for j := range b.N {
				if x.overtaken(last, b, j) {
					continue
				}
				id := x.identity(b, j)
				_, said := slices.BinarySearch(x.said, id)
				if said && x.delivered == nil {
					continue
				}
				if x.completion != nil {
					said = x.completion.said[id] != 0
				}
				number, _ := ledger.FileAndLine(b.Cols[x.lines].Int[j])
				name := x.p.files[number]
				if x.delivered != nil {
					fault, right := x.delivered.judge(b, j, id, said, x.other[id], named[name])
					if fault != "" {
						x.c.against(func() Example { return x.p.example(table, b, j, fault) })
					}
					if fault != "" || right && (said || !x.other[id] || x.delivered.Gone == star.Keep) {
						continue
					}
				}
				if x.completion != nil {
					name = x.completion.judge(b, j, func(name string) bool { return named[name] && !rolls(name) })
					if name == "" {
						continue
					}
				}
				switch {
				case x.other[id] && x.f.Repeated == star.KeepRepeated:
					kept++
				case x.other[id] && named[name]:
					x.c.against(
						func() Example { return x.p.example(table, b, j, "its row at the source has other values") },
					)
				case named[name] && !rolls(name):
					x.c.against(func() Example { return x.p.example(table, b, j, "no row at the source says this") })
				default:
					gone[name]++
					if x.p.opts.Complete {
						x.c.against(func() Example {
							return x.p.example(
								table,
								b,
								j,
								"the sources do not name its file, table or query any more",
							)
						})
					}
				}
			}
			return nil
		},
	)
	x.c.NotComparable = kept
	if d := x.delivered; d != nil && d.kept+d.unseen > 0 {
		x.c.Note = fmt.Sprintf("%d rows are gone from the source, and gone: keep keeps them", d.kept)
		if d.unseen > 0 {
			x.c.Note = fmt.Sprintf(
				"%d rows cannot be compared: the last delivery of their scope is not there any more",
				d.unseen,
			)
		}
		x.c.NotComparable += d.kept + d.unseen
	}
	if kept > 0 {
		x.c.Note = fmt.Sprintf("%d rows have other values at the source, and repeated: keep keeps them", kept)
	}
	example, unnamed := "", int64(0)
	for name, n := range gone {
		if unnamed += n; example == "" || name < example {
			example = name
		}
	}
	if x.c.NotComparable += unnamed; unnamed > 0 {
		x.c.Note = fmt.Sprintf(
			"%d rows cannot be compared: the sources do not name their file, table or query any more, for example %s",
			unnamed,
			example,
		)
	}
	return err
}

// clock is what a query says that asks what time it is, so that it chooses other rows another day.
var clock = regexp.MustCompile(
	`(?i)\b(now|sysdate|curdate|curtime|getdate|current_date|current_time|current_timestamp|localtime|localtimestamp|clock_timestamp|statement_timestamp|transaction_timestamp|utc_date|utc_timestamp|unix_timestamp|unixepoch|julianday)\b|'now'`,
)

// rolling says which of the names that a source reads under are those of queries that choose other rows another
// day: what they do not have any more may still be there.
func rolling(s *star.Source) func(name string) bool {
	var names []string
	var walk func(s *star.Source)
	walk = func(s *star.Source) {
		if s.Database != nil && clock.MatchString(s.Query.Text) {
			names = append(names, s.Database.Text+": "+s.Text)
		}
		for _, o := range s.Made() {
			walk(o)
		}
	}
	walk(s)
	return func(name string) bool {
		return slices.ContainsFunc(names, func(n string) bool { return name == n || strings.HasPrefix(name, n+" (") })
	}
}
